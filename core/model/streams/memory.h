// SPDX-License-Identifier: GPL-3.0-or-later
//
// Memory: what was taken, paired with its release, over all lanes; and what each pool holds over time.
#pragma once

#include <unordered_map>

#include "found_in_lane.h"
#include "timed_events.h"

namespace fugato {

class MemoryStream {
public:
    void take(const FoundInLane& lane);
    template <class Place>
    void fill(Recording& recording, Place& place, const Progress& progress);
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.allocations, r.pools);
    }

private:
    struct Key {
        uint32_t pool;
        uint64_t address;
        bool operator==(const Key&) const = default;
    };
    struct Hash {
        size_t operator()(const Key& k) const { return (k.address ^ k.pool) * 0x9e3779b97f4a7c15ull >> 7; }
    };
    struct State {
        struct InUse {  // by a pool
            GrowingList<int64_t> times, bytes;
            GrowingExtremes extremes;  // of bytes
        };
        GrowingList<Allocation> allocations;  // in order of time
        std::unordered_map<Key, size_t, Hash> open;
        std::vector<InUse> pools;

        State again() const { return {}; }
        void markSettled();
        void take(const LaneFinds::MemoryChange& change, Undo* undo);
        void release(const LaneFinds::MemoryChange& change, const Key& key, size_t index, Undo* undo);
    };
    TimedEvents<LaneFinds::MemoryChange, State> events_;
};

}  // namespace fugato
