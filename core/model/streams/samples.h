// SPDX-License-Identifier: GPL-3.0-or-later
//
// Call stacks: each different one lies in the recording's addresses once, and all samples of it begin there.
#pragma once

#include "found_in_lane.h"
#include "sorted_list.h"

namespace fugato {

class SampleStream {
public:
    void take(const FoundInLane& lane) {
        tsl::robin_map<uint64_t, uint32_t> places;  // by key in the lane
        const auto add = [&](const std::vector<StackSample>& samples, SortedList<StackSample>& to) {
            for (StackSample sample : samples) {
                const auto [place, isNew] = places.try_emplace(stackKey(sample), 0);
                if (isNew) place.value() = placeOf({lane.finds.stackAddresses.data() + sample.first, sample.count});
                sample.first = place->second;
                to.add(sample);
            }
        };
        add(lane.finds.samples, samples_);
        add(lane.finds.stops, stops_);
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
    uint32_t placeOf(std::span<const uint64_t> stack) {
        const uint32_t place = places_.placeOf(stack, addresses_);
        if (place == addresses_.size())
            for (const uint64_t address : stack) addresses_.add(address);
        return place;
    }

    SortedList<StackSample> samples_, stops_;
    GrowingList<uint64_t> addresses_;
    StackPlaces places_;  // in these
};

}  // namespace fugato
