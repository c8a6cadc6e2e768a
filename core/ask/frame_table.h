// SPDX-License-Identifier: GPL-3.0-or-later
//
// One frame as a table of nested markers: what every lane did between the frame's begin and end,
// beside what is usual. Unlike the critical path, this counts all lanes, also those nobody waited for.
#pragma once

#include <map>
#include <memory>
#include <mutex>
#include <optional>

#include "core/explain/model/explanation.h"

namespace fugato {

struct FrameTableRow {
    uint32_t lane = 0;
    PathId path = 0;  // 0: the lane itself, with its busy time: markers less waits
    bool wait = false;
    int64_t total = 0, self = 0, usual = 0;
    int64_t ran = -1;  // of the total, while its thread had a core; below 0: not recorded
    uint32_t calls = 0;
    /// Below a marker or a lane: a function that its own call stacks name, and in how many of them; 0: it was blocked
    /// there.
    FunctionId function = kNone;
    uint32_t samples = 0;
    MarkerRef first;                 // its first occurrence in the frame; not valid where it only occurs usually
    std::vector<uint32_t> children;  // rows
    int64_t excess() const { return total - usual; }
};

struct FrameTable {
    std::vector<FrameTableRow> rows;
    std::vector<uint32_t> lanes;  // the rows of the lanes, in the recording's order
};

/// Makes such tables for the frames of an explanation. What is usual (the median over the sample of the
/// frame's baseline; 0 where it has none) is worked out once per baseline. For any threads, which wait for each other.
class FrameTables {
public:
    explicit FrameTables(std::shared_ptr<const Explanation> explanation);
    ~FrameTables();
    /// Nothing where `progress` cancelled it.
    std::optional<FrameTable> of(uint32_t frame, const Progress& progress = {});
    const std::shared_ptr<const Explanation>& explanation() const { return explanation_; }

private:
    struct Usual;
    const Usual* usualOf(uint32_t baseline, const Progress& progress);
    const std::shared_ptr<const Explanation> explanation_;
    std::mutex mutex_;  // guards usual_
    std::map<uint32_t, std::unique_ptr<Usual>> usual_;
};

}  // namespace fugato
