// SPDX-License-Identifier: GPL-3.0-or-later
#include "schedule.h"

namespace fugato {

void ScheduleStream::take(LaneFinds& finds) {
    for (const LaneFinds::CoreEvent& event : finds.coreEvents) {
        wakeUps_ |= event.wokenBy != LaneFinds::kNoWaker;
        events_.add(event);
    }
    finds.coreEvents.clear();
}

void ScheduleStream::State::addSpan(uint32_t thread, int64_t begin, int64_t end, ThreadState state, uint32_t core,
                                    Undo* undo) {
    const auto lane = laneOf.find(thread);
    if (lane == laneOf.end() || end <= begin) return;
    OfLane& of = listAt(lanes, lane->second);
    auto& spans = of.spans;
    if (!spans.empty() && spans.back().end > begin) begin = spans.back().end;  // clocks of cores differ slightly
    if (end <= begin) return;
    const bool step = spans.size() % kScheduleStep == 0;
    if (undo)
        undo->add([this, at = lane->second, step, sum = of.sum] {
            lanes[at].spans.tail().pop_back();
            if (step) lanes[at].sums.tail().pop_back();
            lanes[at].sum = sum;
        });
    if (step) of.sums.add(of.sum);
    of.sum.add(state, end - begin);
    spans.add({begin, end, state, core});
}

/// Since when a thread has no core; null: it has one.
void ScheduleStream::State::setOff(uint32_t thread, const Off* since, Undo* undo) {
    if (undo) {
        const auto before = off.find(thread);
        if (before == off.end())
            undo->add([this, thread] { off.erase(thread); });
        else
            undo->add([this, thread, was = before->second] { off[thread] = was; });
    }
    since ? void(off[thread] = *since) : void(off.erase(thread));
}

void ScheduleStream::State::take(const LaneFinds::CoreEvent& event, Undo* undo) {
    event.ended ? ended(event, undo) : event.wokenBy == LaneFinds::kNoWaker ? onCore(event, undo) : woken(event, undo);
}

void ScheduleStream::State::woken(const LaneFinds::CoreEvent& event, Undo* undo) {
    const auto waited = off.find(event.thread);
    if (waited == off.end() || waited->second.ready || waited->second.time > event.time) return;
    addSpan(event.thread, waited->second.time, event.time, ThreadState::Blocked, waited->second.core, undo);
    const Off since{event.time, true, kNone};
    setOff(event.thread, &since, undo);
    const auto lane = laneOf.find(event.thread), by = laneOf.find(event.wokenBy);
    if (lane == laneOf.end()) return;
    listAt(lanes, lane->second).wakeUps.add({event.time, event.wokenBy, by == laneOf.end() ? kNone : by->second});
    if (undo) undo->add([this, at = lane->second] { lanes[at].wakeUps.tail().pop_back(); });
}

void ScheduleStream::State::onCore(const LaneFinds::CoreEvent& change, Undo* undo) {
    listAt(lanes, change.core);
    if (!lanes[change.core].onCore.empty()) {
        const CoreSpan last = endLastSpan(change.core, change.time, undo);
        addSpan(last.thread, last.begin, last.end, ThreadState::Running, change.core, undo);
        const Off since{change.time, change.readyBefore, change.core};
        setOff(last.thread, &since, undo);
    }
    if (const auto waited = off.find(change.thread); waited != off.end()) {
        const Off since = waited->second;
        addSpan(change.thread, since.time, change.time, since.ready ? ThreadState::Ready : ThreadState::Blocked,
                since.core == kNone ? change.core : since.core, undo);
        setOff(change.thread, nullptr, undo);
    }
    lanes[change.core].onCore.add({change.time, change.time, change.thread});
    if (undo) undo->add([this, core = change.core] { lanes[core].onCore.tail().pop_back(); });
}

/// From here on nothing is known of the thread, and who has the core is not known before the next switch.
void ScheduleStream::State::ended(const LaneFinds::CoreEvent& event, Undo* undo) {
    listAt(lanes, event.core);
    if (const auto& spans = lanes[event.core].onCore; !spans.empty() && spans.back().thread == event.thread)
        onCore({event.time, event.core, layout::kUnknownThread, false}, undo);
    setOff(event.thread, nullptr, undo);
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
void ScheduleStream::fill(Recording& r, Place& place) {
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
    events_.withAll(byTime, place, [&](State& state) {
        state.lanes.resize(std::max(state.lanes.size(), r.lanes.size()));
        Undo undo;
        for (uint32_t i = 0; i < r.lanes.size(); ++i) {  // what lasts to the end
            if (state.lanes[i].onCore.empty()) continue;
            const CoreSpan last = state.endLastSpan(i, std::max(state.lanes[i].onCore.back().begin, r.end), &undo);
            state.addSpan(last.thread, last.begin, last.end, ThreadState::Running, i, &undo);
        }
        for (const auto& [thread, since] : state.off)
            state.addSpan(thread, since.time, r.end, since.ready ? ThreadState::Ready : ThreadState::Blocked,
                          since.core, &undo);
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

template void ScheduleStream::fill(Recording&, Storage&);
template void ScheduleStream::fill(Recording&, Arena&);

}  // namespace fugato
