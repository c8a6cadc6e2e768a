// SPDX-License-Identifier: GPL-3.0-or-later
#include "bounds.h"

#include <algorithm>
#include <cmath>
#include <memory>

#include "lane_builder.h"

namespace fugato {

// Behind its number stands whether there is one; see Bounds::streams.
static_assert(sizeof(std::optional<int64_t>) == 2 * sizeof(int64_t));

namespace {

constexpr int64_t kLongest = 2 * kFarthestNs;  // from the first instant there may be to the last

bool isTime(int64_t ns) { return ns >= -kFarthestNs && ns <= kFarthestNs; }
bool isSpan(int64_t begin, int64_t end) { return isTime(begin) && isTime(end) && begin <= end; }

template <class Values, class Good>
bool all(const Values& values, Good&& good) {
    return std::all_of(values.begin(), values.end(), good);
}
template <class Values, class Key>
bool ascending(const Values& values, Key&& key) {
    return std::is_sorted(values.begin(), values.end(), [&](const auto& x, const auto& y) { return key(x) < key(y); });
}
constexpr auto itself = [](const auto& value) { return value; };

uint64_t groupsOf(uint64_t values, uint64_t size) { return (values + size - 1) / size; }

uint64_t extremesOf(uint64_t values) {
    uint64_t sum = groupsOf(values, kExtremeOf);
    for (uint64_t level = sum; level > kExtremeOf;) sum += level = groupsOf(level, kExtremeOf);
    return sum;
}

bool areExtremes(const Column<Extreme>& extremes, uint64_t values) {
    return extremes.size() == extremesOf(values) &&
           all(extremes, [](const Extreme& e) { return !e.any() || (std::isfinite(e.low) && std::isfinite(e.high)); });
}

/// A byte that is read as a bool must be one.
bool isBool(const void* at) { return *static_cast<const uint8_t*>(at) <= 1; }

// ---- the columns of markers ------------------------------------------------------------------------

/// What the columns of one chunk of markers must keep to.
struct ChunkBounds {
    MarkerRow::Chunk chunk;
    uint32_t count = 0;       // markers
    uint64_t paths = 0;       // of the lane
    uint64_t above = 0;       // markers of the row above; 0: there is none
    int64_t busy = kLongest;  // summed durations, at most
    uint64_t end() const { return chunk.at + chunk.flagsAt + uint64_t{count} * chunk.flagBytes; }
};

uint64_t rounded(uint64_t bytes) { return (bytes + 7) & ~uint64_t{7}; }

/// Whether it is one of a lane's paths, and inside a marker.
bool isPathOfMarker(uint64_t path, uint64_t paths) { return path && path < paths; }

/// Whether its columns lie one behind the other, in the storage.
bool isWhole(const ChunkBounds& b, const Storage& storage) {
    const MarkerRow::Chunk& c = b.chunk;
    const auto isOneOf = [](uint8_t bytes, std::initializer_list<uint8_t> widths) {
        return std::find(widths.begin(), widths.end(), bytes) != widths.end();
    };
    return isOneOf(c.beginBytes, {4, 8}) && isOneOf(c.durationBytes, {2, 4, 8}) && isOneOf(c.pathBytes, {1, 2, 4}) &&
           isOneOf(c.parentBytes, {1, 2, 4}) && isOneOf(c.flagBytes, {0, 1}) &&
           c.durationsAt == rounded(uint64_t{b.count} * c.beginBytes) &&
           c.pathsAt == c.durationsAt + rounded(uint64_t{b.count} * c.durationBytes) &&
           c.parentsAt == c.pathsAt + rounded(uint64_t{b.count} * c.pathBytes) &&
           c.flagsAt == c.parentsAt + rounded(uint64_t{b.count} * c.parentBytes) && c.at % 8 == 0 &&
           c.at >= Storage::kFirst && c.at <= storage.size() && b.end() <= storage.size();
}

/// What numbers side by side come to. Without branches, so that many are looked at in one step.
constexpr int kCoarse = MarkerRow::kChunkBits;  // sums count in steps of 4096, so that they cannot overflow
struct Seen {
    uint64_t least = UINT64_MAX, most = 0, coarseSum = 0;
    bool ascending = true;
};
template <class Number>
Seen seenIn(const Number* numbers, size_t count) {
    if (!count) return {};
    Number least = numbers[0], most = numbers[0];
    uint64_t sum = 0;
    int descents = 0;
    for (size_t i = 0; i < count; ++i) {
        least = std::min(least, numbers[i]);
        most = std::max(most, numbers[i]);
    }
    for (size_t i = 0; i < count; ++i) sum += uint64_t{numbers[i]} >> kCoarse;
    for (size_t i = 1; i < count; ++i) descents += numbers[i] < numbers[i - 1];
    return {least, most, sum, descents == 0};
}
/// Of those numbers of a column at `at` that lie in [from, to).
template <class Number>
Seen seenOf(const char* base, uint64_t at, uint32_t count, uint64_t from, uint64_t to) {
    const uint64_t first = from > at ? std::min<uint64_t>(count, (from - at) / sizeof(Number)) : 0;
    const uint64_t past = to > at ? std::min<uint64_t>(count, (to - at) / sizeof(Number)) : 0;
    return seenIn(reinterpret_cast<const Number*>(base + at) + first, past > first ? past - first : 0);
}
Seen seenOf(const char* base, uint64_t at, uint8_t bytes, uint32_t count, uint64_t from, uint64_t to) {
    switch (bytes) {
        case 1: return seenOf<uint8_t>(base, at, count, from, to);
        case 2: return seenOf<uint16_t>(base, at, count, from, to);
        case 4: return seenOf<uint32_t>(base, at, count, from, to);
        default: return seenOf<uint64_t>(base, at, count, from, to);
    }
}

/// Whether what of it lies in [from, to) of the storage keeps to the bounds.
bool partIsGood(const ChunkBounds& b, const char* base, uint64_t from, uint64_t to) {
    const MarkerRow::Chunk& c = b.chunk;
    const auto seen = [&](uint32_t column, uint8_t bytes) {
        return seenOf(base, c.at + column, bytes, b.count, from, to);
    };
    const Seen begins = seen(0, c.beginBytes), durations = seen(c.durationsAt, c.durationBytes),
               paths = seen(c.pathsAt, c.pathBytes), parents = seen(c.parentsAt, c.parentBytes);
    return begins.ascending && begins.most <= static_cast<uint64_t>(kFarthestNs - c.begin) &&
           durations.most <= static_cast<uint64_t>(c.longest) &&
           durations.coarseSum <= static_cast<uint64_t>(b.busy) >> kCoarse && paths.least > 0 && paths.most < b.paths &&
           (!b.above || c.firstParent + parents.most < b.above);
}

/// Of all lanes, by where they lie.
using AllChunks = std::vector<ChunkBounds>;
constexpr uint64_t kMostChunkBytes = uint64_t{MarkerRow::kChunk} * (8 + 8 + 4 + 4 + 1);

bool areGood(const AllChunks& chunks, const char* base, uint64_t from, uint64_t to) {
    const auto before = [](const ChunkBounds& b, uint64_t at) { return b.chunk.at < at; };
    auto at = std::lower_bound(chunks.begin(), chunks.end(), from - std::min(from, kMostChunkBytes), before);
    for (; at != chunks.end() && at->chunk.at < to; ++at)
        if (!partIsGood(*at, base, from, to)) return false;
    return true;
}

bool rowIsGood(const Lane& lane, size_t index, const Storage& storage, AllChunks& chunks) {
    const MarkerRow::Parts& row = lane.rows[index].parts();
    const uint64_t groups = groupsOf(row.size, MarkerRow::kGroup), paths = lane.paths.size();
    if (row.size >= kNone || row.chunks.size() != groupsOf(row.size, MarkerRow::kChunk) ||
        row.groups.size() != groups || row.groupWaits.size() != (row.waits ? groups : 0))
        return false;
    const uint64_t above = index ? lane.rows[index - 1].parts().size : 0;
    for (size_t i = 0; i < row.chunks.size(); ++i) {
        const MarkerRow::Chunk& c = row.chunks[i];
        const bool last = i + 1 == row.chunks.size();
        if (!isTime(c.begin) || !isLength(c.busyBefore) || !isLength(c.waitBefore) || !isLength(c.longest) ||
            (index && c.firstParent >= above) || c.sumsFrom > (last ? row.sums.size() : row.chunks[i + 1].sumsFrom))
            return false;
        const MarkerRow::Group& first = row.groups[i * MarkerRow::kChunk / MarkerRow::kGroup];
        if (first.begin != c.begin || first.busyBefore != c.busyBefore) return false;
        const auto count =
            static_cast<uint32_t>(std::min<uint64_t>(MarkerRow::kChunk, row.size - i * MarkerRow::kChunk));
        const ChunkBounds bounds{c, count, paths, above,
                                 (last ? kLongest : row.chunks[i + 1].busyBefore) - c.busyBefore};
        if (bounds.busy < 0 || !isWhole(bounds, storage)) return false;
        chunks.push_back(bounds);
    }
    return ascending(row.chunks, [](const MarkerRow::Chunk& c) { return c.firstParent; }) &&
           all(row.groups,
               [&](const MarkerRow::Group& g) {
                   return isTime(g.begin) && isLength(g.busyBefore) && isPathOfMarker(g.path, paths);
               }) &&
           ascending(row.groups, [](const MarkerRow::Group& g) { return g.begin; }) &&
           ascending(row.groups, [](const MarkerRow::Group& g) { return g.busyBefore; }) &&
           all(row.groupWaits, isLength) && ascending(row.groupWaits, itself) && all(row.sums, [&](const PathSum& s) {
               return isPathOfMarker(s.path, paths) && isLength(s.total) && isLength(s.longest);
           });
}

// ---- the other columns -----------------------------------------------------------------------------

class Bounds {
public:
    explicit Bounds(const Recording& recording) : r_(recording) {}

    bool good() {
        return isSpan(r_.begin, r_.end) && names() && all(r_.lanes, [&](const Lane& l) { return lane(l); }) &&
               frames() && streams() && operations() && memory() && samples() && markers();
    }

private:
    bool isLane(uint32_t lane) const { return below(lane, r_.lanes.size()); }
    bool isPath(PathId path) const { return below(path, r_.paths.size()); }
    bool isSite(uint32_t site) const { return below(site, r_.sites.size()); }
    bool isText(TextRef text) const { return below(text, r_.storage->size()); }
    static bool isMarker(const Lane& lane, uint32_t row, uint32_t index) {
        return below(row, lane.rows.size()) && below(index, lane.rows[row].size());
    }

    bool names() const {
        const auto& nodes = r_.paths.nodes();
        if (nodes.empty() || nodes[0].depth || nodes[0].parent) return false;
        for (size_t i = 1; i < nodes.size(); ++i)
            if (!below(nodes[i].parent, i) || !isSite(nodes[i].site) ||
                nodes[i].depth != nodes[nodes[i].parent].depth + 1)
                return false;
        return all(r_.groups,
                   [&](const LaneGroup& g) { return all(g.lanes, [&](uint32_t l) { return isLane(l); }); }) &&
               all(r_.likelyEnders, [&](const LikelyEnder& e) {
                   return isLane(e.lane) && isPath(e.path) && below(e.group, r_.groups.size());
               });
    }

    bool lane(const Lane& l) {
        for (size_t row = 0; row < l.rows.size(); ++row)
            if (!rowIsGood(l, row, *r_.storage, chunks_)) return false;
        return l.kind <= LaneKind::Core && below(l.group, r_.groups.size()) && isSpan(l.first, l.last) &&
               lanePaths(l) && waits(l) && arguments(l) && schedule(l) &&
               all(l.linkIns, [&](const LinkEnd& e) { return isTime(e.time) && isPath(e.path); }) &&
               ascending(l.linkIns, [](const LinkEnd& e) { return e.time; }) &&
               all(l.lost, [](const LostEvents& s) { return isTime(s.time); });
    }
    /// The first one is the lane outside any marker, and none of the others is.
    bool lanePaths(const Lane& l) const {
        return all(l.paths, [&](const PathId& p) { return isPath(p) && (p == 0) == (&p == l.paths.begin()); });
    }
    bool waits(const Lane& l) const {
        return all(l.waits,
                   [&](const Wait& w) {
                       return isSpan(w.begin, w.end) && belowOrNone(w.object, r_.objects.size()) &&
                              w.kind <= WaitKind::Pacing && isMarker(l, w.row, w.index);
                   }) &&
               ascending(l.waits, [](const Wait& w) { return w.begin; }) &&
               all(l.blocked, [](const Lane::Blocked& b) { return isSpan(b.begin, b.end) && isLength(b.until); }) &&
               ascending(l.blocked, [](const Lane::Blocked& b) { return b.begin; });
    }
    bool arguments(const Lane& l) const {
        for (uint32_t row = 0; row < l.arguments.size(); ++row)
            if (!all(l.arguments[row],
                     [&](const Argument& a) {
                         return isMarker(l, row, a.index) && below(a.key, r_.keys.size()) &&
                                a.type <= ArgumentType::Text && (a.type != ArgumentType::Text || isText(a.value));
                     }) ||
                !ascending(l.arguments[row], [](const Argument& a) { return a.index; }))
                return false;
        return true;
    }
    bool schedule(const Lane& l) const {
        return all(l.schedule,
                   [&](const ScheduleSpan& s) {
                       return isSpan(s.begin, s.end) && s.state <= ThreadState::Blocked &&
                              belowOrNone(s.core, r_.lanes.size());
                   }) &&
               ascending(l.schedule, [](const ScheduleSpan& s) { return s.begin; }) &&
               l.scheduleSums.size() == (l.schedule.size() + kScheduleStep - 1) / kScheduleStep &&
               all(l.scheduleSums,
                   [](const TimeSplit& s) { return isLength(s.ran) && isLength(s.ready) && isLength(s.blocked); }) &&
               all(l.coreSpans, [](const CoreSpan& s) { return isSpan(s.begin, s.end); }) &&
               ascending(l.coreSpans, [](const CoreSpan& s) { return s.begin; });
    }

    bool frames() const {
        return all(r_.series, [&](const Series& s) {
            return all(s.frames,
                       [&](const Frame& f) {
                           return isSpan(f.begin, f.end) && isLength(f.deadline) && isLane(f.lane);
                       }) &&
                   ascending(s.frames, [](const Frame& f) { return f.begin; });
        });
    }

    bool streams() const {
        return all(r_.states,
                   [&](const State& s) {
                       return all(s.spans,
                                  [&](const StateSpan& v) { return isSpan(v.begin, v.end) && isText(v.value); }) &&
                              ascending(s.spans, [](const StateSpan& v) { return v.begin; });
                   }) &&
               r_.holds.size() == r_.objects.size() &&
               all(r_.holds,
                   [&](const Column<Hold>& holds) {
                       return all(holds,
                                  [&](const Hold& h) {
                                      return isSpan(h.begin, h.end) && isLane(h.lane) && isPath(h.path);
                                  }) &&
                              ascending(holds, [](const Hold& h) { return h.end; });
                   }) &&
               all(r_.counters,
                   [](const Counter& c) {
                       return c.values.size() == c.times.size() && areExtremes(c.extremes, c.values.size()) &&
                              all(c.times, isTime) && ascending(c.times, itself);
                   }) &&
               all(r_.points,
                   [&](const Point& p) {
                       return isTime(p.time) && isLane(p.lane) && p.severity <= Severity::Error && isText(p.text) &&
                              isBool(reinterpret_cast<const int64_t*>(&p.code) + 1) && isBool(&p.input);
                   }) &&
               ascending(r_.points, [](const Point& p) { return p.time; }) &&
               areExtremes(r_.pointSeverities, r_.points.size()) &&
               all(r_.linkSources,
                   [&](const Recording::LinkSource& s) {
                       return isTime(s.time) && isLane(s.lane) && isPath(s.path);
                   }) &&
               ascending(r_.linkSources, [](const Recording::LinkSource& s) { return s.link; });
    }

    bool operations() const {
        const uint64_t count = r_.operations.size();
        const auto isOperation = [&](uint32_t index) { return below(index, count); };
        return all(r_.operationRows,
                   [&](const OperationRow& row) {
                       return all(row.operations, isOperation) && ascending(row.operations, itself) &&
                              all(row.failed, isOperation) && ascending(row.failed, itself);
                   }) &&
               r_.operationEnds.size() == count && all(r_.operationEnds, isTime) &&
               ascending(r_.operationEnds, itself) &&
               all(r_.operations,
                   [&](const Operation& o) {
                       return isSite(o.site) && isSpan(o.begin, o.end) && isLane(o.beganOn) &&
                              belowOrNone(o.endedOn, r_.lanes.size()) && isPath(o.askedBy) && isText(o.text) &&
                              uint64_t{o.firstStep} + o.steps <= r_.operationSteps.size() &&
                              below(o.row, r_.operationRows.size());
                   }) &&
               ascending(r_.operations, [](const Operation& o) { return o.begin; }) &&
               all(r_.operationSteps,
                   [&](const OperationStep& s) { return isTime(s.time) && isSite(s.site) && isLane(s.lane); });
    }

    bool memory() const {
        return all(r_.pools,
                   [](const Pool& p) {
                       return p.times.size() == p.bytesInUse.size() && areExtremes(p.extremes, p.bytesInUse.size()) &&
                              all(p.times, isTime) && ascending(p.times, itself) &&
                              all(p.bytesInUse, isTime);  // bounded like times
                   }) &&
               all(r_.allocations,
                   [&](const Allocation& a) {
                       return isTime(a.taken) && (!a.isReleased() || isSpan(a.taken, a.released)) &&
                              below(a.pool, r_.pools.size()) && isLane(a.lane) && isPath(a.path) && isText(a.name);
                   }) &&
               ascending(r_.allocations, [](const Allocation& a) { return a.taken; });
    }

    bool samples() const {
        const auto areStacks = [&](const Column<StackSample>& stacks) {
            return all(stacks,
                       [&](const StackSample& s) {
                           return isTime(s.time) && isLane(s.core) &&
                                  uint64_t{s.first} + s.count <= r_.stackAddresses.size();
                       }) &&
                   ascending(stacks, [](const StackSample& s) { return s.time; });
        };
        return areStacks(r_.samples) && areStacks(r_.stops) &&
               all(r_.pictures,
                   [&](const Picture& p) {
                       return isTime(p.time) && p.width && p.height && isText(p.pixels) &&
                              uint64_t{p.width} * p.height * 3 < r_.storage->size();
                   }) &&
               ascending(r_.pictures, [](const Picture& p) { return p.time; });
    }

    /// The columns of markers, as far as they are read already, and all others when they are.
    bool markers() {
        std::sort(chunks_.begin(), chunks_.end(),
                  [](const ChunkBounds& x, const ChunkBounds& y) { return x.chunk.at < y.chunk.at; });
        return r_.storage->checkContents(
            [chunks = std::make_shared<const AllChunks>(std::move(chunks_))](
                const char* base, uint64_t from, uint64_t to) { return areGood(*chunks, base, from, to); });
    }

    const Recording& r_;
    AllChunks chunks_;
};

}  // namespace

bool isLength(int64_t ns) { return ns >= 0 && ns <= kLongest; }

bool areStarts(const Column<uint32_t>& from, uint64_t end) {
    return !from.empty() && !from[0] && from.back() == end && ascending(from, itself);
}

bool withinBounds(const Recording& recording) { return Bounds(recording).good(); }

}  // namespace fugato
