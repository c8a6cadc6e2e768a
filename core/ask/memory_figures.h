// SPDX-License-Identifier: GPL-3.0-or-later
//
// Memory: pools over a scope and at an instant, what was taken there and not released, and which resources are large
// for their kind. Costs a look at every allocation, and at every change of a pool in the scope. May run on any thread.
#pragma once

#include <string>
#include <vector>

#include "scope.h"

namespace fugato {

/// A named allocation that is there at the instant.
struct Resource {
    uint32_t allocation = 0;  // in Recording::allocations
    double timesMedian = 0;   // its bytes by the median of the pool's resources; 0 where it has too few to tell
};
struct PoolFigures {
    uint32_t pool = 0;
    int64_t now = 0, begin = 0, end = 0;  // bytes in use at the instant, and where the scope begins and ends
    int64_t peak = 0, peakAt = 0;         // the most bytes in the scope, and when
    uint64_t taken = 0, takenBytes = 0, released = 0, releasedBytes = 0;  // in the scope
    std::vector<Resource> resources;  // at the instant, the largest first; at most kMostResources
    uint64_t allResources = 0;
    int64_t growth() const { return end - begin; }
};
inline constexpr size_t kMostResources = 1000;
inline constexpr size_t kLikes = 5;      // so many resources of a pool tell what is usual
inline constexpr double kStandsOut = 4;  // times the median

/// What a marker took in the scope and what is still held where the stretch of the scope ends in which it was taken.
struct KeptMemory {
    PathId path = 0;  // 0: outside all markers
    uint64_t count = 0, bytes = 0;
    uint64_t never = 0, neverBytes = 0;  // of these: not released until the recording's end
    uint64_t taken = 0, takenBytes = 0;  // with what was released
    uint32_t largest = kNone;            // of those that are held: in Recording::allocations
};

struct MemoryFigures {
    std::vector<PoolFigures> pools;  // the most in use first
    std::vector<KeptMemory> kept;    // the most bytes first; markers of which nothing is held are left out
    int64_t instant = 0;
};
/// Null where `progress` cancelled it.
std::shared_ptr<const MemoryFigures> memoryFigures(const Recording& recording, const Scope& scope, int64_t instant,
                                                   const Progress& progress = {});

/// The most bytes in use in each of `columns` equal parts of a range of time. `pool`: kNone: all together.
struct MemoryCurve {
    std::vector<int64_t> most;
    int64_t peak = 0, peakAt = 0;
};
std::shared_ptr<const MemoryCurve> memoryCurve(const Recording& recording, uint32_t pool, const TimeRange& range,
                                               size_t columns, const Progress& progress = {});

}  // namespace fugato
