// SPDX-License-Identifier: GPL-3.0-or-later
//
// Which occurrences of markers ran longer than they usually do, whether or not the critical path met them. Only the
// parts of core/explain use this.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

/// How much longer calls of one marker in one place ran than in usual frames.
struct LongerCalls {
    PathId path = 0;  // 0: none did
    int64_t excess = 0;
    double slowdown = 0;  // of the longest; 0: it does not occur in usual frames
};
/// What a call must take of its mean duration to count as slower.
inline constexpr double kSlower = 1.25;

/// Of one occurrence and those in it: the innermost that holds at least half of what the one around it took longer.
LongerCalls longerCallsIn(const Explanation& e, uint32_t frame, const MarkerRef& occurrence);
/// Of the outermost markers of a lane group that touch [begin, end): the one that took longer by most.
LongerCalls longerCallsOf(const Explanation& e, uint32_t frame, uint32_t group, int64_t begin, int64_t end);

}  // namespace fugato
