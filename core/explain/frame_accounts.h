// SPDX-License-Identifier: GPL-3.0-or-later
//
// The accounting of every frame of a series, summed up: per frame, how long each part took and how
// often each marker was met. Does not depend on deadlines, so a new budget needs no new accounting.
// Never changed once made; any number of threads may read it.
#pragma once

#include <memory>
#include <span>

#include "accounting.h"
#include "measuring.h"

namespace fugato {

/// Time of one kind, at one place, reached in one way. Lanes that do the same work count as one.
struct PartKey {
    uint32_t group = 0;  // index in Recording::groups
    PathId path = 0;
    PieceKind kind = PieceKind::Running;
    uint32_t object = kNone;        // lock through which it was reached
    PathId holder = 0;              // marker in which that lock was held
    CoreHolder coreHolder = kNone;  // of NoCore
    bool operator==(const PartKey&) const = default;
};

struct Part {
    uint32_t key = 0;  // index in FrameAccounts::keys
    int64_t ns = 0;
    bool operator==(const Part&) const = default;
};

/// A marker of a lane group, and how often it occurs on a frame's accounting.
struct PlaceKey {
    uint32_t group = 0;
    PathId path = 0;
    bool operator==(const PlaceKey&) const = default;
};
struct Calls {
    uint32_t place = 0;  // index in FrameAccounts::places
    uint32_t count = 0;
    bool operator==(const Calls&) const = default;
};

struct FrameAccounts {
    uint32_t series = 0;
    std::vector<PartKey> keys;
    std::vector<PlaceKey> places;
    Column<Part> parts;          // of all frames, one after another, each frame's sorted by key
    Column<Calls> calls;         // likewise, sorted by place
    Column<uint64_t> partsFrom;  // frame f owns [partsFrom[f], partsFrom[f + 1])
    Column<uint64_t> callsFrom;
    Column<int64_t> pacing;            // per frame: time waited on purpose
    Measuring measuring;               // what measuring itself cost in these frames
    std::shared_ptr<Storage> storage;  // where the columns lie

    size_t frameCount() const { return pacing.size(); }
    std::span<const Part> partsOf(uint32_t frame) const {
        return {parts.data() + partsFrom[frame], partsFrom[frame + 1] - partsFrom[frame]};
    }
    std::span<const Calls> callsOf(uint32_t frame) const {
        return {calls.data() + callsFrom[frame], callsFrom[frame + 1] - callsFrom[frame]};
    }
    /// Index of a place, or kNone.
    uint32_t place(const PlaceKey& key) const;

    struct Index;
    std::shared_ptr<const Index> index;
};

/// Null where `progress` cancelled it. Where the recording has an index, the accounts are kept beside it and
/// found there the next time.
std::shared_ptr<const FrameAccounts> accountFrames(const Recording& recording, uint32_t series,
                                                   const Progress& progress = {});

}  // namespace fugato
