// SPDX-License-Identifier: GPL-3.0-or-later
//
// Locks held, by object.
#pragma once

#include "core/model/lane_builder.h"
#include "sorted_list.h"

namespace fugato {

class HoldStream {
public:
    void take(const LaneFinds& finds, const Column<PathId>& paths) {
        for (auto [object, hold] : finds.holds) {
            hold.path = paths[hold.path];
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
            r.holds[i] = Column<Hold>::of(place, listAt(holds_, i).sorted(byEnd), heldOf[i]);
            if (!heldOf[i].empty())
                std::stable_sort(r.holds[i].writable(), r.holds[i].writable() + r.holds[i].size(), byEnd);
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
