// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_steps.h"

#include <algorithm>

namespace fugato {

namespace {

/// The outermost marker of a lane at a time, else the first in [begin, end).
MarkerRef outermostAt(const Recording& recording, uint32_t lane, int64_t time, int64_t begin, int64_t end) {
    const auto& rows = recording.lanes[lane].rows;
    if (rows.empty()) return {};
    const auto [at, pastAt] = rows.front().overlapping(time, time + 1);
    if (at < pastAt) return {lane, 0, at};
    const auto [first, past] = rows.front().overlapping(begin, end);
    if (first >= past) return {};
    const uint32_t before = rows.front().lastBefore(time);
    return {lane, 0, before != kNone && before >= first ? std::min(before, past - 1) : first};
}

MarkerRef inLanes(const Recording& recording, const std::vector<uint32_t>& lanes, ptrdiff_t at, ptrdiff_t by,
                  int64_t time, int64_t begin, int64_t end) {
    for (; at >= 0 && at < static_cast<ptrdiff_t>(lanes.size()); at += by)
        if (const MarkerRef found = outermostAt(recording, lanes[static_cast<size_t>(at)], time, begin, end);
            found.valid())
            return found;
    return {};
}

}  // namespace

MarkerRef markerBeside(const Recording& recording, const std::vector<uint32_t>& lanes, int64_t begin, int64_t end,
                       const MarkerRef& from, MarkerStep step) {
    if (!from.valid()) return inLanes(recording, lanes, 0, 1, begin + (end - begin) / 2, begin, end);
    const auto& rows = recording.lanes[from.lane].rows;
    const MarkerRow& row = rows[from.row];
    const auto place = std::find(lanes.begin(), lanes.end(), from.lane) - lanes.begin();
    const int64_t seenFrom = std::max(begin, row.begin(from.index)), seenTo = std::min(end, row.end(from.index));
    const int64_t time = seenFrom < seenTo ? seenFrom + (seenTo - seenFrom) / 2 : row.begin(from.index);
    switch (step) {
        case MarkerStep::Next:
            return from.index + 1 < row.size() ? MarkerRef{from.lane, from.row, from.index + 1} : MarkerRef{};
        case MarkerStep::Previous: return from.index ? MarkerRef{from.lane, from.row, from.index - 1} : MarkerRef{};
        case MarkerStep::In: {
            if (from.row + 1 >= rows.size()) return inLanes(recording, lanes, place + 1, 1, time, begin, end);
            const auto [first, past] = rows[from.row + 1].childrenOf(from.index);
            if (first >= past) return inLanes(recording, lanes, place + 1, 1, time, begin, end);
            const uint32_t inSight = rows[from.row + 1].firstEndingAfter(begin);  // rather one that can be seen
            return {from.lane, from.row + 1, std::clamp(inSight, first, past - 1)};
        }
        case MarkerStep::Out:
            if (from.row) return {from.lane, from.row - 1, row.parent(from.index)};
            return inLanes(recording, lanes, place - 1, -1, time, begin, end);
    }
    return {};
}

}  // namespace fugato
