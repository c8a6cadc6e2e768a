// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_row.h"

namespace fugato {

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
    return overlappingFrom(firstFrom(begin), begin, end);
}

std::pair<uint32_t, uint32_t> MarkerRow::overlapping(int64_t begin, int64_t end, uint32_t near) const {
    if (!near) return overlapping(begin, end);
    const uint32_t before = lastBefore(begin, near);
    return overlappingFrom(before == kNone ? 0 : before + 1, begin, end);
}

std::pair<uint32_t, uint32_t> MarkerRow::overlappingFrom(uint32_t from, int64_t begin, int64_t end) const {
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

}  // namespace fugato
