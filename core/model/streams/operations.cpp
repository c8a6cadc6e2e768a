// SPDX-License-Identifier: GPL-3.0-or-later
#include "operations.h"

#include <tuple>

namespace fugato {

void OperationStream::take(const FoundInLane& lane) {
    for (const LaneFinds::OperationEvent& found : std::exchange(lane.finds.operations, {})) {
        Event event{found, lane.lane};
        event.path = lane.paths[event.path];
        events_.add(event);
    }
}

void OperationStream::State::take(const Event& event, Undo* undo) {
    const auto [at, isNew] = known.try_emplace(event.number);
    Known& it = at->second;
    if (undo && isNew) undo->add([this, number = event.number] { known.erase(number); });
    if (undo && !isNew) undo->add([this, number = event.number, before = it] { known[number] = before; });
    if (event.kind == EventKind::OperationStep) {
        it.steps.push_back({event.time, event.site, event.lane});
        return;
    }
    if (event.kind == EventKind::OperationBegin) {
        if (it.index == kNone) begin(event, it, undo);
    } else {
        it.ended = true;
        it.end = event.time;
        it.code = event.code;
        it.endedOn = event.lane;
        it.text = event.text;
    }
    // One that ended before it began (clocks may disagree) was never ended.
    if (it.index != kNone && it.ended && it.end >= operations[it.index].begin) close(event.number, it, undo);
}

/// In the first row that is free.
void OperationStream::State::begin(const Event& event, Known& it, Undo* undo) {
    Operation operation;
    operation.site = event.site;
    operation.begin = event.time;
    operation.beganOn = event.lane;
    operation.askedBy = event.path;
    if (freeRows.empty()) {
        operation.row = rows++;
        if (rows <= kListedOperationRows) listed.resize(std::max<size_t>(listed.size(), rows));
        if (undo) undo->add([this] { --rows; });
    } else {
        operation.row = *freeRows.begin();
        freeRows.erase(freeRows.begin());
        if (undo) undo->add([this, row = operation.row] { freeRows.insert(row); });
    }
    it.index = static_cast<uint32_t>(operations.size());
    operations.add(operation);
    if (Row* row = rowOf(operation)) row->operations.add(it.index);
    if (undo)
        undo->add([this] {
            if (Row* row = rowOf(operations.back())) row->operations.tail().pop_back();
            operations.tail().pop_back();
        });
}

void OperationStream::State::close(uint64_t number, Known& it, Undo* undo) {
    Operation operation = operations[it.index];
    if (undo) {
        undo->add([this, index = it.index, before = operation] { operations.set(index, before); });
        undo->add([this, count = it.steps.size()] { steps.tail().resize(steps.tail().size() - count); });
        undo->add([this, before = operation, failed = it.code != 0] {
            ends.tail().pop_back();
            if (Row* row = failed ? rowOf(before) : nullptr) row->failed.tail().pop_back();
            freeRows.erase(before.row);
        });
    }
    operation.end = it.end;
    operation.endedOn = it.endedOn;
    operation.code = it.code;
    operation.text = it.text;
    operation.firstStep = static_cast<uint32_t>(steps.size());
    operation.steps = static_cast<uint32_t>(it.steps.size());
    operations.set(it.index, operation);
    steps.add(it.steps);
    ends.add(operation.end);
    if (Row* row = operation.code ? rowOf(operation) : nullptr) row->failed.add(it.index);
    freeRows.insert(operation.row);
    known.erase(number);
}

void OperationStream::State::markSettled() {
    operations.markSettled();
    steps.markSettled();
    ends.markSettled();
    for (Row& row : listed) {
        row.operations.markSettled();
        row.failed.markSettled();
    }
}

template <class Place>
void OperationStream::fill(Recording& r, Place& place, const Progress& progress) {
    // At one instant ends come first, so that a row is free for what begins then.
    const auto order = [](const Event& x, const Event& y) {
        const auto rank = [](const Event& e) {
            return std::tuple(e.time, e.kind == EventKind::OperationBegin ? 1 : 0, e.lane, e.number);
        };
        return rank(x) < rank(y);
    };
    events_.withAll(order, place, progress, [&](State& state) {
        std::vector<std::pair<uint32_t, const State::Known*>> open;
        for (const auto& [number, known] : state.known) {
            if (known.index == kNone)
                r.repairs.endsWithoutBegin += 1;
            else
                open.emplace_back(known.index, &known);
        }
        std::sort(open.begin(), open.end());
        // Those that are open last to the end, for this moment.
        Undo undo;
        auto steps = state.steps.tail();
        auto ends = state.ends.tail();
        for (const auto& [index, known] : open) {
            Operation operation = state.operations[index];
            undo.add([&state, index = index, before = operation] { state.operations.set(index, before); });
            operation.end = std::max(r.end, operation.begin);
            if (known->ended) {  // before it began
                operation.endedOn = known->endedOn;
                operation.code = known->code;
                operation.text = known->text;
                if (State::Row* row = operation.code ? state.rowOf(operation) : nullptr) {
                    row->failed.add(index);
                    undo.add([row] { row->failed.tail().pop_back(); });
                }
            }
            operation.firstStep = static_cast<uint32_t>(state.steps.settled() + steps.size());
            operation.steps = static_cast<uint32_t>(known->steps.size());
            steps.insert(steps.end(), known->steps.begin(), known->steps.end());
            ends.push_back(operation.end);
            state.operations.set(index, operation);
        }
        r.operations = state.operations.column(place);
        r.operationSteps = state.steps.column(place, state.steps.marked(), steps);
        r.operationEnds = state.ends.column(place, state.ends.marked(), ends);
        r.operationRows.resize(state.rows);
        for (size_t i = 0; i < std::min<size_t>(state.rows, state.listed.size()); ++i)
            r.operationRows[i] = {state.listed[i].operations.column(place), state.listed[i].failed.column(place)};
        undo.run();
    });
}

template void OperationStream::fill(Recording&, Storage&, const Progress&);
template void OperationStream::fill(Recording&, Arena&, const Progress&);

}  // namespace fugato
