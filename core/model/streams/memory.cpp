// SPDX-License-Identifier: GPL-3.0-or-later
#include "memory.h"

namespace fugato {

void MemoryStream::take(const FoundInLane& lane) {
    for (LaneFinds::MemoryChange& change : std::exchange(lane.finds.memory, {})) {
        change.path = lane.paths[change.path];
        events_.add(change);
    }
}

void MemoryStream::State::release(const LaneFinds::MemoryChange& change, const Key& key, size_t index, Undo* undo) {
    Allocation allocation = allocations[index];
    if (undo) {
        undo->add([this, key, index] { open[key] = index; });
        undo->add([this, index, before = allocation] { allocations.set(index, before); });
    }
    allocation.released = change.time;
    allocations.set(index, allocation);
    open.erase(key);
}

void MemoryStream::State::take(const LaneFinds::MemoryChange& change, Undo* undo) {
    const Key key{change.pool, change.address};
    const auto found = open.find(key);
    if (found == open.end() && !change.taken) return;  // taken before the recording began
    InUse& pool = listAt(pools, change.pool);
    int64_t bytes = pool.bytes.empty() ? 0 : pool.bytes.back();
    if (found != open.end()) {  // released, or taken again without that
        bytes -= bounded(allocations[found->second].bytes);
        release(change, key, found->second, undo);
    }
    if (change.taken) {
        Allocation allocation;
        allocation.taken = change.time;
        allocation.pool = change.pool;
        allocation.lane = change.lane;
        allocation.address = change.address;
        allocation.bytes = change.bytes;
        allocation.path = change.path;
        allocation.name = change.name;
        bytes = bounded(bytes + bounded(allocation.bytes));
        if (undo)
            undo->add([this, key] {
                open.erase(key);
                allocations.tail().pop_back();
            });
        open[key] = allocations.size();
        allocations.add(allocation);
    }
    pool.times.add(change.time);
    pool.bytes.add(bytes);
    if (undo)
        undo->add([this, at = change.pool] {
            pools[at].times.tail().pop_back();
            pools[at].bytes.tail().pop_back();
        });
}

void MemoryStream::State::markSettled() {
    allocations.markSettled();
    for (InUse& pool : pools) {
        pool.times.markSettled();
        pool.bytes.markSettled();
    }
}

template <class Place>
void MemoryStream::fill(Recording& r, Place& place, const Progress& progress) {
    events_.withAll(byTime, place, progress, [&](State& state) {
        r.allocations = state.allocations.column(place);
        for (size_t i = 0; i < std::min(r.pools.size(), state.pools.size()); ++i) {
            State::InUse& pool = state.pools[i];
            r.pools[i].extremes = Column<Extreme>::of(
                place, pool.extremes.of(pool.bytes.size(), pool.bytes.settled(), pool.bytes.marked(),
                                        [&](size_t k) { return pool.bytes[k]; }));
            r.pools[i].times = pool.times.column(place);
            r.pools[i].bytesInUse = pool.bytes.column(place);
        }
    });
}

template void MemoryStream::fill(Recording&, Storage&, const Progress&);
template void MemoryStream::fill(Recording&, Arena&, const Progress&);

}  // namespace fugato
