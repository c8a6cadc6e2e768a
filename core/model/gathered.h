// SPDX-License-Identifier: GPL-3.0-or-later
//
// What lanes tell that belongs to more than one of them, put together: frames, states, points, locks held, counters,
// links, operations, memory, who had which core. Sorted lists are kept, so that what comes later costs only itself.
#pragma once

#include <algorithm>
#include <map>

#include "lane_builder.h"

namespace fugato {

/// A list that grows at its end and is sorted now and then. Equal ones keep their order.
template <class T>
class SortedList {
public:
    void add(const T& value) { all_.push_back(value); }
    void add(const std::vector<T>& values) { all_.insert(all_.end(), values.begin(), values.end()); }
    template <class Less>
    const std::vector<T>& sorted(Less&& less) {
        const auto middle = all_.begin() + static_cast<std::ptrdiff_t>(sorted_);
        if (!std::is_sorted(middle, all_.end(), less)) std::stable_sort(middle, all_.end(), less);
        if (sorted_ && sorted_ < all_.size() && less(*middle, middle[-1]))  // mostly everything new is later
            std::inplace_merge(std::upper_bound(all_.begin(), middle, *middle, less), middle, all_.end(), less);
        sorted_ = all_.size();
        return all_;
    }
    /// Of those that are equal only the first stays. After sorted().
    template <class Equal>
    void unique(Equal&& equal) {
        all_.erase(std::unique(all_.begin(), all_.end(), equal), all_.end());
        sorted_ = all_.size();
    }
    const std::vector<T>& all() const { return all_; }

private:
    std::vector<T> all_;
    size_t sorted_ = 0;
};

class Gathered {
public:
    /// Takes what a lane found out of it. `paths`: the recording's numbers by the lane's own.
    void take(uint32_t lane, LaneFinds& finds, const Column<PathId>& paths);
    /// The same of frames, states and points only, which stay where they are.
    void copyShown(const LaneFinds& finds);

    /// Fills them into a recording whose lanes are filled, its columns in `place` (a Storage or a Lease). `held`: locks
    /// that count as given back for this time only.
    template <class Place>
    void fill(Recording& recording, Place& place, const std::vector<LaneFinds::InObject>& held = {});
    template <class Place>
    void fillShown(Recording& recording, Place& place);

private:
    struct OperationOn {
        uint32_t lane;
        LaneFinds::OperationEvent event;
    };
    template <class Place>
    void fillHolds(Recording& r, Place& place, const std::vector<LaneFinds::InObject>& held);
    template <class Place>
    void fillCounters(Recording& r, Place& place);
    template <class Place>
    void pairOperations(Recording& r, Place& place);
    template <class Place>
    void pairMemory(Recording& r, Place& place);
    template <class Place>
    void schedule(Recording& r, Place& place);

    std::vector<SortedList<Frame>> frames_;      // by series
    std::vector<SortedList<StateSpan>> states_;  // by state
    SortedList<Point> points_;
    std::vector<SortedList<Hold>> holds_;                         // by object
    std::vector<SortedList<std::pair<int64_t, double>>> counts_;  // by counter
    SortedList<Recording::LinkSource> links_;
    SortedList<StackSample> samples_;
    std::vector<uint64_t> addresses_;
    std::map<uint32_t, Picture> pictures_;
    std::vector<OperationOn> operations_;
    SortedList<LaneFinds::MemoryChange> memory_;
    SortedList<LaneFinds::CoreSwitch> switches_;
};

}  // namespace fugato
