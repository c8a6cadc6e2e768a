// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_row_builder.h"

#include <algorithm>

namespace fugato {

namespace {

/// The narrowest of 1, 2, 4 and 8 bytes that holds numbers from 0 to `most`.
uint8_t bytesFor(uint64_t most, uint8_t least = 1) {
    const uint8_t needed = most <= UINT8_MAX ? 1 : most <= UINT16_MAX ? 2 : most <= UINT32_MAX ? 4 : 8;
    return std::max(needed, least);
}

template <class Narrow, class N>
void putAs(char* to, const N* numbers, size_t count, N less) {
    auto* out = reinterpret_cast<Narrow*>(to);
    for (size_t i = 0; i < count; ++i) out[i] = static_cast<Narrow>(numbers[i] - less);
}
/// Each number, after `less` is taken from it, in so many bytes.
template <class N>
void put(char* to, uint8_t bytes, const N* numbers, size_t count, N less = 0) {
    switch (bytes) {
        case 1: return putAs<uint8_t>(to, numbers, count, less);
        case 2: return putAs<uint16_t>(to, numbers, count, less);
        case 4: return putAs<uint32_t>(to, numbers, count, less);
        default: return putAs<uint64_t>(to, numbers, count, less);
    }
}

uint32_t rounded(size_t bytes) { return static_cast<uint32_t>((bytes + 7) & ~size_t{7}); }

/// Sums by path that are cleared by visiting only what was touched. One per thread.
struct PathSums {
    std::vector<uint32_t> slots;  // by path: 1 + position in sums
    std::vector<PathSum> sums;
    PathSum& of(uint32_t path) {
        if (slots.size() <= path) slots.resize(std::max<size_t>(path + 1, slots.size() * 2));
        if (!slots[path]) {
            sums.push_back({path, 0, 0, 0});
            slots[path] = static_cast<uint32_t>(sums.size());
        }
        return sums[slots[path] - 1];
    }
    void clear() {
        for (const PathSum& sum : sums) slots[sum.path] = 0;
        sums.clear();
    }
};

/// Adds up the markers [from, to) by path. Returns the path on which most of the time was spent at a stretch: told
/// apart well enough to name what a group mostly is.
uint32_t addByPath(PathSums& byPath, const uint32_t* paths, const int64_t* durations, size_t from, size_t to) {
    uint32_t most = paths[from];
    int64_t mostTime = -1;
    while (from < to) {
        const uint32_t path = paths[from];
        PathSum& sum = byPath.of(path);
        int64_t time = 0;
        for (; from < to && paths[from] == path; ++from) {
            time += durations[from];
            ++sum.count;
            sum.longest = std::max(sum.longest, durations[from]);
        }
        sum.total += time;
        if (time > mostTime) {
            mostTime = time;
            most = path;
        }
    }
    return most;
}

}  // namespace

UnsettledMarkers UnsettledMarkers::withRoomFor(size_t capacity) const {
    UnsettledMarkers other;
    other.capacity_ = capacity;
    other.count_ = count_;
    other.bytes_.reset(new std::byte[capacity * kBytesEach]);
    std::copy_n(begins(), count_, other.begins());
    std::copy_n(durations(), count_, other.durations());
    std::copy_n(paths(), count_, other.paths());
    std::copy_n(parents(), count_, other.parents());
    std::copy_n(flags(), count_, other.flags());
    return other;
}

void UnsettledMarkers::grow() {
    constexpr size_t kFirst = 16, kTimes = 4;
    *this = withRoomFor(std::min<size_t>(MarkerRow::kChunk, std::max(kFirst, capacity_ * kTimes)));
}

template <class Place>
void MarkerRowBuilder::settle(Place& place) {
    thread_local PathSums byPath;
    const size_t count = open_.size();
    if (!count) return;
    const int64_t *begins = open_.begins(), *durations = open_.durations();
    const uint32_t* paths = open_.paths();
    const uint8_t* flags = open_.flags();
    MarkerRow::Chunk chunk;
    chunk.begin = begins[0];
    chunk.firstParent = open_.parents()[0];
    chunk.busyBefore = busy_;
    chunk.waitBefore = wait_;
    chunk.sumsFrom = static_cast<uint32_t>(sums_.size());
    uint8_t anyFlags = 0;
    uint32_t mostPath = 0;
    for (size_t from = 0; from < count; from += MarkerRow::kGroup) {
        const size_t to = std::min<size_t>(count, from + MarkerRow::kGroup);
        MarkerRow::Group group{begins[from], busy_, 0, 0};
        if (parts_.waits) groupWaits_.add(wait_);
        int64_t longest = 0, busy = 0;
        uint8_t groupFlags = 0;
        for (size_t i = from; i < to; ++i) {
            busy += durations[i];
            longest = std::max(longest, durations[i]);
            mostPath = std::max(mostPath, paths[i]);
            groupFlags |= flags[i];
        }
        if (groupFlags & kMarkerWait) {
            if (!parts_.waits) {  // the first wait: none before it waited
                parts_.waits = true;
                groupWaits_.add(std::vector<int64_t>(groups_.size() + 1));
            }
            for (size_t i = from; i < to; ++i) wait_ += flags[i] & kMarkerWait ? durations[i] : 0;
        }
        busy_ += busy;
        anyFlags |= groupFlags;
        chunk.longest = std::max(chunk.longest, longest);
        group.longest = static_cast<uint32_t>(std::min<int64_t>(longest, UINT32_MAX));
        group.path = addByPath(byPath, paths, durations, from, to);
        groups_.add(group);
    }
    sums_.add(byPath.sums);
    byPath.clear();
    putColumns(place, chunk, mostPath, anyFlags);
    chunks_.add(chunk);
    parts_.size += count;
    open_.clear();
}

template <class Place>
void MarkerRowBuilder::putColumns(Place& place, MarkerRow::Chunk& chunk, uint32_t mostPath, uint8_t anyFlags) {
    const size_t count = open_.size();
    const uint32_t* parents = open_.parents();
    chunk.beginBytes = bytesFor(static_cast<uint64_t>(open_.begins()[count - 1] - chunk.begin), 4);
    chunk.durationBytes = bytesFor(static_cast<uint64_t>(chunk.longest), 2);
    chunk.parentBytes = bytesFor(parents[count - 1] - chunk.firstParent);
    chunk.pathBytes = bytesFor(mostPath);
    chunk.flagBytes = anyFlags ? 1 : 0;
    chunk.durationsAt = rounded(count * chunk.beginBytes);
    chunk.pathsAt = chunk.durationsAt + rounded(count * chunk.durationBytes);
    chunk.parentsAt = chunk.pathsAt + rounded(count * chunk.pathBytes);
    chunk.flagsAt = chunk.parentsAt + rounded(count * chunk.parentBytes);
    thread_local std::vector<char> columns;
    const size_t bytes = chunk.flagsAt + count * chunk.flagBytes;
    if (columns.size() < bytes) columns.resize(bytes);
    char* const at = columns.data();
    put(at, chunk.beginBytes, open_.begins(), count, chunk.begin);
    put(at + chunk.durationsAt, chunk.durationBytes, open_.durations(), count);
    put(at + chunk.pathsAt, chunk.pathBytes, open_.paths(), count);
    put(at + chunk.parentsAt, chunk.parentBytes, parents, count, chunk.firstParent);
    if (anyFlags) put(at + chunk.flagsAt, 1, open_.flags(), count);
    chunk.at = place.allocate(bytes);
    place.write(chunk.at, at, bytes);
}

MarkerRow::Parts MarkerRowBuilder::finish(Storage& storage) {
    settle(storage);
    parts_.chunks = chunks_.column(storage);
    parts_.groups = groups_.column(storage);
    parts_.groupWaits = groupWaits_.column(storage);
    parts_.sums = sums_.column(storage);
    const MarkerRow::Parts parts = parts_;
    *this = {};
    return parts;
}

MarkerRow::Parts MarkerRowBuilder::asItIs(Arena& arena, const int64_t* openUntil) {
    MarkerRowBuilder rest;
    rest.open_ = open_.copy();
    rest.busy_ = busy_;
    rest.wait_ = wait_;
    rest.parts_.waits = parts_.waits;
    if (openUntil) {
        rest.endLast(*openUntil);
        rest.lastFlags() |= kMarkerEndRepaired;
    }
    rest.settle(arena);
    for (MarkerRow::Chunk& chunk : rest.chunks_.tail()) chunk.sumsFrom += static_cast<uint32_t>(sums_.size());
    MarkerRow::Parts parts;
    parts.size = size();
    parts.waits = rest.parts_.waits;
    // What is of whole chunks is settled.
    const auto with = [&](auto& list, const auto& more) {
        auto shown = list.tail();
        shown.insert(shown.end(), more.tail().begin(), more.tail().end());
        return list.column(arena, list.size(), shown);
    };
    parts.chunks = with(chunks_, rest.chunks_);
    parts.groups = with(groups_, rest.groups_);
    parts.sums = with(sums_, rest.sums_);
    if (parts_.waits)
        parts.groupWaits = with(groupWaits_, rest.groupWaits_);
    else if (parts.waits)  // the first one is not settled yet
        parts.groupWaits = Column<int64_t>::of(arena, std::vector<int64_t>(groups_.size()), rest.groupWaits_.tail());
    return parts;
}

}  // namespace fugato
