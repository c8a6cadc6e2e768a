// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a question is about: stretches of time, and lanes. Its answers count each marker once, however many of the
// stretches it reaches into, and of its time what lies in them.
#pragma once

#include "time_range.h"

namespace fugato {

/// Whether a recording, or this moment of one that grows, has a marker.
inline bool holds(const Recording& recording, const MarkerRef& marker) {
    return marker.lane < recording.lanes.size() && marker.row < recording.lanes[marker.lane].rows.size() &&
           marker.index < recording.lanes[marker.lane].rows[marker.row].size();
}

struct Scope {
    std::vector<TimeRange> stretches;  // in order of time, each after the end of the one before
    std::vector<uint8_t> lanes;        // by lane: 0 where it is left out; empty: all

    Scope() = default;
    Scope(const TimeRange& range) : stretches{range} {}  // NOLINT: a range of all lanes is a scope
    /// Of any ranges: sorted, those that touch joined, those without a length left out.
    explicit Scope(std::vector<TimeRange> ranges);

    bool has(uint32_t lane) const { return lanes.empty() || (lane < lanes.size() && lanes[lane]); }
    void keepOnly(const Recording& recording, uint32_t lane);
    int64_t length() const;
    /// From the first begin to the last end.
    TimeRange around() const;
    bool contains(int64_t time) const;
    bool operator==(const Scope&) const = default;
};

/// For every marker of a row that overlaps a stretch, once: `whole(chunk)` where all of a chunk do, else
/// `each(index, begin, duration, lanePath, flags)`. Besides `part(index, ns)`: what a marker's time in the stretches is
/// more, or less, than its duration (or than what was said before). Returns whether there was any.
template <class Whole, class Each, class Part>
bool walkScope(const MarkerRow& row, const Scope& scope, Whole&& whole, Each&& each, Part&& part) {
    uint32_t past = 0;  // those before it have been counted
    bool any = false;
    for (const TimeRange& stretch : scope.stretches) {
        const auto [first, to] = row.overlapping(stretch.begin, stretch.end, past);
        if (first == to) continue;
        any = true;
        uint32_t from = first;
        if (from < past) {  // it reaches over from a stretch before
            part(from, std::min(row.end(from), stretch.end) - std::max(row.begin(from), stretch.begin));
            ++from;
        }
        if (from >= to) continue;
        walkMarkers(row, from, to, whole, each);
        if (const int64_t before = stretch.begin - row.begin(from); before > 0) part(from, -before);
        if (const int64_t after = row.end(to - 1) - stretch.end; after > 0) part(to - 1, -after);
        past = to;
    }
    return any;
}

}  // namespace fugato
