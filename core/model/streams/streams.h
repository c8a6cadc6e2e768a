// SPDX-License-Identifier: GPL-3.0-or-later
//
// What lanes tell that belongs to more than one of them, one component for each kind: it takes what lanes found, fills
// its columns of a recording, and describes these for the index. What comes later costs itself, and copying the
// columns.
#pragma once

#include <atomic>

#include "core/store/side_by_side.h"
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
    /// Takes copies of frames, states and points.
    void copyShown(const LaneFinds& finds) {
        frames_.copy(finds);
        states_.copy(finds);
        points_.copy(finds);
    }

    /// Those of a series, by its position, that were taken so far.
    const GrowingList<Frame>& frames(uint32_t series) { return frames_.of(series); }

    /// Takes what lanes found out of it, and fills a recording whose lanes are filled; columns lie in `place` (a
    /// Storage, where kinds are filled side by side, or an Arena). `held`: locks that count as released for this time
    /// only.
    template <class Place>
    void fill(const std::vector<FoundInLane>& found, Recording& r, Place& place,
              const std::vector<LaneFinds::InObject>& held = {}) {
        for (const FoundInLane& lane : found) copyShown(lane.finds);
        fillShown(r, place);
        const auto kind = [&](auto& stream, const auto&... more) -> std::function<void()> {
            return [&] {
                for (const FoundInLane& lane : found) stream.take(lane);
                stream.fill(r, place, more...);
            };
        };
        // None needs another one; those that take longest first.
        const std::function<void()> kinds[] = {kind(schedule_), kind(memory_),      kind(operations_), kind(links_),
                                               kind(samples_),  kind(holds_, held), kind(counters_),   kind(pictures_)};
        std::atomic<size_t> next{0};
        sideBySide(std::is_same_v<Place, Storage> ? threadsFor(std::size(kinds) - 1) : 1, [&](size_t) {
            for (size_t i; (i = next++) < std::size(kinds);) kinds[i]();
        });
        for (const FoundInLane& lane : found) lane.finds = {};
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
