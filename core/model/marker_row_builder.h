// SPDX-License-Identifier: GPL-3.0-or-later
//
// Builds a MarkerRow from markers that come one after another. Of one thread.
#pragma once

#include <cstddef>
#include <memory>

#include "marker_row.h"

namespace fugato {

/// The markers of a chunk that is not settled yet, each kind of number in a column of its own: what is looked at
/// together lies together. Room for few at first, since a lane may have a thousand rows.
class UnsettledMarkers {
public:
    size_t size() const { return count_; }
    bool full() const { return count_ == MarkerRow::kChunk; }
    /// Must not be full.
    void add(int64_t begin, uint32_t path, uint32_t parent, uint8_t flags) {
        if (count_ == capacity_) grow();
        begins()[count_] = begin;
        durations()[count_] = 0;
        paths()[count_] = path;
        parents()[count_] = parent;
        this->flags()[count_] = flags;
        ++count_;
    }
    void clear() { count_ = 0; }
    /// A copy whose capacity is its size.
    UnsettledMarkers copy() const { return withRoomFor(count_); }
    int64_t* begins() const { return reinterpret_cast<int64_t*>(bytes_.get()); }
    int64_t* durations() const { return begins() + capacity_; }  // ns
    uint32_t* paths() const { return reinterpret_cast<uint32_t*>(durations() + capacity_); }
    uint32_t* parents() const { return paths() + capacity_; }
    uint8_t* flags() const { return reinterpret_cast<uint8_t*>(parents() + capacity_); }

private:
    static constexpr size_t kBytesEach = 2 * sizeof(int64_t) + 2 * sizeof(uint32_t) + 1;
    void grow();
    UnsettledMarkers withRoomFor(size_t capacity) const;

    std::unique_ptr<std::byte[]> bytes_;  // not zeroed: pages without markers are never touched
    size_t count_ = 0, capacity_ = 0;
};

/// Takes the markers of a row in order. The one added last may still be changed; add() settles it.
class MarkerRowBuilder {
public:
    /// Adds a marker and returns its index; its end is its begin until it is told.
    uint32_t add(Storage& storage, int64_t begin, uint32_t lanePath, uint32_t parent, uint8_t flags) {
        if (open_.full()) settle(storage);
        open_.add(begin, lanePath, parent, flags);
        return size() - 1;
    }
    uint8_t& lastFlags() { return open_.flags()[open_.size() - 1]; }
    void endLast(int64_t end) {
        const size_t last = open_.size() - 1;
        open_.durations()[last] = end - open_.begins()[last];
    }
    MarkerRow::Parts finish(Storage& storage);
    /// The row so far; its last marker ends at `openUntil` if that is not null. What is settled is shared with it, the
    /// rest lies in `arena`, which is of the same storage.
    MarkerRow::Parts asItIs(Arena& arena, const int64_t* openUntil);
    uint32_t size() const { return static_cast<uint32_t>(parts_.size + open_.size()); }

private:
    template <class Place>
    void settle(Place& place);
    template <class Place>
    void putColumns(Place& place, MarkerRow::Chunk& chunk, uint32_t mostPath, uint8_t anyFlags);

    UnsettledMarkers open_;
    MarkerRow::Parts parts_;
    GrowingList<MarkerRow::Chunk> chunks_;
    GrowingList<MarkerRow::Group> groups_;
    GrowingList<int64_t> groupWaits_;
    GrowingList<PathSum> sums_;
    int64_t busy_ = 0, wait_ = 0;
};

}  // namespace fugato
