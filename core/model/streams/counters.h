// SPDX-License-Identifier: GPL-3.0-or-later
//
// Values of counters, and their extremes.
#pragma once

#include "core/model/lane_builder.h"
#include "sorted_list.h"

namespace fugato {

class CounterStream {
public:
    void take(const LaneFinds& finds) {
        for (const auto& found : finds.counts) listAt(counts_, found.counter).add({found.time, found.value});
    }
    template <class Place>
    void fill(Recording& r, Place& place) {
        for (size_t i = 0; i < r.counters.size(); ++i) {
            std::vector<int64_t> times;
            std::vector<double> values;
            for (const Count& count : listAt(counts_, i).sorted(byTime)) {
                times.push_back(count.time);
                values.push_back(count.value);
            }
            r.counters[i].times = Column<int64_t>::of(place, times);
            r.counters[i].values = Column<double>::of(place, values);
            r.counters[i].extremes = Column<Extreme>::of(place, extremesOf(values));
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
    std::vector<SortedList<Count>> counts_;  // by counter
};

}  // namespace fugato
