// SPDX-License-Identifier: GPL-3.0-or-later
//
// What is usual: the usual frame of a stage, and how a marker runs in usual frames whether or not anybody
// waits for it there. Only the parts of core/explain use this.
#pragma once

#include <algorithm>
#include <deque>
#include <fugato_mutex.hpp>
#include <unordered_map>

#include "core/explain/model/explanation.h"

namespace fugato {

/// The value at `part` of `count` values of which those not listed are 0; the lower one of two.
template <class T>
T quantileWithZeros(std::vector<T>& values, size_t count, double part) {
    const auto rank = static_cast<size_t>(part * static_cast<double>(count - 1));
    const size_t zeros = count - values.size();
    if (rank < zeros) return T{};
    const auto at = values.begin() + static_cast<std::ptrdiff_t>(rank - zeros);
    std::nth_element(values.begin(), at, values.end());
    return *at;
}

/// Fills e.baselines, e.occurrences and the baseline of each frame. The frames must have been judged.
void makeBaselines(Explanation& e);
/// For frames from `stands` on that were added to an explanation with baselines: gives each that of its stage.
/// Returns false where there is none.
bool continueBaselines(Explanation& e, uint32_t stands);

struct UsualOccurrence {
    double calls = 0;      // median per frame of the sample
    double mostCalls = 0;  // 95th percentile
    double meanNs = 0;
    double middleNs = 0;     // median duration
    uint64_t presentIn = 0;  // a bit for each frame of the sample in which it occurs
};

/// Looks into a baseline's sample when first asked. Thread safe.
class UsualOccurrences {
public:
    explicit UsualOccurrences(size_t baselines) : known_(baselines) {}
    UsualOccurrence of(const Explanation& e, uint32_t baseline, uint32_t group, PathId path);

private:
    struct Known {
        Mutex mutex;
        bool ready FUGATO_GUARDED_BY(mutex) = false;
        std::unordered_map<uint64_t, UsualOccurrence> of FUGATO_GUARDED_BY(mutex);
    };
    std::deque<Known> known_;  // by baseline
};

/// By baseline: a bit for each frame of the sample that lies just before a late one.
std::vector<uint64_t> justBeforeLate(const Explanation& e);
/// Whether it hardly ever occurs in usual frames, other than those just before late ones: what makes a frame late
/// may have begun there.
bool isRare(const Explanation& e, const UsualOccurrence& usual, uint32_t frame,
            const std::vector<uint64_t>& beforeLate);

}  // namespace fugato
