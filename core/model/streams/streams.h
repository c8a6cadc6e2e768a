// SPDX-License-Identifier: GPL-3.0-or-later
//
// What lanes tell that belongs to more than one of them, one component for each kind: it takes what lanes found, fills
// its columns of a recording, and describes these for the index. What comes later costs itself, and copying the
// columns.
#pragma once

#include "counters.h"
#include "frames.h"
#include "holds.h"
#include "links.h"
#include "memory.h"
#include "operations.h"
#include "pictures.h"
#include "points.h"
#include "samples.h"
#include "schedule.h"
#include "states.h"

namespace fugato {

class Streams {
public:
    /// Takes what a lane found out of it. `paths`: the recording's numbers by the lane's own.
    void take(uint32_t lane, LaneFinds& finds, const Column<PathId>& paths) {
        copyShown(finds);
        holds_.take(finds, paths);
        counters_.take(finds);
        links_.take(finds, paths);
        samples_.take(finds);
        pictures_.take(finds);
        operations_.take(lane, finds, paths);
        memory_.take(finds, paths);
        schedule_.take(finds);
        finds = {};
    }
    /// The same of frames, states and points only, which stay where they are.
    void copyShown(const LaneFinds& finds) {
        frames_.copy(finds);
        states_.copy(finds);
        points_.copy(finds);
    }

    /// Those of a series, by its position, that were taken so far.
    const GrowingList<Frame>& frames(uint32_t series) { return frames_.of(series); }

    /// Fills a recording whose lanes are filled; columns lie in `place` (a Storage or an Arena). `held`: locks that
    /// count as released for this time only.
    template <class Place>
    void fill(Recording& r, Place& place, const std::vector<LaneFinds::InObject>& held = {}) {
        fillShown(r, place);
        holds_.fill(r, place, held);
        counters_.fill(r, place);
        links_.fill(r, place);
        samples_.fill(r, place);
        pictures_.fill(r, place);
        operations_.fill(r, place);
        memory_.fill(r, place);
        schedule_.fill(r, place);
    }
    template <class Place>
    void fillShown(Recording& r, Place& place) {
        frames_.fill(r, place);
        states_.fill(r, place);
        points_.fill(r, place);
        r.holds.resize(r.objects.size());
    }

    /// Of all of them; how each type is put into an archive is told in recording_index.cpp. (Schedules lie in lanes.)
    template <class A>
    static void describe(A& archive, Recording& r) {
        FrameStream::describe(archive, r);
        StateStream::describe(archive, r);
        PointStream::describe(archive, r);
        HoldStream::describe(archive, r);
        CounterStream::describe(archive, r);
        LinkStream::describe(archive, r);
        SampleStream::describe(archive, r);
        PictureStream::describe(archive, r);
        OperationStream::describe(archive, r);
        MemoryStream::describe(archive, r);
    }

private:
    FrameStream frames_;
    StateStream states_;
    PointStream points_;
    HoldStream holds_;
    CounterStream counters_;
    LinkStream links_;
    SampleStream samples_;
    PictureStream pictures_;
    OperationStream operations_;
    MemoryStream memory_;
    ScheduleStream schedule_;
};

}  // namespace fugato
