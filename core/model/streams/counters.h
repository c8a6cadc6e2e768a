// SPDX-License-Identifier: GPL-3.0-or-later
//
// Values of counters, and their extremes.
#pragma once

#include "found_in_lane.h"
#include "sorted_list.h"

namespace fugato {

class CounterStream {
public:
    void take(const FoundInLane& lane) {
        for (const auto& found : lane.finds.counts) listAt(counts_, found.counter).add({found.time, found.value});
    }
    template <class Place>
    void fill(Recording& r, Place& place) {
        for (size_t i = 0; i < r.counters.size(); ++i) {
            SortedList<Count>& list = listAt(counts_, i);
            GrowingList<Count>& counts = list.sorted(byTime);
            const size_t same = counts.settled(), settled = list.settles(&Count::time);
            Derived& derived = listAt(derived_, i);
            r.counters[i].times = derived.times.of(place, counts, same, settled, &Count::time);
            r.counters[i].values = derived.values.of(place, counts, same, settled, &Count::value);
            r.counters[i].extremes = Column<Extreme>::of(
                place, derived.extremes.of(counts.size(), same, settled, [&](size_t k) { return counts[k].value; }));
            counts.settle(place, settled);
        }
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.counters);
    }

private:
    struct Count {
        int64_t time;
        double value;
    };
    /// One member of each, as a column of its own.
    template <class T>
    struct Member {
        GrowingList<T> list;
        template <class Place>
        Column<T> of(Place& place, const GrowingList<Count>& counts, size_t same, size_t settled, T Count::*member) {
            list.unsettle(same);
            list.tail().clear();
            for (size_t k = list.settled(); k < counts.size(); ++k) list.add(counts[k].*member);
            return list.column(place, settled);
        }
    };
    struct Derived {
        Member<int64_t> times;
        Member<double> values;
        GrowingExtremes extremes;
    };
    std::vector<SortedList<Count>> counts_;  // by counter
    std::vector<Derived> derived_;           // the same
};

}  // namespace fugato
