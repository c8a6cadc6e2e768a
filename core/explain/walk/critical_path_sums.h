// SPDX-License-Identifier: GPL-3.0-or-later
//
// The critical path of every frame of a series, summed up: per frame, how long each part took and how
// often each marker was met. Does not depend on deadlines, so a new budget walks none anew.
// Never changed once made; any number of threads may read it.
#pragma once

#include <memory>
#include <span>

#include "critical_path.h"
#include "measuring.h"

namespace fugato {

/// Time of one kind, at one place, reached in one way. Lanes that do the same work count as one.
struct PartKey {
    uint32_t group = 0;  // index in Recording::groups
    PathId path = 0;
    SegmentKind kind = SegmentKind::Running;
    uint32_t object = kNone;        // lock through which it was reached
    PathId holder = 0;              // marker in which that lock was held
    CoreHolder coreHolder = kNone;  // of NoCore
    bool operator==(const PartKey&) const = default;
};

struct Part {
    uint32_t key = 0;  // index in CriticalPathSums::keys
    int64_t ns = 0;
    bool operator==(const Part&) const = default;
};

/// A marker of a lane group, and how often it occurs on a frame's critical path.
struct PlaceKey {
    uint32_t group = 0;
    PathId path = 0;
    bool operator==(const PlaceKey&) const = default;
};
struct Calls {
    uint32_t place = 0;  // index in CriticalPathSums::places
    uint32_t count = 0;
    bool operator==(const Calls&) const = default;
};

struct CriticalPathSums {
    static constexpr uint32_t kSliceBits = 6, kSlice = 1u << kSliceBits;
    /// The pathSums of kSlice frames in a row; of the last ones, fewer.
    struct Slice {
        Column<Part> parts;          // one frame after another, each frame's sorted by key
        Column<Calls> calls;         // likewise, sorted by place
        Column<uint32_t> partsFrom;  // frame f of the slice owns [partsFrom[f], partsFrom[f + 1])
        Column<uint32_t> callsFrom;
        Column<int64_t> pacing;  // per frame: time waited on purpose
    };

    uint32_t series = 0;
    std::vector<PartKey> keys;
    std::vector<PlaceKey> places;
    std::vector<Slice> slices;
    Measuring measuring;               // what measuring itself cost in these frames
    std::shared_ptr<Storage> storage;  // where the columns lie

    size_t frameCount() const {
        return slices.empty() ? 0 : (slices.size() - 1) * kSlice + slices.back().pacing.size();
    }
    std::span<const Part> partsOf(uint32_t frame) const {
        const Slice& s = slices[frame >> kSliceBits];
        const uint32_t f = frame & (kSlice - 1);
        return {s.parts.data() + s.partsFrom[f], s.partsFrom[f + 1] - s.partsFrom[f]};
    }
    std::span<const Calls> callsOf(uint32_t frame) const {
        const Slice& s = slices[frame >> kSliceBits];
        const uint32_t f = frame & (kSlice - 1);
        return {s.calls.data() + s.callsFrom[f], s.callsFrom[f + 1] - s.callsFrom[f]};
    }
    int64_t pacing(uint32_t frame) const { return slices[frame >> kSliceBits].pacing[frame & (kSlice - 1)]; }
    /// Index of a place, or kNone.
    uint32_t place(const PlaceKey& key) const;

    struct Index;
    std::shared_ptr<const Index> index;
};

/// Null where `progress` cancelled it. Where the recording has an index, the pathSums are kept beside it and
/// found there the next time.
std::shared_ptr<const CriticalPathSums> sumCriticalPaths(const Recording& recording, uint32_t series,
                                                         const Progress& progress = {});

/// Whether they can belong to this recording, so that reading them meets nothing that is not there. True of all that
/// were made; of what was kept in a file it has to be proven.
bool withinBounds(const CriticalPathSums& sums, const Recording& recording);

/// The pathSums of a recording that has grown since `previous` were made, whose numbers (of paths, lane groups,
/// objects) still mean the same: the first `keep` frames are taken over, rounded down to whole slices, as are
/// `measuring` and the numbers of keys and places. They share their storage, so
/// the recording must not have an index: those that still grow have none.
std::shared_ptr<const CriticalPathSums> accountFurther(const Recording& recording, const CriticalPathSums& previous,
                                                       uint32_t keep, const Progress& progress = {});

}  // namespace fugato
