// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where links were given out; of one that was given out more than once, the first time told.
#pragma once

#include "found_in_lane.h"
#include "sorted_list.h"

namespace fugato {

class LinkStream {
public:
    void take(const FoundInLane& lane) {
        for (Recording::LinkSource source : lane.finds.linkSources) {
            source.path = lane.paths[source.path];
            links_.add(source);
        }
    }
    template <class Place>
    void fill(Recording& r, Place& place) {
        // Links are numbered as they are asked for; some are given out a while later.
        constexpr size_t kUnsettled = 1024;
        GrowingList<Recording::LinkSource>& links =
            links_.sorted([](const auto& x, const auto& y) { return x.link < y.link; });
        links_.unique([](const auto& x, const auto& y) { return x.link == y.link; });
        r.linkSources = links.column(place, links.size() - std::min(links.size(), kUnsettled));
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.linkSources);
    }

private:
    SortedList<Recording::LinkSource> links_;
};

}  // namespace fugato
