// SPDX-License-Identifier: GPL-3.0-or-later
#include "edges.h"

#include <algorithm>

namespace fugato {

namespace {

/// Keeps the nearest of what it is told.
class Nearest {
public:
    Nearest(int64_t from, bool forward) : from_(from), forward_(forward) {}
    void tell(int64_t time) {
        if (forward_ ? time <= from_ : time >= from_) return;
        if (!found_ || (forward_ ? time < *found_ : time > *found_)) found_ = time;
    }
    std::optional<int64_t> found() const { return found_; }

private:
    const int64_t from_;
    const bool forward_;
    std::optional<int64_t> found_;
};

/// In a row begins and ends ascend: the first that ends after the instant, or the last that begins before it, and the
/// one beside it have the nearest edges.
void tellEdges(const MarkerRow& row, int64_t from, bool forward, Nearest& nearest) {
    if (row.empty()) return;
    const auto tell = [&](uint32_t i) {
        nearest.tell(row.begin(i));
        nearest.tell(row.end(i));
    };
    if (forward) {
        const uint32_t first = row.firstEndingAfter(from);
        if (first < row.size()) tell(first);
        return;
    }
    const uint32_t last = row.lastBefore(from);
    if (last != kNone) tell(last);
}

void tellTimes(const Column<int64_t>& times, int64_t from, bool forward, Nearest& nearest) {
    if (forward) {
        const auto after = std::upper_bound(times.begin(), times.end(), from);
        if (after != times.end()) nearest.tell(*after);
    } else if (const auto at = std::lower_bound(times.begin(), times.end(), from); at != times.begin()) {
        nearest.tell(*(at - 1));
    }
}

void tellFrames(const Series& series, int64_t from, Nearest& nearest) {
    const auto at = std::partition_point(series.frames.begin(), series.frames.end(),
                                         [&](const Frame& f) { return f.begin < from; });
    // The one before may end after the instant, and the one that begins at it lies before the next.
    for (auto it = at - std::min<std::ptrdiff_t>(2, at - series.frames.begin());
         it != series.frames.end() && it < at + 2; ++it) {
        nearest.tell(it->begin);
        nearest.tell(it->end);
    }
}

void tellPoints(const Recording& r, uint32_t lane, int64_t from, bool forward, Nearest& nearest) {
    const auto fits = [&](const Point& p) { return lane == kNone || p.lane == lane; };
    if (forward) {
        const auto after =
            std::partition_point(r.points.begin(), r.points.end(), [&](const Point& p) { return p.time <= from; });
        const auto found = std::find_if(after, r.points.end(), fits);
        if (found != r.points.end()) nearest.tell(found->time);
        return;
    }
    auto at = std::partition_point(r.points.begin(), r.points.end(), [&](const Point& p) { return p.time < from; });
    while (at != r.points.begin())
        if (fits(*--at)) return nearest.tell(at->time);
}

}  // namespace

std::optional<int64_t> edgeBeside(const Recording& r, EdgeOf of, uint32_t lane, uint32_t series, int64_t from,
                                  bool forward) {
    Nearest nearest(from, forward);
    switch (of) {
        case EdgeOf::Markers:
            if (lane < r.lanes.size())
                for (const MarkerRow& row : r.lanes[lane].rows) tellEdges(row, from, forward, nearest);
            break;
        case EdgeOf::Frames:
            if (series < r.series.size()) tellFrames(r.series[series], from, nearest);
            break;
        case EdgeOf::Points: tellPoints(r, lane, from, forward, nearest); break;
        case EdgeOf::Counters:
            for (const Counter& counter : r.counters) tellTimes(counter.times, from, forward, nearest);
            break;
    }
    return nearest.found();
}

std::optional<int64_t> edgeNear(const MarkerRow& row, int64_t time, int64_t reach) {
    std::optional<int64_t> found;
    const auto tell = [&](int64_t edge) {
        const int64_t apart = std::abs(edge - time);
        if (apart <= reach && (!found || apart < std::abs(*found - time))) found = edge;
    };
    for (const bool forward : {false, true}) {
        Nearest nearest(forward ? time - 1 : time + 1, forward);
        tellEdges(row, forward ? time - 1 : time + 1, forward, nearest);
        if (nearest.found()) tell(*nearest.found());
    }
    return found;
}

}  // namespace fugato
