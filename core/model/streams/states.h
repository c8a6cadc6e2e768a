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
            const Column<StateSpan> spans = Column<StateSpan>::of(place, listAt(spans_, i).sorted(byBegin));
            for (size_t k = 0; k < spans.size(); ++k)
                spans.writable()[k].end = k + 1 < spans.size() ? spans[k + 1].begin : r.end;
            r.states[i].spans = spans;
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
