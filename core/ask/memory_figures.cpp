// SPDX-License-Identifier: GPL-3.0-or-later
#include "memory_figures.h"

#include <algorithm>
#include <map>
#include <queue>

#include "core/store/long_work.h"

namespace fugato {

namespace {

/// The first change of a pool at `time` or later.
size_t firstFrom(const Pool& pool, int64_t time) {
    return static_cast<size_t>(std::lower_bound(pool.times.begin(), pool.times.end(), time) - pool.times.begin());
}

/// Bytes in use just after an instant.
int64_t inUseAt(const Pool& pool, int64_t time) {
    const auto after = std::upper_bound(pool.times.begin(), pool.times.end(), time) - pool.times.begin();
    return after ? pool.bytesInUse[static_cast<size_t>(after - 1)] : 0;
}

PoolFigures figuresOf(const Pool& pool, uint32_t index, const Scope& scope, int64_t instant) {
    PoolFigures made;
    made.pool = index;
    made.now = inUseAt(pool, instant);
    const TimeRange around = scope.around();
    made.begin = inUseAt(pool, around.begin - 1);
    made.end = inUseAt(pool, around.end - 1);
    made.peakAt = around.begin;
    for (const TimeRange& stretch : scope.stretches) {
        const auto see = [&](int64_t bytes, int64_t time) {
            if (bytes <= made.peak) return;
            made.peak = bytes;
            made.peakAt = time;
        };
        see(inUseAt(pool, stretch.begin), stretch.begin);
        for (size_t i = firstFrom(pool, stretch.begin); i < pool.times.size() && pool.times[i] < stretch.end; ++i)
            see(pool.bytesInUse[i], pool.times[i]);
    }
    return made;
}

/// How many times the median of them each is.
void compare(const Recording& r, std::vector<Resource>& resources) {
    if (resources.size() < kLikes) return;
    std::vector<uint64_t> bytes;
    for (const Resource& one : resources) bytes.push_back(r.allocations[one.allocation].bytes);
    const auto middle = bytes.begin() + static_cast<std::ptrdiff_t>(bytes.size() / 2);
    std::nth_element(bytes.begin(), middle, bytes.end());
    if (!*middle) return;
    for (Resource& one : resources)
        one.timesMedian = static_cast<double>(r.allocations[one.allocation].bytes) / static_cast<double>(*middle);
}

/// The stretch in which an instant lies, or null.
const TimeRange* stretchOf(const Scope& scope, int64_t time) {
    const auto after = std::partition_point(scope.stretches.begin(), scope.stretches.end(),
                                            [&](const TimeRange& stretch) { return stretch.begin <= time; });
    if (after == scope.stretches.begin()) return nullptr;
    const TimeRange& stretch = *std::prev(after);
    return time < stretch.end ? &stretch : nullptr;
}

}  // namespace

std::shared_ptr<const MemoryFigures> memoryFigures(const Recording& r, const Scope& scope, int64_t instant,
                                                   const Progress& progress) {
    longWork("memory in a scope");
    auto made = std::make_shared<MemoryFigures>();
    made->instant = instant;
    for (uint32_t p = 0; p < r.pools.size(); ++p) {
        if (progress && !progress(0.5 * p / static_cast<double>(r.pools.size()))) return nullptr;
        made->pools.push_back(figuresOf(r.pools[p], p, scope, instant));
    }
    std::map<PathId, KeptMemory> kept;
    for (uint32_t i = 0; i < r.allocations.size(); ++i) {
        if (i % 65536 == 0 && progress && !progress(0.5 + 0.5 * i / static_cast<double>(r.allocations.size())))
            return nullptr;
        const Allocation& one = r.allocations[i];
        if (one.pool >= made->pools.size()) continue;
        PoolFigures& pool = made->pools[one.pool];
        if (one.taken <= instant && one.released > instant && !r.text(one.name).empty()) pool.resources.push_back({i});
        if (!scope.has(one.lane)) continue;
        if (one.isReleased() && scope.contains(one.released)) {
            ++pool.released;
            pool.releasedBytes += one.bytes;
        }
        const TimeRange* const stretch = stretchOf(scope, one.taken);
        if (!stretch) continue;
        ++pool.taken;
        pool.takenBytes += one.bytes;
        KeptMemory& by = kept[one.path];
        by.path = one.path;
        ++by.taken;
        by.takenBytes += one.bytes;
        if (one.released < stretch->end) continue;
        ++by.count;
        by.bytes += one.bytes;
        if (!one.isReleased()) {
            ++by.never;
            by.neverBytes += one.bytes;
        }
        if (by.largest == kNone || one.bytes > r.allocations[by.largest].bytes) by.largest = i;
    }
    for (const auto& [path, one] : kept)
        if (one.count) made->kept.push_back(one);
    std::stable_sort(made->kept.begin(), made->kept.end(),
                     [](const KeptMemory& a, const KeptMemory& b) { return a.bytes > b.bytes; });
    for (PoolFigures& pool : made->pools) {
        compare(r, pool.resources);
        pool.allResources = pool.resources.size();
        std::stable_sort(pool.resources.begin(), pool.resources.end(), [&](const Resource& a, const Resource& b) {
            return r.allocations[a.allocation].bytes > r.allocations[b.allocation].bytes;
        });
        if (pool.resources.size() > kMostResources) pool.resources.resize(kMostResources);
    }
    std::stable_sort(made->pools.begin(), made->pools.end(),
                     [](const PoolFigures& a, const PoolFigures& b) { return a.now > b.now; });
    return made;
}

std::shared_ptr<const MemoryCurve> memoryCurve(const Recording& r, uint32_t pool, const TimeRange& range,
                                               size_t columns, const Progress& progress) {
    longWork("the curve of memory");
    auto made = std::make_shared<MemoryCurve>();
    made->most.assign(columns, 0);
    made->peakAt = range.begin;
    // The next change of each pool, the earliest first.
    struct Next {
        int64_t time;
        uint32_t pool;
        size_t at;
        bool operator>(const Next& other) const { return std::tie(time, pool) > std::tie(other.time, other.pool); }
    };
    std::priority_queue<Next, std::vector<Next>, std::greater<>> changes;
    std::vector<int64_t> inUse(r.pools.size());
    int64_t sum = 0;
    const auto push = [&](uint32_t p, size_t at) {
        if (at < r.pools[p].times.size() && r.pools[p].times[at] < range.end)
            changes.push({r.pools[p].times[at], p, at});
    };
    for (uint32_t p = 0; p < r.pools.size(); ++p) {
        if (pool != kNone && pool != p) continue;
        sum += inUse[p] = inUseAt(r.pools[p], range.begin - 1);
        push(p, firstFrom(r.pools[p], range.begin));
    }
    const double length = static_cast<double>(std::max<int64_t>(1, range.end - range.begin));
    const auto columnOf = [&](int64_t time) {
        const double part = static_cast<double>(time - range.begin) / length;
        return std::min(columns - 1, static_cast<size_t>(part * static_cast<double>(columns)));
    };
    made->peak = sum;
    size_t column = 0, looked = 0;
    if (!columns) return made;
    made->most[0] = sum;
    while (!changes.empty()) {
        const Next next = changes.top();
        changes.pop();
        if (++looked % 65536 == 0 && progress && !progress(static_cast<double>(next.time - range.begin) / length))
            return nullptr;
        for (const size_t to = columnOf(next.time); column < to;) made->most[++column] = sum;
        sum += r.pools[next.pool].bytesInUse[next.at] - inUse[next.pool];
        inUse[next.pool] = r.pools[next.pool].bytesInUse[next.at];
        push(next.pool, next.at + 1);
        made->most[column] = std::max(made->most[column], sum);
        if (sum > made->peak) {
            made->peak = sum;
            made->peakAt = next.time;
        }
    }
    while (++column < columns) made->most[column] = sum;
    return made;
}

}  // namespace fugato
