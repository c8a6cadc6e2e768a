// SPDX-License-Identifier: GPL-3.0-or-later
#include "critical_path.h"

#include <algorithm>

namespace fugato {

const char* segmentName(SegmentKind kind) {
    static const char* const names[] = {"running",  "wait_other", "wait_lock",  "wait_condition", "wait_job",
                                        "wait_gpu", "wait_file",  "wait_sleep", "wait_pacing",    "waking",
                                        "queued",   "idle",       "no_core",    "blocked"};
    static_assert(std::size(names) == kSegmentKinds);
    return names[static_cast<size_t>(kind)];
}

CriticalPathWalker::CriticalPathWalker(const Recording& recording)
    : recording_(recording), cursors_(recording.lanes.size()), onWay_(recording.lanes.size()) {}

LaneCursor& CriticalPathWalker::cursor(uint32_t lane) {
    std::unique_ptr<LaneCursor>& cursor = cursors_[lane];
    if (!cursor) cursor = std::make_unique<LaneCursor>(recording_, lane);
    return *cursor;
}

void CriticalPathWalker::put(uint32_t lane, int64_t begin, int64_t end, SegmentKind kind, const MarkerRef& marker,
                             PathId path, const LockVia& lock, CoreHolder holder, CoreHolder endedBy) {
    if (begin >= end) return;
    const Segment segment{begin, end, lane, path, kind, marker, lock, holder, endedBy, likely_ > 0};
    if (!sums_) {
        segments_.push_back(segment);
        return;
    }
    sums_->time(segment, end - begin);
    if (marker.valid()) cursor(lane).countUp(marker, path, [&](PathId met) { sums_->calls(lane, met, 1); });
}

namespace {

/// Goes back over [begin, end): `take(from, to, span)` for what the system says of the lane; span is null where it says
/// nothing.
template <class Take>
void backOverSchedule(const Lane& lane, int64_t begin, int64_t end, Take&& take) {
    const auto& schedule = lane.schedule;
    auto after = std::lower_bound(schedule.begin(), schedule.end(), end,
                                  [](const ScheduleSpan& span, int64_t t) { return span.begin < t; });
    while (after != schedule.begin() && end > begin) {
        const ScheduleSpan& span = *--after;
        if (span.end <= begin) break;
        const int64_t from = std::max(begin, span.begin), to = std::min(end, span.end);
        if (to < end) take(to, end, nullptr);
        take(from, to, &span);
        end = from;
    }
    if (begin < end) take(begin, end, nullptr);
}

}  // namespace

/// A range in which the lane's markers tell of no wait: time that it ran, but where the system says that it did not.
void CriticalPathWalker::putPart(uint32_t lane, int64_t begin, int64_t end, const LockVia& lock) {
    const auto ran = [&](int64_t from, int64_t to) {
        cursor(lane).addUp(from, to, spent_);
        for (const PathId path : spent_.touched) {
            MarkerSums::Sum& sum = spent_.of[path];
            if (sum.self) sums_->time({0, 0, lane, path, SegmentKind::Running, {}, lock, kNone}, sum.self);
            if (sum.calls) sums_->calls(lane, path, sum.calls);
            sum = {};
        }
        spent_.touched.clear();
    };
    int64_t ranTo = end;
    backOverSchedule(recording_.lanes[lane], begin, end, [&](int64_t from, int64_t to, const ScheduleSpan* span) {
        if (!span || span->state == ThreadState::Running) return;
        if (to < ranTo) ran(to, ranTo);
        ranTo = from;
        while (to > from) {  // who had the core, and in which marker it was wanted
            const LaneCursor::Here now = cursor(lane).at(to);
            const int64_t since = std::max(from, now.partBegin);
            putRunning(lane, since, to, now.marker, now.path, lock);
            to = since;
        }
    });
    if (begin < ranTo) ran(begin, ranTo);
}

/// Goes back over [begin, end): `take(from, to, holder)` for who had the core, leaving out `notThread`. Time in which
/// the core was idle is charged to its next holder.
template <class Take>
void CriticalPathWalker::backOverHolders(uint32_t core, int64_t begin, int64_t end, uint32_t notThread, Take&& take) {
    if (!holders_) holders_.emplace(recording_);
    const auto* spans = core < recording_.lanes.size() ? &recording_.lanes[core].coreSpans : nullptr;
    CoreHolder holder = kNone;
    int64_t to = end;
    if (spans) {
        auto at = std::lower_bound(spans->begin(), spans->end(), end,
                                   [](const CoreSpan& span, int64_t t) { return span.begin < t; });
        bool known = false;
        while (at != spans->begin() && (--at)->end > begin) {
            if (at->thread == layout::kIdleThread || at->thread == notThread) continue;
            const CoreHolder now = holders_->of(at->thread);
            const int64_t since = std::min(to, at->end);
            if (known && now != holder && since < to) {
                take(since, to, holder);
                to = since;
            }
            holder = now;
            known = true;
        }
    }
    if (begin < to) take(begin, to, holder);
}

void CriticalPathWalker::putNoCore(uint32_t lane, int64_t begin, int64_t end, uint32_t core, const MarkerRef& marker,
                                   PathId path) {
    // Whatever lock it was waited for through: what held it up is that it could not run.
    backOverHolders(core, begin, end, static_cast<uint32_t>(recording_.lanes[lane].osId),
                    [&](int64_t from, int64_t to, CoreHolder holder) {
                        put(lane, from, to, SegmentKind::NoCore, marker, path, {}, holder);
                    });
}

/// Time of which the lane's markers say as much as `as`, told apart by what the system's schedule says.
void CriticalPathWalker::putBySchedule(uint32_t lane, int64_t begin, int64_t end, const KindsBySchedule& as,
                                       const MarkerRef& marker, PathId path, const LockVia& lock) {
    // The system ends these itself; whichever thread it interrupted for that has nothing to do with it.
    const bool untilTimer = as.blocked == SegmentKind::WaitSleep || as.blocked == SegmentKind::WaitPacing;
    backOverSchedule(recording_.lanes[lane], begin, end, [&](int64_t from, int64_t to, const ScheduleSpan* span) {
        if (!span || span->state == ThreadState::Running) {
            put(lane, from, to, span ? as.ran : as.unknown, marker, path, lock);
        } else if (span->state == ThreadState::Ready) {
            const int64_t since = std::max(from, contendedSince(recording_, lane, *span));
            if (since < to) putNoCore(lane, since, to, span->core, marker, path);
            put(lane, from, std::min(since, to), SegmentKind::Waking, marker, path, lock);
        } else {
            const Waker waker = untilTimer ? Waker{} : wakerOf(recording_, lane, *span);
            if (waker.lane == kNone || waker.lane == lane || isClosed(waker.lane)) {
                if (waker.thread && !holders_) holders_.emplace(recording_);
                put(lane, from, to, as.blocked, marker, path, lock, kNone,
                    waker.system   ? kSystem
                    : waker.thread ? holders_->of(waker.thread)
                                   : kNone);
                return;
            }
            likely_ += waker.likely;
            walk(waker.lane, to, from, lock, false);
            likely_ -= waker.likely;
        }
    });
}

/// Time in which a lane's markers say that it ran; the system may know better.
void CriticalPathWalker::putRunning(uint32_t lane, int64_t begin, int64_t end, const MarkerRef& marker, PathId path,
                                    const LockVia& lock) {
    putBySchedule(lane, begin, end, {SegmentKind::Running, SegmentKind::Running, SegmentKind::Blocked}, marker, path,
                  lock);
}

/// Time in which a lane could have gone on and did not yet: as long as the core on which it then ran was in
/// use, it had none; the rest is of `kind`.
void CriticalPathWalker::putDelay(uint32_t lane, int64_t begin, int64_t end, SegmentKind kind, const MarkerRef& marker,
                                  PathId path, const LockVia& lock) {
    const auto& schedule = recording_.lanes[lane].schedule;
    if (begin < end && !schedule.empty()) {
        // Where it ran again: at the end, or before it.
        auto after = std::lower_bound(schedule.begin(), schedule.end(), end,
                                      [](const ScheduleSpan& span, int64_t t) { return span.begin < t; });
        if (after != schedule.begin() && after[-1].state == ThreadState::Running && after[-1].begin > begin) --after;
        if (after != schedule.end() && after->state == ThreadState::Running && after->begin > begin &&
            after->begin <= end && after->core < recording_.lanes.size()) {
            const int64_t from = usedSince(recording_, after->core, begin, after->begin);
            if (from < after->begin) {
                put(lane, after->begin, end, kind, marker, path, lock);
                putNoCore(lane, from, after->begin, after->core, marker, path);
                end = from;
            }
        }
    }
    put(lane, begin, end, kind, marker, path, lock);
}

void CriticalPathWalker::walk(uint32_t lane, int64_t time, int64_t from, const LockVia& lock, bool owner) {
    onWay_[lane] = true;
    ++depth_;
    while (time > from) {
        const LaneCursor::Here now = cursor(lane).at(time);
        // Each step goes back in time, also where markers that were kept lie outside those that hold them.
        const auto earlier = [&](int64_t begin) { return begin < time ? std::max(from, begin) : from; };
        int64_t begin = earlier(now.partBegin);
        if (sums_ && !now.wait && (owner || now.marker.valid())) {
            const int64_t waited = cursor(lane).waitedUntil(time);
            if (waited < time) {
                begin = earlier(owner ? waited : std::max(waited, cursor(lane).outermostBegin()));
                putPart(lane, begin, time, lock);
                time = begin;
                continue;
            }
        }
        if (!now.marker.valid()) {
            if (!owner) {
                // The work just accounted begins here: who asked for it?
                const LaneCursor::Here next = cursor(lane).at(time + 1);
                if (next.marker.valid()) {
                    const Waker asker = requesterOf(recording_, lane, time, cursor(lane).outermostEnd());
                    if (asker.lane != kNone && !(asker.time == time && isClosed(asker.lane))) {
                        // Until the lane was free it was the work before that kept this waiting.
                        const int64_t asked = std::max(from, asker.time), free = std::max(asked, begin);
                        putDelay(lane, free, time, SegmentKind::Queued, next.marker, next.path, lock);
                        if (isClosed(asker.lane)) {  // who asked for it is who waits for it
                            time = free;
                            continue;
                        }
                        if (free > asked) {
                            walk(lane, free, asked, lock, false);
                            onWay_[lane] = true;
                        }
                        walk(asker.lane, asked, from, lock, false);
                        break;
                    }
                }
                putBySchedule(lane, begin, time, {SegmentKind::Running, SegmentKind::Idle, SegmentKind::Idle}, {}, 0,
                              lock);
            } else {
                putRunning(lane, begin, time, {}, 0, lock);
            }
            time = begin;
            continue;
        }
        if (now.wait) {
            walkWait(now, time, begin, lock);
        } else {
            putRunning(lane, begin, time, now.marker, now.path, lock);
        }
        time = begin;
    }
    --depth_;
    onWay_[lane] = false;
}

void CriticalPathWalker::walkWait(const LaneCursor::Here& here, int64_t time, int64_t from, const LockVia& lock) {
    const MarkerRef& marker = here.marker;
    const Wait* wait = recording_.lanes[marker.lane].waitOf(marker);
    Waker ender = wait ? toldWakerOf(recording_, marker.lane, *wait) : Waker{};
    if (wait && ender.lane == kNone) ender = likelyEnderOf(recording_, marker.lane, *wait);
    const SegmentKind kind = pieceOf(wait ? wait->kind : WaitKind::Other);
    if (ender.lane == kNone || ender.lane == marker.lane || isClosed(ender.lane)) {
        putBySchedule(marker.lane, from, time, {kind, kind, kind}, marker, here.path, lock);
        return;
    }
    const int64_t ended = std::min(ender.time, time);  // reached while still blocked: the ender was already at work
    // What is waited for on purpose goes on after the device has finished, and so does showing a picture.
    const bool goesOn =
        kind == SegmentKind::WaitPacing || (kind == SegmentKind::WaitGpu && time - ended > kClockTolerance);
    const SegmentKind after = goesOn ? kind : SegmentKind::Waking;
    putDelay(marker.lane, std::max(from, ended), time, after, marker, here.path, lock);
    likely_ += ender.likely;
    if (ended > from) walk(ender.lane, ended, from, ender.lock.object != kNone ? ender.lock : lock, false);
    likely_ -= ender.likely;
}

void CriticalPathWalker::readyWithoutCore(uint32_t lane, int64_t begin, int64_t end, const TakeHolder& take) {
    withoutCore(lane, begin, end, false, take);
}
void CriticalPathWalker::withoutCore(uint32_t lane, int64_t begin, int64_t end, const TakeHolder& take) {
    withoutCore(lane, begin, end, true, take);
}
void CriticalPathWalker::withoutCore(uint32_t lane, int64_t begin, int64_t end, bool alsoBlocked,
                                     const TakeHolder& take) {
    const Lane& l = recording_.lanes[lane];
    auto span = std::upper_bound(l.schedule.begin(), l.schedule.end(), begin,
                                 [](int64_t t, const ScheduleSpan& s) { return t < s.end; });
    for (; span != l.schedule.end() && span->begin < end; ++span) {
        if (span->state == ThreadState::Running || (!alsoBlocked && span->state == ThreadState::Blocked)) continue;
        int64_t from = contendedSince(recording_, lane, *span);
        const auto next = span + 1;
        uint32_t core = span->core;
        if (span->state == ThreadState::Blocked) {  // how long its core was in use before it ran again
            if (next == l.schedule.end() || next->state != ThreadState::Running ||
                next->core >= recording_.lanes.size())
                continue;
            core = next->core;
            from = usedSince(recording_, core, span->begin, span->end);
        }
        if (from < span->end) backOverHolders(core, from, span->end, static_cast<uint32_t>(l.osId), take);
    }
}

std::span<const Segment> CriticalPathWalker::account(uint32_t lane, int64_t begin, int64_t end) {
    segments_.clear();
    std::fill(onWay_.begin(), onWay_.end(), false);
    walk(lane, end, begin, {}, true);
    return segments_;
}

void CriticalPathWalker::sumUp(uint32_t lane, int64_t begin, int64_t end, SegmentSums& sums) {
    for (const auto& cursor : cursors_)
        if (cursor) cursor->countAnew();
    spent_.of.resize(recording_.paths.size());
    sums_ = &sums;
    account(lane, begin, end);
    sums_ = nullptr;
}

}  // namespace fugato
