// SPDX-License-Identifier: GPL-3.0-or-later
#include "schedule.h"

namespace fugato {

void ScheduleStream::take(const FoundInLane& lane) {
    for (const LaneFinds::CoreEvent& event : std::exchange(lane.finds.coreEvents, {})) {
        wakeUps_ |= event.wokenBy != LaneFinds::kNoWaker;
        events_.add(event);
    }
}

uint32_t ScheduleStream::State::position(uint32_t thread) {
    const auto [at, isNew] = positions.try_emplace(thread, static_cast<uint32_t>(threads.size()));
    if (isNew) {
        const auto lane = laneOf.find(thread);
        threads.push_back({lane == laneOf.end() ? kNone : lane->second, {}});
    }
    return at->second;
}

void ScheduleStream::State::addSpan(uint32_t lane, int64_t begin, int64_t end, ThreadState state, uint32_t core,
                                    Undo* undo) {
    if (lane == kNone || end <= begin) return;
    OfLane& of = listAt(lanes, lane);
    auto& spans = of.spans;
    if (!spans.empty() && spans.back().end > begin) begin = spans.back().end;  // clocks of cores differ slightly
    if (end <= begin) return;
    const bool step = spans.size() % kScheduleStep == 0;
    if (undo)
        undo->add([this, lane, step, sum = of.sum] {
            lanes[lane].spans.tail().pop_back();
            if (step) lanes[lane].sums.tail().pop_back();
            lanes[lane].sum = sum;
        });
    if (step) of.sums.add(of.sum);
    of.sum.add(state, end - begin);
    spans.add({begin, end, state, core});
}

/// Since when a thread has no core; nothing: it has one.
void ScheduleStream::State::setOff(uint32_t position, const std::optional<Off>& since, Undo* undo) {
    if (undo) undo->add([this, position, before = threads[position].off] { threads[position].off = before; });
    threads[position].off = since;
}

void ScheduleStream::State::take(const LaneFinds::CoreEvent& event, Undo* undo) {
    event.ended ? ended(event, undo) : event.wokenBy == LaneFinds::kNoWaker ? onCore(event, undo) : woken(event, undo);
}

void ScheduleStream::State::woken(const LaneFinds::CoreEvent& event, Undo* undo) {
    const uint32_t at = position(event.thread);
    const std::optional<Off> waited = threads[at].off;
    if (!waited || waited->ready || waited->time > event.time) return;
    const uint32_t lane = threads[at].lane;
    addSpan(lane, waited->time, event.time, ThreadState::Blocked, waited->core, undo);
    setOff(at, Off{event.time, true, kNone}, undo);
    if (lane == kNone) return;
    const auto by = laneOf.find(event.wokenBy);
    listAt(lanes, lane).wakeUps.add({event.time, event.wokenBy, by == laneOf.end() ? kNone : by->second});
    if (undo) undo->add([this, lane] { lanes[lane].wakeUps.tail().pop_back(); });
}

void ScheduleStream::State::onCore(const LaneFinds::CoreEvent& change, Undo* undo) {
    listAt(lanes, change.core);
    if (!lanes[change.core].onCore.empty()) {
        const CoreSpan last = endLastSpan(change.core, change.time, undo);
        const uint32_t before = position(last.thread);
        addSpan(threads[before].lane, last.begin, last.end, ThreadState::Running, change.core, undo);
        setOff(before, Off{change.time, change.readyBefore, change.core}, undo);
    }
    const uint32_t at = position(change.thread);
    if (const std::optional<Off> since = threads[at].off) {
        addSpan(threads[at].lane, since->time, change.time, since->ready ? ThreadState::Ready : ThreadState::Blocked,
                since->core == kNone ? change.core : since->core, undo);
        setOff(at, {}, undo);
    }
    lanes[change.core].onCore.add({change.time, change.time, change.thread});
    if (undo) undo->add([this, core = change.core] { lanes[core].onCore.tail().pop_back(); });
}

/// From here on nothing is known of the thread, and who has the core is not known before the next switch.
void ScheduleStream::State::ended(const LaneFinds::CoreEvent& event, Undo* undo) {
    listAt(lanes, event.core);
    if (const auto& spans = lanes[event.core].onCore; !spans.empty() && spans.back().thread == event.thread)
        onCore({event.time, event.core, layout::kUnknownThread, false}, undo);
    setOff(position(event.thread), {}, undo);
}

/// Sets the end of a core's last span, and returns the span.
CoreSpan ScheduleStream::State::endLastSpan(uint32_t core, int64_t end, Undo* undo) {
    GrowingList<CoreSpan>& spans = lanes[core].onCore;
    CoreSpan& last = spans.change(spans.size() - 1);
    if (undo)
        undo->add([this, core, before = last.end] {
            GrowingList<CoreSpan>& all = lanes[core].onCore;
            all.change(all.size() - 1).end = before;
        });
    last.end = end;
    return last;
}

void ScheduleStream::State::markSettled() {
    for (OfLane& of : lanes) {
        of.spans.markSettled();
        of.sums.markSettled();
        of.wakeUps.markSettled();
        of.onCore.markSettled(1);
    }
}

template <class Place>
void ScheduleStream::fill(Recording& r, Place& place, const Progress& progress) {
    if (events_.empty()) return;
    r.wakeUps = wakeUps_;
    LaneOf laneOf;
    for (uint32_t i = 0; i < r.lanes.size(); ++i)
        if (const Lane& lane = r.lanes[i]; lane.kind == LaneKind::Thread && lane.osId)
            lane.fromSystem ? void(laneOf.try_emplace(static_cast<uint32_t>(lane.osId), i))
                            : void(laneOf[static_cast<uint32_t>(lane.osId)] = i);
    if (laneOf != laneOf_) {  // a thread has got a lane: what it did before is wanted too
        laneOf_ = laneOf;
        State start;
        start.laneOf = std::move(laneOf);
        events_.restart(std::move(start));
    }
    events_.withAll(byTime, place, progress, [&](State& state) {
        state.lanes.resize(std::max(state.lanes.size(), r.lanes.size()));
        Undo undo;
        for (uint32_t i = 0; i < r.lanes.size(); ++i) {  // what lasts to the end
            if (state.lanes[i].onCore.empty()) continue;
            const CoreSpan last = state.endLastSpan(i, std::max(state.lanes[i].onCore.back().begin, r.end), &undo);
            state.addSpan(state.threads[state.position(last.thread)].lane, last.begin, last.end, ThreadState::Running,
                          i, &undo);
        }
        for (const auto& [lane, since] : state.threads)
            if (since)
                state.addSpan(lane, since->time, r.end, since->ready ? ThreadState::Ready : ThreadState::Blocked,
                              since->core, &undo);
        for (uint32_t i = 0; i < r.lanes.size(); ++i) {
            State::OfLane& of = state.lanes[i];
            r.lanes[i].schedule = of.spans.column(place);
            r.lanes[i].scheduleSums = of.sums.column(place);
            r.lanes[i].wakeUps = of.wakeUps.column(place);
            r.lanes[i].coreSpans = of.onCore.column(place);
        }
        undo.run();
    });
}

template void ScheduleStream::fill(Recording&, Storage&, const Progress&);
template void ScheduleStream::fill(Recording&, Arena&, const Progress&);

}  // namespace fugato
