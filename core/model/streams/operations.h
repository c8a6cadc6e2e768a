// SPDX-License-Identifier: GPL-3.0-or-later
//
// Operations, put together from their begins, steps and ends on any lanes; and the rows in which they do not overlap.
#pragma once

#include <set>
#include <unordered_map>

#include "found_in_lane.h"
#include "timed_events.h"

namespace fugato {

class OperationStream {
public:
    void take(const FoundInLane& lane);
    template <class Place>
    void fill(Recording& recording, Place& place, const Progress& progress);
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.operations, r.operationSteps, r.operationRows, r.operationEnds);
    }

private:
    struct Event : LaneFinds::OperationEvent {
        uint32_t lane = 0;
    };
    struct State {
        /// What is known of a number, in whatever order it was told.
        struct Known {
            uint32_t index = kNone;  // in operations, once it began
            bool ended = false;
            int64_t end = 0, code = 0;
            uint32_t endedOn = kNone;
            TextRef text = 0;
            std::vector<OperationStep> steps;
        };
        struct Row {
            GrowingList<uint32_t> operations, failed;
        };
        Row* rowOf(const Operation& operation) {
            return operation.row < listed.size() ? &listed[operation.row] : nullptr;
        }
        GrowingList<Operation> operations;          // in order of their begins
        GrowingList<OperationStep> steps;           // of those that ended, one operation after another
        GrowingList<int64_t> ends;                  // of those that ended, in order
        std::unordered_map<uint64_t, Known> known;  // not begun, or not ended
        std::vector<Row> listed;                    // the first rows
        std::set<uint32_t> freeRows;                // below rows
        uint32_t rows = 0;

        State again() const { return {}; }
        void markSettled();
        void take(const Event& event, Undo* undo);
        void begin(const Event& event, Known& known, Undo* undo);
        void close(uint64_t number, Known& known, Undo* undo);
    };
    TimedEvents<Event, State> events_;
};

}  // namespace fugato
