// SPDX-License-Identifier: GPL-3.0-or-later
//
// Locks held, by object.
#pragma once

#include "found_in_lane.h"
#include "sorted_list.h"

namespace fugato {

class HoldStream {
public:
    void take(const FoundInLane& lane) {
        for (auto [object, hold] : lane.finds.holds) {
            hold.path = lane.paths[hold.path];
            listAt(holds_, object).add(hold);
        }
    }
    /// `held`: locks that count as released for this time only.
    template <class Place>
    void fill(Recording& r, Place& place, const std::vector<LaneFinds::InObject>& held) {
        std::vector<std::vector<Hold>> heldOf(r.objects.size());
        for (const LaneFinds::InObject& it : held) heldOf[it.object].push_back(it.hold);
        r.holds.resize(r.objects.size());
        for (size_t i = 0; i < r.objects.size(); ++i) {
            SortedList<Hold>& list = listAt(holds_, i);
            GrowingList<Hold>& holds = list.sorted(byEnd);
            size_t settled = list.settles(&Hold::end);
            std::vector<Hold> now = heldOf[i];
            std::stable_sort(now.begin(), now.end(), byEnd);
            if (!now.empty()) {  // its lane may have been silent for long: what ended later is not settled yet
                while (settled > 0 && byEnd(now.front(), holds[settled - 1])) --settled;
                holds.unsettle(settled);
            }
            std::vector<Hold> shown;
            std::merge(holds.tail().begin(), holds.tail().end(), now.begin(), now.end(), std::back_inserter(shown),
                       byEnd);
            r.holds[i] = holds.column(place, settled, shown);
        }
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.objects, r.holds);
    }

private:
    std::vector<SortedList<Hold>> holds_;  // by object
};

}  // namespace fugato
