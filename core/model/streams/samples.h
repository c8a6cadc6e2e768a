// SPDX-License-Identifier: GPL-3.0-or-later
//
// Call stacks.
#pragma once

#include "core/model/lane_builder.h"
#include "sorted_list.h"

namespace fugato {

class SampleStream {
public:
    void take(const LaneFinds& finds) {
        for (StackSample sample : finds.samples) {
            sample.first += static_cast<uint32_t>(addresses_.size());
            samples_.add(sample);
        }
        addresses_.insert(addresses_.end(), finds.stackAddresses.begin(), finds.stackAddresses.end());
    }
    template <class Place>
    void fill(Recording& r, Place& place) {
        r.samples = Column<StackSample>::of(place, samples_.sorted(byTime));
        r.stackAddresses = Column<uint64_t>::of(place, addresses_);
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.samples, r.stackAddresses);
    }

private:
    SortedList<StackSample> samples_;
    std::vector<uint64_t> addresses_;
};

}  // namespace fugato
