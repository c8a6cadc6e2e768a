// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a frame is bound by: the kind of time that fills most of its critical path. Time behind a lock is waiting.
#pragma once

#include <array>

#include "critical_path_sums.h"

namespace fugato {

enum class BoundBy : uint8_t { Cpu, Gpu, Waiting, NoCore, Pacing };
inline constexpr size_t kBounds = 5;
const char* boundName(BoundBy by);  // "cpu", "gpu", "waiting", "no_core", "pacing": the names used in JSON

struct Bound {
    BoundBy by = BoundBy::Cpu;
    uint32_t group = kNone;  // of Cpu and Gpu: the lane group with most of it
    int64_t groupNs = 0;     // so much of it
    std::array<int64_t, kBounds> ns{};
    /// All that ran along the critical path, also behind locks: without any wait the frame could not have been shorter.
    int64_t work = 0;
};

/// Works them out for one frame after another. Belongs to one thread; both outlive it.
class Bounds {
public:
    Bounds(const Recording& recording, const CriticalPathSums& pathSums);
    Bound of(uint32_t frame);

private:
    const CriticalPathSums& accounts_;
    std::vector<std::pair<BoundBy, uint32_t>> kinds_;  // by key: and the lane group
    std::vector<int64_t> byGroup_;
};

}  // namespace fugato
