// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_row.h"

namespace fugato {

namespace {

/// The narrowest of 1, 2, 4 and 8 bytes that holds numbers from 0 to `most`.
uint8_t bytesFor(uint64_t most, uint8_t least = 1) {
    const uint8_t needed = most <= UINT8_MAX ? 1 : most <= UINT16_MAX ? 2 : most <= UINT32_MAX ? 4 : 8;
    return std::max(needed, least);
}

template <class N, class Markers, class Of>
void putAs(char* to, const Markers& markers, Of&& of) {
    auto* out = reinterpret_cast<N*>(to);
    for (size_t i = 0; i < markers.size(); ++i) out[i] = static_cast<N>(of(markers[i]));
}
template <class Markers, class Of>
void put(char* to, uint8_t bytes, const Markers& markers, Of&& of) {
    switch (bytes) {
        case 1: return putAs<uint8_t>(to, markers, of);
        case 2: return putAs<uint16_t>(to, markers, of);
        case 4: return putAs<uint32_t>(to, markers, of);
        default: return putAs<uint64_t>(to, markers, of);
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

}  // namespace

// ---- reading -------------------------------------------------------------------------------------

template <class Before>
uint32_t MarkerRow::partition(Before&& before) const {
    const auto first = [&](uint32_t from, uint32_t to, auto&& beginOf) {
        while (from < to) {
            const uint32_t middle = from + (to - from) / 2;
            if (before(beginOf(middle)))
                from = middle + 1;
            else
                to = middle;
        }
        return from;
    };
    const auto chunk =
        first(0, static_cast<uint32_t>(parts_.chunks.size()), [&](uint32_t i) { return parts_.chunks[i].begin; });
    if (!chunk) return 0;
    const uint32_t groupsFrom = (chunk - 1) << (kChunkBits - kGroupBits),
                   groupsTo = std::min(static_cast<uint32_t>(parts_.groups.size()),
                                       groupsFrom + (1u << (kChunkBits - kGroupBits)));
    const uint32_t group = first(groupsFrom, groupsTo, [&](uint32_t i) { return parts_.groups[i].begin; });
    const Chunk& c = parts_.chunks[chunk - 1];
    const char* at = storage_->at(c.at);
    return first((group - 1) << kGroupBits, std::min(size(), group << kGroupBits),
                 [&](uint32_t i) { return c.begin + number(at, c.beginBytes, i & (kChunk - 1)); });
}

uint32_t MarkerRow::firstFrom(int64_t time) const {
    return partition([time](int64_t begin) { return begin < time; });
}

uint32_t MarkerRow::lastBefore(int64_t time) const {
    const uint32_t after = firstFrom(time);
    return after ? after - 1 : kNone;
}

uint32_t MarkerRow::groupBefore(int64_t time, uint32_t near) const {
    if (empty()) return kNone;
    // Ever longer steps over the groups until it is passed, then halves of the last one.
    const Column<Group>& groups = parts_.groups;
    const auto count = static_cast<uint32_t>(groups.size());
    uint32_t low = std::min(near, size() - 1) >> kGroupBits, high = low + 1;
    if (groups[low].begin >= time) {
        for (uint32_t step = 1; low && groups[low].begin >= time; step *= 2) {
            high = low;
            low = low > step ? low - step : 0;
        }
        if (groups[low].begin >= time) return kNone;
    } else {
        for (uint32_t step = 1; high < count && groups[high].begin < time; step *= 2) {
            low = high;
            high = count - high > step ? high + step : count;
        }
    }
    while (high - low > 1) {
        const uint32_t middle = low + (high - low) / 2;
        (groups[middle].begin < time ? low : high) = middle;
    }
    return low << kGroupBits;
}

uint32_t MarkerRow::lastBefore(int64_t time, uint32_t near) const {
    const uint32_t group = groupBefore(time, near);
    return group == kNone ? kNone : Reader(this).lastBefore(time, group);
}

template <class Begin>
uint32_t MarkerRow::Reader::lastOf(int64_t time, uint32_t first) const {
    const auto* begins = reinterpret_cast<const Begin*>(at_);
    uint32_t at = first & (kChunk - 1), left = std::min(kGroup, row_->size() - first);
    for (; left > 1; left -= left / 2)  // without branches that nobody can foresee
        at = static_cast<int64_t>(begins[at + left / 2]) < time - begin_ ? at + left / 2 : at;
    return (first & ~(kChunk - 1)) + at;
}

template uint32_t MarkerRow::Reader::lastOf<uint32_t>(int64_t, uint32_t) const;
template uint32_t MarkerRow::Reader::lastOf<int64_t>(int64_t, uint32_t) const;

void MarkerRow::Reader::look(uint32_t i) {
    const Chunk& c = row_->chunkOf(i);
    at_ = row_->storage_->at(c.at);
    begin_ = c.begin;
    chunk_ = i >> kChunkBits;
    durationsAt_ = c.durationsAt;
    pathsAt_ = c.pathsAt;
    parentsAt_ = c.parentsAt;
    flagsAt_ = c.flagsAt;
    firstParent_ = c.firstParent;
    beginBytes_ = c.beginBytes;
    durationBytes_ = c.durationBytes;
    pathBytes_ = c.pathBytes;
    parentBytes_ = c.parentBytes;
    flagBytes_ = c.flagBytes;
}

uint32_t MarkerRow::firstEndingAfter(int64_t time) const {
    // Of those that begin by then only the last can still be open.
    const uint32_t after = partition([time](int64_t begin) { return begin <= time; });
    return after && end(after - 1) > time ? after - 1 : after;
}

std::pair<uint32_t, uint32_t> MarkerRow::overlapping(int64_t begin, int64_t end) const {
    uint32_t from = firstFrom(begin);
    const uint32_t last = end > begin ? lastBefore(end, from) : kNone;
    const uint32_t past = last == kNone ? from : std::max(from, last + 1);
    if (from && this->end(from - 1) > begin) --from;  // of those before, only the last can still be open
    return {from, past};
}

std::pair<uint32_t, uint32_t> MarkerRow::childrenOf(uint32_t index) const {
    const auto first = [&](uint32_t wanted) {  // the first whose parent is `wanted` or a later one
        const auto chunk = std::partition_point(parts_.chunks.begin(), parts_.chunks.end(),
                                                [&](const Chunk& c) { return c.firstParent < wanted; }) -
                           parts_.chunks.begin();
        if (!chunk) return uint32_t{0};
        uint32_t from = static_cast<uint32_t>(chunk - 1) << kChunkBits, to = std::min(size(), from + kChunk);
        while (from < to) {
            const uint32_t middle = from + (to - from) / 2;
            if (parent(middle) < wanted)
                from = middle + 1;
            else
                to = middle;
        }
        return from;
    };
    return {first(index), first(index + 1)};
}

namespace {

/// Goes over markers of one chunk from position `at` while they begin before `time` (counted from the chunk's begin),
/// at most to `to`, and adds the durations of those that are not waits to `work`. Returns where it stopped.
template <class Begin, class Duration>
uint32_t addWhile(const char* begins, const char* durations, const char* flags, uint32_t at, uint32_t to, int64_t time,
                  int64_t& work) {
    const auto* begin = reinterpret_cast<const Begin*>(begins);
    const auto* duration = reinterpret_cast<const Duration*>(durations);
    int64_t sum = 0;
    if (flags)
        for (; at < to && static_cast<int64_t>(begin[at]) < time; ++at)
            sum += flags[at] & kMarkerWait ? 0 : static_cast<int64_t>(duration[at]);
    else
        for (; at < to && static_cast<int64_t>(begin[at]) < time; ++at) sum += static_cast<int64_t>(duration[at]);
    work += sum;
    return at;
}
template <class N>
int64_t sumOf(const char* numbers, uint32_t from, uint32_t to) {
    const auto* at = reinterpret_cast<const N*>(numbers);
    int64_t sum = 0;
    for (uint32_t i = from; i < to; ++i) sum += static_cast<int64_t>(at[i]);
    return sum;
}

}  // namespace

int64_t MarkerRow::sumInChunk(uint32_t from, uint32_t to) const {
    if (from >= to) return 0;
    const Chunk& c = chunkOf(from);
    const char* at = storage_->at(c.at) + c.durationsAt;
    const uint32_t base = from & ~(kChunk - 1);
    switch (c.durationBytes) {
        case 2: return sumOf<uint16_t>(at, from - base, to - base);
        case 4: return sumOf<uint32_t>(at, from - base, to - base);
        default: return sumOf<int64_t>(at, from - base, to - base);
    }
}

int64_t MarkerRow::busyBefore(uint32_t i) const {
    if (empty()) return 0;
    const uint32_t group = std::min(i, size() - 1) >> kGroupBits;
    return parts_.groups[group].busyBefore + sumInChunk(group << kGroupBits, std::min(i, size()));
}

int64_t MarkerRow::busyBetween(uint32_t from, uint32_t to) const {
    const bool near = to - from <= kGroup && (from >> kChunkBits) == ((to - 1) >> kChunkBits);
    return from >= to ? 0 : near ? sumInChunk(from, to) : busyBefore(to) - busyBefore(from);
}

int64_t MarkerRow::waitBefore(uint32_t i) const {
    if (!parts_.waits) return 0;
    const bool past = i >= size();
    const uint32_t group = (past ? size() - 1 : i) >> kGroupBits;
    int64_t sum = parts_.groupWaits[group];
    const uint32_t from = group << kGroupBits, to = past ? size() : i;
    if (from >= to) return sum;
    const Chunk& c = chunkOf(from);
    if (!c.flagBytes) return sum;
    const char* at = storage_->at(c.at);
    for (uint32_t k = from & (kChunk - 1); k < (from & (kChunk - 1)) + (to - from); ++k)
        if (at[c.flagsAt + k] & kMarkerWait) sum += number(at + c.durationsAt, c.durationBytes, k);
    return sum;
}

MarkerRow::Together MarkerRow::together(uint32_t from, int64_t time, uint32_t coarse) const {
    const Column<Group>& groups = parts_.groups;
    const auto count = static_cast<uint32_t>(groups.size());
    // Ever longer steps over the groups until they begin at `time` or later, then halves of the last step.
    uint32_t low = from >> kGroupBits, high = low + 1;
    for (uint32_t step = 1; high < count && groups[high].begin < time; step *= 2) {
        low = high;
        high = count - high > step ? high + step : count;
    }
    high = std::min(high, count);
    while (high - low > 1) {
        const uint32_t middle = low + (high - low) / 2;
        (groups[middle].begin < time ? low : high) = middle;
    }
    // The answer lies in group `low`, or is the first of the next.
    const uint32_t first = std::max(from + 1, low << kGroupBits), last = std::min(size(), (low + 1) << kGroupBits);
    Together found{first, true, 0};
    if (first - from >= coarse && first < last) {
        const int64_t begin = groups[low].begin;
        const int64_t end = high < count ? groups[high].begin : parts_.chunks.back().begin;
        if (end > begin && time > begin) {
            const double part = std::min(1.0, static_cast<double>(time - begin) / static_cast<double>(end - begin));
            found.past = std::min(last, first + static_cast<uint32_t>(part * (last - first)));
        }
        found.work = roughWorkBefore(found.past) - roughWorkBefore(from);
        return found;
    }
    found.rough = false;
    for (uint32_t at = from; at < last;) {
        const Chunk& c = chunkOf(at);
        const char* begins = storage_->at(c.at);
        const char *durations = begins + c.durationsAt, *flags = c.flagBytes ? begins + c.flagsAt : nullptr;
        const uint32_t base = at & ~(kChunk - 1), to = std::min(last, base + kChunk) - base;
        const auto add = [&]<class Begin, class Duration>(Begin, Duration) {
            return addWhile<Begin, Duration>(begins, durations, flags, at - base, to, time - c.begin, found.work);
        };
        const auto addOf = [&]<class Begin>(Begin begin) {
            return c.durationBytes == 2   ? add(begin, uint16_t{})
                   : c.durationBytes == 4 ? add(begin, uint32_t{})
                                          : add(begin, int64_t{});
        };
        const uint32_t stopped = c.beginBytes == 4 ? addOf(uint32_t{}) : addOf(int64_t{});
        found.past = base + stopped;
        if (stopped < to) break;
        at = base + to;
    }
    if (found.past == from) {  // the first belongs to them whenever it begins
        found.past = from + 1;
        found.work = flags(from) & kMarkerWait ? 0 : duration(from);
    }
    return found;
}

int64_t MarkerRow::roughWorkBefore(uint32_t i) const {
    const uint32_t group = std::min(i, size() - 1) >> kGroupBits, within = i - (group << kGroupBits);
    const auto sum = [&](uint32_t g) {
        return parts_.groups[g].busyBefore - (parts_.waits ? parts_.groupWaits[g] : 0);
    };
    if (!within) return sum(group);
    if (group + 1 == parts_.groups.size()) return busyBefore(i) - waitBefore(i);
    return sum(group) + (sum(group + 1) - sum(group)) * within / kGroup;
}

uint32_t MarkerRow::groupBefore(int64_t time) const {
    const auto after = std::partition_point(parts_.groups.begin(), parts_.groups.end(),
                                            [&](const Group& g) { return g.begin < time; });
    const auto groups = static_cast<uint32_t>(after - parts_.groups.begin());
    return groups ? (groups - 1) << kGroupBits : 0;
}

void MarkerRow::fetch(uint32_t from, uint32_t to) const {
    for (; from < to; from = (from | (kChunk - 1)) + 1) {
        const Chunk& c = chunkOf(from);
        const uint32_t first = from & ~(kChunk - 1), count = std::min(kChunk, size() - first);
        storage_->fetch(c.at, c.flagsAt + count * c.flagBytes);
    }
}

bool MarkerRow::resident(uint32_t from, uint32_t to) const {
    for (; from < to; from = (from | (kChunk - 1)) + 1) {
        const Chunk& c = chunkOf(from);
        const uint32_t first = from & ~(kChunk - 1), count = std::min(kChunk, size() - first);
        if (!storage_->resident(c.at, c.flagsAt + count * c.flagBytes)) return false;
    }
    return true;
}

// ---- building ------------------------------------------------------------------------------------

uint32_t MarkerRowBuilder::add(Storage& storage, int64_t begin, uint32_t lanePath, uint32_t parent, uint8_t flags) {
    if (open_.size() == MarkerRow::kChunk) settle(storage);
    open_.push_back({begin, 0, lanePath, parent, flags});
    return size() - 1;
}

template <class Place>
void MarkerRowBuilder::settle(Place& place) {
    thread_local PathSums byPath;
    const size_t count = open_.size();
    if (!count) return;
    MarkerRow::Chunk chunk;
    chunk.begin = open_.front().begin;
    chunk.firstParent = open_.front().parent;
    chunk.busyBefore = busy_;
    chunk.waitBefore = wait_;
    chunk.sumsFrom = static_cast<uint32_t>(sums_.size());
    uint8_t anyFlags = 0;
    uint32_t mostPath = 0;
    for (size_t from = 0; from < count; from += MarkerRow::kGroup) {
        const size_t to = std::min<size_t>(count, from + MarkerRow::kGroup);
        MarkerRow::Group group{open_[from].begin, busy_, 0, open_[from].path};
        if (parts_.waits) groupWaits_.add(wait_);
        int64_t longest = 0, onPath = 0, mostOnPath = -1;
        uint32_t before = kNone;
        for (size_t i = from; i < to; ++i) {
            const Marker& m = open_[i];
            busy_ += m.duration;
            anyFlags |= m.flags;
            if (m.flags & kMarkerWait) {
                if (!parts_.waits) {  // the first wait: none before it waited
                    parts_.waits = true;
                    groupWaits_.add(std::vector<int64_t>(groups_.size() + 1));
                }
                wait_ += m.duration;
            }
            longest = std::max(longest, m.duration);
            mostPath = std::max(mostPath, m.path);
            PathSum& sum = byPath.of(m.path);
            ++sum.count;
            sum.total += m.duration;
            sum.longest = std::max(sum.longest, m.duration);
            // Runs of one path are told apart well enough to name what a group mostly is.
            onPath = m.path == before ? onPath + m.duration : m.duration;
            before = m.path;
            if (onPath > mostOnPath) {
                mostOnPath = onPath;
                group.path = m.path;
            }
        }
        chunk.longest = std::max(chunk.longest, longest);
        group.longest = static_cast<uint32_t>(std::min<int64_t>(longest, UINT32_MAX));
        groups_.add(group);
    }
    sums_.add(byPath.sums);
    byPath.clear();

    chunk.beginBytes = bytesFor(static_cast<uint64_t>(open_.back().begin - chunk.begin), 4);
    chunk.durationBytes = bytesFor(static_cast<uint64_t>(chunk.longest), 2);
    chunk.parentBytes = bytesFor(open_.back().parent - chunk.firstParent);
    chunk.pathBytes = bytesFor(mostPath);
    chunk.flagBytes = anyFlags ? 1 : 0;
    chunk.durationsAt = rounded(count * chunk.beginBytes);
    chunk.pathsAt = chunk.durationsAt + rounded(count * chunk.durationBytes);
    chunk.parentsAt = chunk.pathsAt + rounded(count * chunk.pathBytes);
    chunk.flagsAt = chunk.parentsAt + rounded(count * chunk.parentBytes);
    chunk.at = place.allocate(chunk.flagsAt + count * chunk.flagBytes);
    char* at = place.at(chunk.at);
    put(at, chunk.beginBytes, open_, [&](const Marker& m) { return m.begin - chunk.begin; });
    put(at + chunk.durationsAt, chunk.durationBytes, open_, [](const Marker& m) { return m.duration; });
    put(at + chunk.pathsAt, chunk.pathBytes, open_, [](const Marker& m) { return m.path; });
    put(at + chunk.parentsAt, chunk.parentBytes, open_, [&](const Marker& m) { return m.parent - chunk.firstParent; });
    if (anyFlags) put(at + chunk.flagsAt, 1, open_, [](const Marker& m) { return m.flags; });
    chunks_.add(chunk);
    parts_.size += count;
    open_.clear();
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
    rest.open_ = open_;
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
