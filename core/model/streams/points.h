// SPDX-License-Identifier: GPL-3.0-or-later
//
// Points of all lanes.
#pragma once

#include "core/model/lane_builder.h"
#include "sorted_list.h"

namespace fugato {

class PointStream {
public:
    void copy(const LaneFinds& finds) { points_.add(finds.points); }
    template <class Place>
    void fill(Recording& r, Place& place) {
        GrowingList<Point>& points = points_.sorted(byTime);
        const size_t same = points.settled(), settled = points_.settles(&Point::time);
        r.points = points.column(place, settled);
        r.pointSeverities = Column<Extreme>::of(place, severities_.of(r.points.size(), same, settled, [&](size_t i) {
            return static_cast<uint8_t>(r.points[i].severity);
        }));
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.points, r.pointSeverities);
    }

private:
    SortedList<Point> points_;
    GrowingExtremes severities_;
};

}  // namespace fugato
