// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where links lead that were given out. The ends of a link stand with the lanes that took it up, in order of time, so
// that finding them costs a look at those after it was given out.
#pragma once

#include <algorithm>

#include "core/model/recording.h"

namespace fugato {

/// So far the clock of a device may lie before the threads'; ns.
inline constexpr int64_t kClocksDiffer = 10'000'000;

/// Calls `take(lane, end)` for the ends of links in [from - kClocksDiffer, until), lane by lane, until it says no; it
/// is asked for no more than `most`.
template <class Take>
void eachLinkEnd(const Recording& recording, int64_t from, int64_t until, size_t most, Take&& take) {
    for (uint32_t lane = 0; lane < recording.lanes.size(); ++lane) {
        const auto& links = recording.lanes[lane].linkIns;
        auto link = std::partition_point(links.begin(), links.end(),
                                         [&](const LinkEnd& l) { return l.time < from - kClocksDiffer; });
        for (; link != links.end() && link->time < until; ++link)
            if (!most-- || !take(lane, *link)) return;
    }
}

}  // namespace fugato
