// SPDX-License-Identifier: GPL-3.0-or-later
//
// States of the program: each value lasts until the next one of its state.
#pragma once

#include "core/model/lane_builder.h"
#include "sorted_list.h"

namespace fugato {

class StateStream {
public:
    void copy(const LaneFinds& finds) {
        for (const auto& found : finds.states) listAt(spans_, found.state).add({found.time, found.time, found.value});
    }
    template <class Place>
    void fill(Recording& r, Place& place) {
        for (size_t i = 0; i < r.states.size(); ++i) {
            SortedList<StateSpan>& list = listAt(spans_, i);
            GrowingList<StateSpan>& spans = list.sorted(byBegin, 1);  // the one before what came late ends earlier
            for (size_t k = spans.settled(); k < spans.size(); ++k)
                spans.change(k).end = k + 1 < spans.size() ? spans[k + 1].begin : r.end;
            r.states[i].spans =
                spans.column(place, std::min(list.settles(&StateSpan::begin), spans.size() - !spans.empty()));
        }
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.states);
    }

private:
    std::vector<SortedList<StateSpan>> spans_;  // by state
};

}  // namespace fugato
