// SPDX-License-Identifier: GPL-3.0-or-later
//
// Frames, by series.
#pragma once

#include "core/model/lane_builder.h"
#include "sorted_list.h"

namespace fugato {

class FrameStream {
public:
    void copy(const LaneFinds& finds) {
        for (const auto& found : finds.frames) listAt(frames_, found.series).add(found.frame);
    }
    template <class Place>
    void fill(Recording& r, Place& place) {
        for (size_t i = 0; i < r.series.size(); ++i)
            r.series[i].frames = Column<Frame>::of(place, listAt(frames_, i).sorted(byBegin));
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.series);
    }

private:
    std::vector<SortedList<Frame>> frames_;  // by series
};

}  // namespace fugato
