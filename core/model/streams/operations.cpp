// SPDX-License-Identifier: GPL-3.0-or-later
#include "operations.h"

#include <tuple>

namespace fugato {

namespace {
constexpr int64_t kOpen = std::numeric_limits<int64_t>::max();
}

void OperationStream::take(uint32_t lane, LaneFinds& finds, const Column<PathId>& paths) {
    for (const LaneFinds::OperationEvent& found : finds.operations) {
        Event event{found, lane};
        event.path = paths[event.path];
        events_.add(event);
    }
    finds.operations.clear();
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
    operation.end = kOpen;
    operation.beganOn = event.lane;
    operation.askedBy = event.path;
    if (freeRows.empty()) {
        operation.row = rows++;
        if (undo) undo->add([this] { --rows; });
    } else {
        operation.row = *freeRows.begin();
        freeRows.erase(freeRows.begin());
        if (undo) undo->add([this, row = operation.row] { freeRows.insert(row); });
    }
    it.index = static_cast<uint32_t>(operations.size());
    operations.push_back(operation);
    if (undo) undo->add([this] { operations.pop_back(); });
}

void OperationStream::State::close(uint64_t number, Known& it, Undo* undo) {
    Operation& operation = operations[it.index];
    if (undo) {
        undo->add([this, index = it.index, before = operation] { operations[index] = before; });
        undo->add([this, size = steps.size()] { steps.resize(size); });
        undo->add([this, row = operation.row] { freeRows.erase(row); });
    }
    operation.end = it.end;
    operation.endedOn = it.endedOn;
    operation.code = it.code;
    operation.text = it.text;
    operation.firstStep = static_cast<uint32_t>(steps.size());
    operation.steps = static_cast<uint32_t>(it.steps.size());
    steps.insert(steps.end(), it.steps.begin(), it.steps.end());
    freeRows.insert(operation.row);
    known.erase(number);
}

template <class Place>
void OperationStream::fill(Recording& r, Place& place) {
    // At one instant ends come first, so that a row is free for what begins then.
    const auto order = [](const Event& x, const Event& y) {
        const auto rank = [](const Event& e) {
            return std::tuple(e.time, e.kind == EventKind::OperationBegin ? 1 : 0, e.lane, e.number);
        };
        return rank(x) < rank(y);
    };
    events_.withAll(order, [&](const State& state) {
        std::vector<OperationStep> openSteps;
        std::vector<std::pair<uint32_t, const State::Known*>> open;
        for (const auto& [number, known] : state.known) {
            if (known.index == kNone)
                r.repairs.endsWithoutBegin += 1;
            else
                open.emplace_back(known.index, &known);
        }
        std::sort(open.begin(), open.end());
        r.operations = Column<Operation>::of(place, state.operations);
        for (const auto& [index, known] : open) {
            Operation& operation = r.operations.writable()[index];
            operation.end = std::max(r.end, operation.begin);
            if (known->ended) {  // before it began
                operation.endedOn = known->endedOn;
                operation.code = known->code;
                operation.text = known->text;
            }
            operation.firstStep = static_cast<uint32_t>(state.steps.size() + openSteps.size());
            operation.steps = static_cast<uint32_t>(known->steps.size());
            openSteps.insert(openSteps.end(), known->steps.begin(), known->steps.end());
        }
        r.operationSteps = Column<OperationStep>::of(place, state.steps, openSteps);
        fillRows(r, place, state.rows);
    });
}

template <class Place>
void OperationStream::fillRows(Recording& r, Place& place, uint32_t rows) {
    if (r.operations.empty()) return;
    std::vector<uint32_t> from(rows + 1), order(r.operations.size());
    std::vector<int64_t> ends;
    ends.reserve(order.size());
    for (const Operation& operation : r.operations) {
        ++from[operation.row + 1];
        ends.push_back(operation.end);
    }
    for (uint32_t row = 0; row < rows; ++row) from[row + 1] += from[row];
    std::vector<uint32_t> next = from;
    for (uint32_t i = 0; i < order.size(); ++i) order[next[r.operations[i].row]++] = i;
    std::sort(ends.begin(), ends.end());
    std::vector<uint32_t> failed;
    for (uint32_t at = 0; at < order.size(); ++at)
        if (r.operations[order[at]].code) failed.push_back(at);
    r.operationsFailed = Column<uint32_t>::of(place, failed);
    r.operationsByRow = Column<uint32_t>::of(place, order);
    r.operationRowFrom = Column<uint32_t>::of(place, from);
    r.operationEnds = Column<int64_t>::of(place, ends);
}

template void OperationStream::fill(Recording&, Storage&);
template void OperationStream::fill(Recording&, Arena&);

}  // namespace fugato
