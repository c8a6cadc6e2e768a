// SPDX-License-Identifier: GPL-3.0-or-later
//
// Adds times up. Those of damaged recordings may lie so far apart that their sum has no place: then it is the greatest
// there is, or the least.
#pragma once

#include <cstdint>

namespace fugato {

inline void addTime(int64_t& sum, int64_t ns) {
    if (__builtin_add_overflow(sum, ns, &sum)) sum = INT64_MAX;
}

inline void takeTime(int64_t& sum, int64_t ns) {
    if (__builtin_sub_overflow(sum, ns, &sum)) sum = INT64_MIN;
}

}  // namespace fugato
