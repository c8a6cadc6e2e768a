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
        const std::vector<Point>& points = points_.sorted(byTime);
        std::vector<uint8_t> severities;
        severities.reserve(points.size());
        for (const Point& point : points) severities.push_back(static_cast<uint8_t>(point.severity));
        r.points = Column<Point>::of(place, points);
        r.pointSeverities = Column<Extreme>::of(place, extremesOf(severities));
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.points, r.pointSeverities);
    }

private:
    SortedList<Point> points_;
};

}  // namespace fugato
