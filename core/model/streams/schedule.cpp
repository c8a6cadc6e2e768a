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
    auto& spans = listAt(schedules, lane->second);
    if (!spans.empty() && spans.back().end > begin) begin = spans.back().end;  // clocks of cores differ slightly
    if (end <= begin) return;
    spans.push_back({begin, end, state, core});
    if (undo) undo->add([this, at = lane->second] { schedules[at].pop_back(); });
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
    event.wokenBy == LaneFinds::kNoWaker ? onCore(event, undo) : woken(event, undo);
}

void ScheduleStream::State::woken(const LaneFinds::CoreEvent& event, Undo* undo) {
    const auto waited = off.find(event.thread);
    if (waited == off.end() || waited->second.ready || waited->second.time > event.time) return;
    addSpan(event.thread, waited->second.time, event.time, ThreadState::Blocked, waited->second.core, undo);
    const Off since{event.time, true, kNone};
    setOff(event.thread, &since, undo);
    const auto lane = laneOf.find(event.thread), by = laneOf.find(event.wokenBy);
    if (lane == laneOf.end()) return;
    listAt(wakeUps, lane->second).push_back({event.time, event.wokenBy, by == laneOf.end() ? kNone : by->second});
    if (undo) undo->add([this, at = lane->second] { wakeUps[at].pop_back(); });
}

void ScheduleStream::State::onCore(const LaneFinds::CoreEvent& change, Undo* undo) {
    auto& spans = listAt(cores, change.core);
    if (!spans.empty()) {
        CoreSpan& last = spans.back();
        if (undo) undo->add([this, core = change.core, end = last.end] { cores[core].back().end = end; });
        last.end = change.time;
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
    spans.push_back({change.time, change.time, change.thread});
    if (undo) undo->add([this, core = change.core] { cores[core].pop_back(); });
}

static std::vector<TimeSplit> sumsOf(const std::vector<ScheduleSpan>& spans) {
    std::vector<TimeSplit> sums;
    TimeSplit now;
    for (size_t i = 0; i < spans.size(); ++i) {
        if (i % kScheduleStep == 0) sums.push_back(now);
        now.add(spans[i].state, spans[i].end - spans[i].begin);
    }
    return sums;
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
    events_.withAll(byTime, [&](State& state) {
        state.schedules.resize(r.lanes.size());
        state.wakeUps.resize(r.lanes.size());
        state.cores.resize(r.lanes.size());
        Undo undo;
        for (uint32_t i = 0; i < r.lanes.size(); ++i) {  // what lasts to the end
            if (state.cores[i].empty()) continue;
            CoreSpan& last = state.cores[i].back();
            undo.keep(last.end);
            last.end = std::max(last.begin, r.end);
            state.addSpan(last.thread, last.begin, last.end, ThreadState::Running, i, &undo);
        }
        for (const auto& [thread, since] : state.off)
            state.addSpan(thread, since.time, r.end, since.ready ? ThreadState::Ready : ThreadState::Blocked,
                          since.core, &undo);
        for (uint32_t i = 0; i < r.lanes.size(); ++i) {
            r.lanes[i].schedule = Column<ScheduleSpan>::of(place, state.schedules[i]);
            r.lanes[i].scheduleSums = Column<TimeSplit>::of(place, sumsOf(state.schedules[i]));
            r.lanes[i].wakeUps = Column<WakeUp>::of(place, state.wakeUps[i]);
            r.lanes[i].coreSpans = Column<CoreSpan>::of(place, state.cores[i]);
        }
        undo.run();
    });
}

template void ScheduleStream::fill(Recording&, Storage&);
template void ScheduleStream::fill(Recording&, Arena&);

}  // namespace fugato
