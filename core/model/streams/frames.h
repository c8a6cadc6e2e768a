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
    /// So far, those of a series that were taken.
    const GrowingList<Frame>& of(uint32_t series) { return listAt(frames_, series).list(); }
    template <class Place>
    void fill(Recording& r, Place& place) {
        for (size_t i = 0; i < r.series.size(); ++i) {
            SortedList<Frame>& frames = listAt(frames_, i);
            r.series[i].frames = frames.sorted(byBegin).column(place, frames.settles(&Frame::begin));
        }
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.series);
    }

private:
    std::vector<SortedList<Frame>> frames_;  // by series
};

}  // namespace fugato
