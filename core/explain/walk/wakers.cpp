// SPDX-License-Identifier: GPL-3.0-or-later
#include "wakers.h"

#include <algorithm>

#include "core/model/likely_enders.h"

namespace fugato {

namespace {

/// Only from so long on a wait's waker is looked for among threads that stopped at the same instant…
constexpr int64_t kWorthFollowing = 500'000;  // ns
/// …which is as far apart…
constexpr int64_t kSameInstant = 100'000;  // ns
/// …after having run so long: a thread that stops often stops at any instant.
constexpr int64_t kRanLong = 2'000'000;  // ns

/// Between two threads none: they share a clock.
int64_t toleranceOf(const Recording& r, uint32_t lane, uint32_t other) {
    return r.lanes[lane].kind == LaneKind::Queue || r.lanes[other].kind == LaneKind::Queue ? kClockTolerance : 0;
}

/// The only thread of the program that stopped just then.
Waker likelyWaker(const Recording& recording, uint32_t lane, const ScheduleSpan& blocked) {
    Waker found;
    if (blocked.end - blocked.begin < kWorthFollowing) return found;
    for (uint32_t other = 0; other < recording.lanes.size(); ++other) {
        const auto& schedule = recording.lanes[other].schedule;
        if (other == lane || schedule.empty()) continue;
        auto stop = std::lower_bound(schedule.begin(), schedule.end(), blocked.end - kSameInstant,
                                     [](const ScheduleSpan& span, int64_t t) { return span.begin < t; });
        for (; stop != schedule.end() && stop->begin <= blocked.end + kSameInstant; ++stop) {
            if (stop->state != ThreadState::Blocked || stop == schedule.begin()) continue;
            const ScheduleSpan& ran = stop[-1];
            if (ran.state != ThreadState::Running || ran.end - ran.begin < kRanLong) continue;
            if (found.lane != kNone) return {};  // several did
            found.lane = other;
            found.time = std::min(blocked.end, ran.end);
            found.woken = found.likely = true;
        }
    }
    return found;
}

}  // namespace

int64_t usedSince(const Recording& recording, uint32_t core, int64_t begin, int64_t end) {
    if (core >= recording.lanes.size()) return begin;
    const auto& spans = recording.lanes[core].coreSpans;
    auto before = std::lower_bound(spans.begin(), spans.end(), end,
                                   [](const CoreSpan& span, int64_t t) { return span.begin < t; });
    int64_t from = end;
    while (before != spans.begin() && before[-1].end > begin && before[-1].thread != layout::kIdleThread) {
        --before;
        from = std::max(begin, before->begin);
    }
    return from;
}

int64_t contendedSince(const Recording& recording, uint32_t lane, const ScheduleSpan& ready) {
    const auto& schedule = recording.lanes[lane].schedule;
    const bool woken = &ready != schedule.begin() && (&ready)[-1].state == ThreadState::Blocked;
    return woken ? usedSince(recording, ready.core, ready.begin, ready.end) : ready.begin;
}

Waker wakerOf(const Recording& recording, uint32_t lane, const ScheduleSpan& blocked) {
    if (!recording.wakeUps) return likelyWaker(recording, lane, blocked);
    const auto& wakeUps = recording.lanes[lane].wakeUps;
    const auto at = std::lower_bound(wakeUps.begin(), wakeUps.end(), blocked.end,
                                     [](const WakeUp& wakeUp, int64_t t) { return wakeUp.time < t; });
    Waker waker;
    if (at == wakeUps.end() || at->time != blocked.end)
        return waker;  // that was not told: some idle cores tell nothing
    waker.lane = at->lane;
    waker.time = at->time;
    waker.woken = true;
    waker.system = !at->by;
    if (waker.lane == kNone) waker.thread = at->by;
    return waker;
}

bool inToldWait(const Lane& lane, const ScheduleSpan& blocked) {
    const auto after = std::upper_bound(lane.blocked.begin(), lane.blocked.end(), blocked.end - 1,
                                        [](int64_t t, const Lane::Blocked& wait) { return t < wait.begin; });
    return after != lane.blocked.begin() && after[-1].end > blocked.begin;
}

/// Who woke a lane that then went to this work at once. Who ended a wait before it did not ask for it.
static Waker wakerForWork(const Recording& recording, uint32_t lane, int64_t begin) {
    const Lane& l = recording.lanes[lane];
    if (l.wakeUps.empty()) return {};
    auto span = std::upper_bound(l.schedule.begin(), l.schedule.end(), begin,
                                 [](int64_t t, const ScheduleSpan& s) { return t < s.begin; });
    if (span == l.schedule.begin() || (--span)->state != ThreadState::Running || begin - span->begin > kSameInstant)
        return {};
    while (span != l.schedule.begin() && (--span)->state == ThreadState::Ready) {
    }
    return span->state == ThreadState::Blocked && !inToldWait(l, *span) ? wakerOf(recording, lane, *span) : Waker{};
}

Waker requesterOf(const Recording& recording, uint32_t lane, int64_t begin, int64_t end) {
    const LinkEnd* in = recording.lanes[lane].askedFor(begin, end);
    if (!in) return wakerForWork(recording, lane, begin);
    const auto source = recording.linkSource(in->link);
    if (!source || source->time > begin + toleranceOf(recording, lane, source->lane)) return {};
    return {source->lane, std::min(source->time, begin), source->path, {}};
}

Waker toldWakerOf(const Recording& recording, uint32_t lane, const Wait& wait) {
    if (wait.link) {
        const auto source = recording.linkSource(wait.link);
        if (!source || source->time > wait.end + toleranceOf(recording, lane, source->lane)) return {};
        return {source->lane, std::min(source->time, wait.end), source->path, {}};
    }
    if (wait.object == kNone || wait.kind == WaitKind::Pacing) return {};
    // Whoever gave the lock back last before the wait was over.
    const auto& holds = recording.holds[wait.object];
    auto after =
        std::upper_bound(holds.begin(), holds.end(), wait.end, [](int64_t t, const Hold& h) { return t < h.end; });
    while (after != holds.begin() && after[-1].end > wait.begin && after[-1].lane == lane) --after;
    if (after == holds.begin() || after[-1].end <= wait.begin) return {};
    return {after[-1].lane, after[-1].end, 0, {wait.object, after[-1].path, lane}};
}

/// Of the last time the lane was blocked in a wait.
static Waker wakerInSchedule(const Recording& recording, uint32_t lane, const Wait& wait) {
    const auto& schedule = recording.lanes[lane].schedule;
    auto after = std::lower_bound(schedule.begin(), schedule.end(), wait.end,
                                  [](const ScheduleSpan& span, int64_t t) { return span.begin < t; });
    while (after != schedule.begin() && (--after)->end > wait.begin)
        if (after->state == ThreadState::Blocked) return wakerOf(recording, lane, *after);
    return {};
}

Waker likelyEnderOf(const Recording& recording, uint32_t lane, const Wait& wait) {
    const auto& known = recording.likelyEnders;
    if (known.empty()) return {};
    const std::pair key(lane, recording.lanes[lane].rows[wait.row].path(wait.index));
    const auto at = std::lower_bound(known.begin(), known.end(), key,
                                     [](const LikelyEnder& e, const auto& k) { return std::pair(e.lane, e.path) < k; });
    if (at == known.end() || std::pair(at->lane, at->path) != key) return {};
    // Devices wake threads by way of the system.
    const Waker woken = wakerInSchedule(recording, lane, wait);
    if (woken.lane != kNone || woken.thread) return {};
    const EndedWork work = workEndedNear(recording, at->group, lane, wait.end);
    Waker likely;
    likely.lane = work.lane;
    likely.time = std::min(work.time, wait.end);
    likely.likely = true;
    return work.lane == kNone ? Waker{} : likely;
}

Waker wakerOf(const Recording& recording, uint32_t lane, const Wait& wait) {
    const Waker told = toldWakerOf(recording, lane, wait);
    if (told.lane != kNone || wait.kind == WaitKind::Pacing || wait.kind == WaitKind::Sleep) return told;
    const Waker woken = wakerInSchedule(recording, lane, wait);
    if (woken.lane != kNone || woken.thread) return woken;
    const Waker likely = likelyEnderOf(recording, lane, wait);
    return likely.lane != kNone ? likely : woken;
}

}  // namespace fugato
