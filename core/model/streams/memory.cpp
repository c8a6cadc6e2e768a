// SPDX-License-Identifier: GPL-3.0-or-later
#include "memory.h"

namespace fugato {

namespace {
constexpr int64_t kOpen = std::numeric_limits<int64_t>::max();
}

void MemoryStream::take(LaneFinds& finds, const Column<PathId>& paths) {
    for (LaneFinds::MemoryChange& change : finds.memory) {
        change.path = paths[change.path];
        events_.add(change);
    }
    finds.memory.clear();
}

void MemoryStream::State::release(const LaneFinds::MemoryChange& change, const Key& key, size_t index, Undo* undo) {
    Allocation& allocation = allocations[index];
    if (undo) {
        undo->add([this, key, index] { open[key] = index; });
        undo->add([this, index, before = allocation] { allocations[index] = before; });
    }
    allocation.given = change.time;
    allocation.givenBack = true;
    open.erase(key);
}

void MemoryStream::State::take(const LaneFinds::MemoryChange& change, Undo* undo) {
    const Key key{change.pool, change.address};
    const auto found = open.find(key);
    if (found == open.end() && !change.taken) return;  // taken before the recording began
    InUse& pool = listAt(pools, change.pool);
    int64_t bytes = pool.bytes.empty() ? 0 : pool.bytes.back();
    if (found != open.end()) {  // released, or taken anew without that
        bytes -= bounded(allocations[found->second].bytes);
        release(change, key, found->second, undo);
    }
    if (change.taken) {
        Allocation allocation;
        allocation.taken = change.time;
        allocation.given = kOpen;
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
                allocations.pop_back();
            });
        open[key] = allocations.size();
        allocations.push_back(allocation);
    }
    pool.times.push_back(change.time);
    pool.bytes.push_back(bytes);
    if (undo)
        undo->add([this, at = change.pool] {
            pools[at].times.pop_back();
            pools[at].bytes.pop_back();
        });
}

template <class Place>
void MemoryStream::fill(Recording& r, Place& place) {
    events_.withAll(byTime, [&](const State& state) {
        r.allocations = Column<Allocation>::of(place, state.allocations);
        for (size_t i = 0; i < r.allocations.size(); ++i)
            if (Allocation& allocation = r.allocations.writable()[i]; allocation.given == kOpen)
                allocation.given = r.end;
        for (size_t i = 0; i < std::min(r.pools.size(), state.pools.size()); ++i) {
            r.pools[i].times = Column<int64_t>::of(place, state.pools[i].times);
            r.pools[i].bytesInUse = Column<int64_t>::of(place, state.pools[i].bytes);
            r.pools[i].extremes = Column<Extreme>::of(place, extremesOf(state.pools[i].bytes));
        }
    });
}

template void MemoryStream::fill(Recording&, Storage&);
template void MemoryStream::fill(Recording&, Arena&);

}  // namespace fugato
