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
                             PathId path, const LockVia& lock, CoreHolder coreHolder) {
    if (begin >= end) return;
    const Segment segment{begin, end, lane, path, kind, marker, lock, coreHolder};
    if (!sums_) {
        segments_.push_back(segment);
        return;
    }
    sums_->time(segment, end - begin);
    if (marker.valid()) cursor(lane).countUp(marker, path, [&](PathId met) { sums_->calls(lane, met, 1); });
}

namespace {

/// Goes back over [begin, end): `ran(from, to)` where nothing says that the lane did not run, `stopped(span, from, to)`
/// where the system does.
template <class Ran, class Stopped>
void backOverSchedule(const Lane& lane, int64_t begin, int64_t end, Ran&& ran, Stopped&& stopped) {
    const auto& schedule = lane.schedule;
    auto after = std::lower_bound(schedule.begin(), schedule.end(), end,
                                  [](const ScheduleSpan& span, int64_t t) { return span.begin < t; });
    while (after != schedule.begin() && end > begin) {
        const ScheduleSpan& span = *--after;
        if (span.end <= begin) break;
        if (span.state == ThreadState::Running) continue;
        const int64_t from = std::max(begin, span.begin), to = std::min(end, span.end);
        if (to < end) ran(to, end);
        stopped(span, from, to);
        end = from;
    }
    if (begin < end) ran(begin, end);
}

}  // namespace

/// A stretch in which the lane's markers tell of no wait: time that it ran, but where the system says that it did not.
void CriticalPathWalker::putStretch(uint32_t lane, int64_t begin, int64_t end, const LockVia& lock) {
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
    const auto stopped = [&](const ScheduleSpan&, int64_t from, int64_t to) {
        while (to > from) {  // who had the core, and in which marker it was wanted
            const LaneCursor::Here now = cursor(lane).at(to);
            const int64_t since = std::max(from, now.stretchBegin);
            putRunning(lane, since, to, now.marker, now.path, lock);
            to = since;
        }
    };
    backOverSchedule(recording_.lanes[lane], begin, end, ran, stopped);
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

/// Time in which a lane's markers say that it ran; the system may know better.
void CriticalPathWalker::putRunning(uint32_t lane, int64_t begin, int64_t end, const MarkerRef& marker, PathId path,
                                    const LockVia& lock) {
    const auto ran = [&](int64_t from, int64_t to) { put(lane, from, to, SegmentKind::Running, marker, path, lock); };
    const auto stopped = [&](const ScheduleSpan& span, int64_t from, int64_t to) {
        if (span.state == ThreadState::Ready)
            putNoCore(lane, from, to, span.core, marker, path);
        else
            put(lane, from, to, SegmentKind::Blocked, marker, path, lock);
    };
    backOverSchedule(recording_.lanes[lane], begin, end, ran, stopped);
}

/// Since when, from `begin` on, a core was in use without a break until `end`; `end` where it was idle then.
int64_t CriticalPathWalker::usedSince(uint32_t core, int64_t begin, int64_t end) const {
    const auto& spans = recording_.lanes[core].coreSpans;
    auto before = std::lower_bound(spans.begin(), spans.end(), end,
                                   [](const CoreSpan& span, int64_t t) { return span.begin < t; });
    int64_t from = end;
    while (before != spans.begin() && before[-1].end > begin && before[-1].thread != layout::kIdleThread) {
        --before;
        from = std::max(begin, before->begin);
    }
    return from;
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
            const int64_t from = usedSince(after->core, begin, after->begin);
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
    while (time > from) {
        const LaneCursor::Here now = cursor(lane).at(time);
        // Each step goes back in time, also where markers that were kept lie outside those that hold them.
        const auto earlier = [&](int64_t begin) { return begin < time ? std::max(from, begin) : from; };
        int64_t begin = earlier(now.stretchBegin);
        if (sums_ && !now.wait && (owner || now.marker.valid())) {
            const int64_t waited = cursor(lane).waitedUntil(time);
            if (waited < time) {
                begin = earlier(owner ? waited : std::max(waited, cursor(lane).outermostBegin()));
                putStretch(lane, begin, time, lock);
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
                    if (asker.lane != kNone && !(asker.time == time && onWay_[asker.lane])) {
                        // Until the lane was free it was the work before that kept this waiting.
                        const int64_t asked = std::max(from, asker.time), free = std::max(asked, begin);
                        putDelay(lane, free, time, SegmentKind::Queued, next.marker, next.path, lock);
                        if (onWay_[asker.lane]) {  // who asked for it is who waits for it
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
                put(lane, begin, time, SegmentKind::Idle, {}, 0, lock);
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
    onWay_[lane] = false;
}

/// Between two threads none: they share a clock.
static int64_t toleranceOf(const Recording& r, uint32_t lane, uint32_t other) {
    return r.lanes[lane].kind == LaneKind::Queue || r.lanes[other].kind == LaneKind::Queue ? kClockTolerance : 0;
}

Waker requesterOf(const Recording& recording, uint32_t lane, int64_t begin, int64_t end) {
    const LinkEnd* in = recording.lanes[lane].askedFor(begin, end);
    const auto source = in ? recording.linkSource(in->link) : nullptr;
    if (!source || source->time > begin + toleranceOf(recording, lane, source->lane)) return {};
    return {source->lane, std::min(source->time, begin), source->path, {}};
}

Waker wakerOf(const Recording& recording, uint32_t lane, const Wait& wait) {
    if (wait.kind == WaitKind::Pacing) return {};
    if (wait.link) {
        const auto source = recording.linkSource(wait.link);
        if (!source || source->time > wait.end + toleranceOf(recording, lane, source->lane)) return {};
        return {source->lane, std::min(source->time, wait.end), source->path, {}};
    }
    if (wait.object == kNone) return {};
    // Whoever gave the lock back last before the wait was over.
    const auto& holds = recording.holds[wait.object];
    auto after =
        std::upper_bound(holds.begin(), holds.end(), wait.end, [](int64_t t, const Hold& h) { return t < h.end; });
    while (after != holds.begin() && after[-1].end > wait.begin && after[-1].lane == lane) --after;
    if (after == holds.begin() || after[-1].end <= wait.begin) return {};
    return {after[-1].lane, after[-1].end, 0, {wait.object, after[-1].path, lane}};
}

void CriticalPathWalker::walkWait(const LaneCursor::Here& here, int64_t time, int64_t from, const LockVia& lock) {
    const MarkerRef& marker = here.marker;
    const Wait* wait = recording_.lanes[marker.lane].waitOf(marker);
    const Waker ender = wait ? wakerOf(recording_, marker.lane, *wait) : Waker{};
    if (ender.lane == kNone || ender.lane == marker.lane || onWay_[ender.lane]) {
        put(marker.lane, from, time, pieceOf(wait ? wait->kind : WaitKind::Other), marker, here.path, lock);
        return;
    }
    const int64_t ended = std::min(ender.time, time);  // reached while still blocked: the ender was already at work
    putDelay(marker.lane, std::max(from, ended), time, SegmentKind::Waking, marker, here.path, lock);
    if (ended > from) walk(ender.lane, ended, from, ender.lock.object != kNone ? ender.lock : lock, false);
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
        int64_t from = span->begin;
        const auto next = span + 1;
        uint32_t core = span->core;
        if (span->state == ThreadState::Blocked) {  // how long its core was in use before it ran again
            if (next == l.schedule.end() || next->state != ThreadState::Running ||
                next->core >= recording_.lanes.size())
                continue;
            core = next->core;
            from = usedSince(core, span->begin, span->end);
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
