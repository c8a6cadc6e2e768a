// SPDX-License-Identifier: GPL-3.0-or-later
#include "longer_calls.h"

#include <algorithm>
#include <map>

#include "usual.h"

namespace fugato {

namespace {

constexpr uint32_t kMostLooked = 65'536;  // markers in another, or of a lane; with more of them none is looked for

UsualOccurrence usualOf(const Explanation& e, uint32_t frame, uint32_t group, PathId path) {
    return e.occurrences->of(e, e.frames[frame].baseline, group, path);
}

MarkerRef outermostOf(const Recording& r, MarkerRef marker) {
    for (; marker.row > 0; --marker.row) marker.index = r.lanes[marker.lane].rows[marker.row].parent(marker.index);
    return marker;
}

/// Calls of one marker in one place.
struct MarkerCalls {
    int64_t ns = 0, longest = 0;
    uint32_t count = 0, longestAt = 0;
    void add(uint32_t index, int64_t duration) {
        ns += duration;
        ++count;
        if (duration > longest) {
            longest = duration;
            longestAt = index;
        }
    }
};

LongerCalls longer(const Explanation& e, uint32_t frame, uint32_t group, PathId path, const MarkerCalls& calls) {
    const UsualOccurrence usual = usualOf(e, frame, group, path);
    const double expected = std::min<double>(calls.count, std::max(1.0, usual.mostCalls)) * usual.meanNs;
    return {path, calls.ns - static_cast<int64_t>(expected),
            usual.meanNs > 0 ? static_cast<double>(calls.longest) / usual.meanNs : 0};
}

}  // namespace

LongerCalls longerCallsIn(const Explanation& e, uint32_t frame, const MarkerRef& occurrence) {
    const Recording& r = *e.recording;
    const Lane& lane = r.lanes[occurrence.lane];
    MarkerRef at = outermostOf(r, occurrence);
    MarkerCalls alone;
    alone.add(at.index, lane.rows[at.row].end(at.index) - lane.rows[at.row].begin(at.index));
    LongerCalls found = longer(e, frame, lane.group, r.pathOf(at), alone);
    while (found.excess > 0 && at.row + 1 < lane.rows.size()) {
        const MarkerRow& row = lane.rows[at.row + 1];
        const auto [from, to] = row.childrenOf(at.index);
        if (to - from > kMostLooked) break;
        std::map<PathId, MarkerCalls> inside;
        for (uint32_t i = from; i < to; ++i) inside[row.path(i)].add(i, row.end(i) - row.begin(i));
        LongerCalls most;
        uint32_t next = 0;
        for (const auto& [path, calls] : inside)
            if (const LongerCalls one = longer(e, frame, lane.group, path, calls); one.excess > most.excess) {
                most = one;
                next = calls.longestAt;
            }
        if (2 * most.excess < found.excess) break;
        if (row.flags(next) & kMarkerWait) return {};  // it did not run long, it waited
        found = most;
        at = {at.lane, at.row + 1, next};
    }
    return found.excess > 0 ? found : LongerCalls{};
}

LongerCalls longerCallsOf(const Explanation& e, uint32_t frame, uint32_t group, int64_t begin, int64_t end) {
    const Recording& r = *e.recording;
    LongerCalls most;
    MarkerRef where;
    for (const uint32_t lane : r.groups[group].lanes) {
        if (r.lanes[lane].rows.empty()) continue;
        const MarkerRow& row = r.lanes[lane].rows[0];
        const auto [from, to] = row.overlapping(begin, end);
        if (to - from > kMostLooked) continue;
        for (uint32_t i = from; i < to; ++i) {
            if (row.flags(i) & kMarkerWait) continue;
            MarkerCalls alone;
            alone.add(i, row.end(i) - row.begin(i));
            if (const LongerCalls one = longer(e, frame, group, row.path(i), alone); one.excess > most.excess) {
                most = one;
                where = {lane, 0, i};
            }
        }
    }
    return where.valid() ? longerCallsIn(e, frame, where) : most;
}

}  // namespace fugato
