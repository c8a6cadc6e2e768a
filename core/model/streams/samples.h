// SPDX-License-Identifier: GPL-3.0-or-later
//
// Call stacks.
#pragma once

#include "found.h"
#include "sorted_list.h"

namespace fugato {

class SampleStream {
public:
    void take(const Found& lane) {
        const auto add = [&](const std::vector<StackSample>& found, SortedList<StackSample>& to) {
            for (StackSample sample : found) {
                sample.first += static_cast<uint32_t>(addresses_.size());
                to.add(sample);
            }
        };
        add(lane.finds.samples, samples_);
        add(lane.finds.stops, stops_);
        addresses_.add(lane.finds.stackAddresses);
    }
    template <class Place>
    void fill(Recording& r, Place& place) {
        r.samples = samples_.sorted(byTime).column(place, samples_.settles(&StackSample::time));
        r.stops = stops_.sorted(byTime).column(place, stops_.settles(&StackSample::time));
        r.stackAddresses = addresses_.column(place, addresses_.size());
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.samples, r.stops, r.stackAddresses);
    }

private:
    SortedList<StackSample> samples_, stops_;
    GrowingList<uint64_t> addresses_;
};

}  // namespace fugato
