// SPDX-License-Identifier: GPL-3.0-or-later
//
// What lanes tell that belongs to more than one of them, one component for each kind: it takes what lanes found, fills
// its columns of a recording, and describes these for the index. What comes later costs itself, and copying the
// columns.
#pragma once

#include <atomic>

#include "core/store/shared_progress.h"
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
    /// only. Returns false where `progress` cancelled it: then neither recording nor streams are of any use.
    template <class Place>
    bool fill(const std::vector<FoundInLane>& found, Recording& r, Place& place,
              const std::vector<LaneFinds::InObject>& held, const Progress& progress) {
        for (const FoundInLane& lane : found) copyShown(lane.finds);
        fillShown(r, place);
        SharedProgress all(progress);
        const auto kind = [&](auto& stream, const auto&... more) -> std::function<void()> {
            return [&] {
                constexpr double kTaking = 0.25;  // of its time, roughly
                double told = 0;
                const Progress goesOn = [&](double part) {
                    return all.add((part - std::exchange(told, part)) / kKinds);
                };
                for (size_t i = 0; i < found.size(); ++i) {
                    stream.take(found[i]);
                    if (!goesOn(kTaking * static_cast<double>(i + 1) / static_cast<double>(found.size()))) return;
                }
                if constexpr (requires { stream.fill(r, place, goesOn); })
                    stream.fill(r, place, [&](double part) { return goesOn(kTaking + (1 - kTaking) * part); });
                else
                    stream.fill(r, place, more...);
                goesOn(1);
            };
        };
        // None needs another one; those that take longest first.
        const std::function<void()> kinds[kKinds] = {kind(schedule_), kind(memory_),  kind(operations_),
                                                     kind(links_),    kind(samples_), kind(holds_, held),
                                                     kind(counters_), kind(pictures_)};
        std::atomic<size_t> next{0};
        sideBySide(std::is_same_v<Place, Storage> ? threadsFor(kKinds - 1) : 1, [&](size_t) {
            for (size_t i; !all.stopped() && (i = next++) < kKinds;) kinds[i]();
        });
        for (const FoundInLane& lane : found) lane.finds = {};
        return !all.stopped();
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
    static constexpr size_t kKinds = 8;  // that are filled side by side
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
