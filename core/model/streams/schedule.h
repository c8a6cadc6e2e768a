// SPDX-License-Identifier: GPL-3.0-or-later
//
// From who had each core, and who was woken by whom, what each recorded thread did: ran, was ready, was blocked.
#pragma once

#include <optional>
#include <unordered_map>

#include "found_in_lane.h"
#include "timed_events.h"

namespace fugato {

class ScheduleStream {
public:
    void take(const FoundInLane& lane);
    /// After the recording's lanes have their numbers of the operating system.
    template <class Place>
    void fill(Recording& recording, Place& place, const Progress& progress);

private:
    struct Off {  // a thread that has no core
        int64_t time = 0;
        bool ready = false;
        uint32_t core = kNone;  // kNone: it was woken, and on which core it will run is not known yet
    };
    struct Thread {
        uint32_t lane = kNone;
        std::optional<Off> off;
    };
    using LaneOf = std::unordered_map<uint32_t, uint32_t>;  // by thread of the operating system
    struct State {
        LaneOf laneOf;
        struct OfLane {
            GrowingList<ScheduleSpan> spans;
            GrowingList<TimeSplit> sums;  // of the spans before every kScheduleStep-th one
            TimeSplit sum;                // of all spans
            GrowingList<WakeUp> wakeUps;
            GrowingList<CoreSpan> onCore;  // of a core; the last one lasts
        };
        std::vector<OfLane> lanes;
        std::unordered_map<uint32_t, uint32_t> positions;  // by thread: where in `threads`
        std::vector<Thread> threads;

        State again() const {
            State start;
            start.laneOf = laneOf;
            return start;
        }
        void markSettled();
        void take(const LaneFinds::CoreEvent& event, Undo* undo);
        void onCore(const LaneFinds::CoreEvent& change, Undo* undo);
        void woken(const LaneFinds::CoreEvent& event, Undo* undo);
        void ended(const LaneFinds::CoreEvent& event, Undo* undo);
        uint32_t position(uint32_t thread);
        void addSpan(uint32_t lane, int64_t begin, int64_t end, ThreadState state, uint32_t core, Undo* undo);
        CoreSpan endLastSpan(uint32_t core, int64_t end, Undo* undo);
        void setOff(uint32_t position, const std::optional<Off>& since, Undo* undo);
    };
    TimedEvents<LaneFinds::CoreEvent, State> events_;
    LaneOf laneOf_;
    bool wakeUps_ = false;  // any was told
};

}  // namespace fugato
