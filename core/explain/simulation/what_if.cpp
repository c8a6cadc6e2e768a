// SPDX-License-Identifier: GPL-3.0-or-later
#include "what_if.h"

#include <algorithm>
#include <cmath>
#include <functional>
#include <map>
#include <unordered_map>

#include "core/explain/causes/usual.h"
#include "core/store/long_work.h"

namespace fugato {

namespace {

constexpr uint32_t kLeadIn = 3;          // frames before a spike that are run again with it; so far may it reach
constexpr uint32_t kMostTogether = 256;  // frames of several spikes, each hardly further from the next
constexpr int64_t kGoesOn = 100'000;     // ns: a lane that begins again so soon goes on with what it was doing
constexpr double kOnTick = 0.03;         // of a tick

/// Part of a lane's time that a repair takes away.
struct Cut {
    int64_t begin = 0, end = 0;
    double part = 1;
};

/// Which series' ticks a lane waits for, and how.
class Ticks {
public:
    explicit Ticks(const Explanation& e) : e_(e), of_(e.recording->lanes.size()) {
        const std::vector<Series>& series = e.recording->series;
        for (uint32_t s = 0; s < series.size(); ++s) {
            if (series[s].frames.empty()) continue;
            Of& of = of_[series[s].frames[0].lane];
            if (of.series == kNone || s == e.series) of = {s, areFixed(s)};
        }
    }
    /// How long after the one before a tick comes that ended a wait at `end` and came so long after it as recorded.
    int64_t from(uint32_t lane, int64_t end, int64_t recorded) const {
        const uint32_t series = of_[lane].series;
        const uint32_t f = series == kNone ? kNone : e_.recording->series[series].frameAt(end - 1);
        const int64_t deadline = f == kNone ? 0 : deadlineOf(series, f);
        return deadline > 0 ? std::min(deadline, recorded) : recorded;
    }
    /// A late frame does not shift the ticks, as with those of a display.
    bool fixed(uint32_t lane) const { return of_[lane].fixed; }

private:
    struct Of {
        uint32_t series = kNone;
        bool fixed = false;
    };
    /// 0: not known. What the person set is no tick, but the best that there is.
    int64_t deadlineOf(uint32_t series, uint32_t f) const {
        const int64_t told = e_.recording->series[series].frames[f].deadline;
        return told || series != e_.series ? told : e_.deadlineOf(e_.frame(f));
    }
    /// Whether late frames last whole ticks.
    bool areFixed(uint32_t series) const {
        const auto& frames = e_.recording->series[series].frames;
        const bool explained = series == e_.series;
        size_t late = 0, onTick = 0;
        for (uint32_t f = 0; f + 1 < frames.size(); ++f) {
            const int64_t deadline = deadlineOf(series, f);
            if (deadline <= 0) continue;
            const double ticks = static_cast<double>(frames[f].duration()) / static_cast<double>(deadline);
            if (explained ? e_.pathSums->pacing(f) == 0 || !e_.frames[f].overrun : ticks < 1 + kOnTick) continue;
            ++late;
            onTick += std::abs(ticks - std::round(ticks)) < kOnTick;
        }
        return late > 0 && onTick * 5 >= late * 4;
    }
    const Explanation& e_;
    std::vector<Of> of_;  // by lane
};

/// Runs a range of the recording again with cuts, as a map from each lane's times to new ones.
class Again {
public:
    Again(const Recording& recording, const Series& series, const Ticks& ticks, int64_t begin, int64_t end)
        : r_(recording),
          series_(series),
          ticks_(ticks),
          begin_(begin),
          end_(end),
          cuts_(recording.lanes.size()),
          joints_(recording.lanes.size()) {}

    void cut(uint32_t lane, int64_t begin, int64_t end, double part) {
        begin = std::max(begin, begin_);
        if (begin < end && part > 0) cuts_[lane].push_back({begin, end, std::min(part, 1.0)});
    }
    /// The same, only while the lane ran, where that is known.
    void cutRunning(uint32_t lane, int64_t begin, int64_t end, double part) {
        const auto& schedule = r_.lanes[lane].schedule;
        if (schedule.empty()) return cut(lane, begin, end, part);
        for (auto span = firstOf(schedule, begin); span != schedule.end() && span->begin < end; ++span)
            if (span->state == ThreadState::Running)
                cut(lane, std::max(begin, span->begin), std::min(end, span->end), part);
    }
    int64_t ranFor(uint32_t lane, int64_t begin, int64_t end) const {
        const auto& schedule = r_.lanes[lane].schedule;
        if (schedule.empty()) return end - begin;
        int64_t ran = 0;
        for (auto span = firstOf(schedule, begin); span != schedule.end() && span->begin < end; ++span)
            if (span->state == ThreadState::Running) ran += std::min(end, span->end) - std::max(begin, span->begin);
        return ran;
    }
    /// What the cuts take away from all lanes together, at most; ns.
    int64_t allCuts() const {
        double sum = 0;
        for (const auto& cuts : cuts_)
            for (const Cut& cut : cuts) sum += static_cast<double>(cut.end - cut.begin) * cut.part;
        return static_cast<int64_t>(sum);
    }
    /// After the last cut. Works out all joints, the earliest first: each rests on earlier ones, so that none has to
    /// go far back. Returns false where `goOn` said so.
    bool settle(const std::function<bool()>& goOn) {
        flattenCuts();
        struct Entry {
            int64_t time;
            uint32_t lane;
            size_t index;
        };
        std::vector<Entry> order;
        for (uint32_t lane = 0; lane < r_.lanes.size(); ++lane) {
            const std::vector<Joint>& joints = jointsOf(lane);
            for (size_t i = 0; i < joints.size(); ++i) order.push_back({joints[i].time, lane, i});
        }
        std::stable_sort(order.begin(), order.end(), [](const Entry& a, const Entry& b) { return a.time < b.time; });
        for (size_t i = 0; i < order.size(); ++i) {
            if (i % 4096 == 4095 && !goOn()) return false;
            joint(order[i].lane, order[i].index);
        }
        return true;
    }

private:
    void flattenCuts() {
        for (auto& cuts : cuts_) {
            std::sort(cuts.begin(), cuts.end(), [](const Cut& a, const Cut& b) { return a.begin < b.begin; });
            // Of nested cuts (one repair inside another) the outer one counts, and what it leaves is kept.
            std::vector<Cut> flat;
            for (const Cut& cut : cuts) {
                Cut rest = cut;
                if (!flat.empty()) rest.begin = std::max(rest.begin, flat.back().end);
                if (rest.begin < rest.end) flat.push_back(rest);
            }
            cuts = std::move(flat);
        }
    }

public:
    /// When what a lane did at `time` would happen.
    int64_t at(uint32_t lane, int64_t time) { return atBefore(lane, time, SIZE_MAX); }
    /// The same for the end of a frame: what begins, and what ends on purpose, at that instant comes after it.
    int64_t atEnd(uint32_t lane, int64_t time) {
        const std::vector<Joint>& joints = jointsOf(lane);
        auto after = std::upper_bound(joints.begin(), joints.end(), time,
                                      [](int64_t t, const Joint& joint) { return t < joint.time; });
        while (after != joints.begin() && after[-1].time == time &&
               (!after[-1].wait || after[-1].wait->kind == WaitKind::Pacing))
            --after;
        return atBefore(lane, time, static_cast<size_t>(after - joints.begin()));
    }

private:
    static const ScheduleSpan* firstOf(const Column<ScheduleSpan>& schedule, int64_t begin) {
        return std::upper_bound(schedule.begin(), schedule.end(), begin,
                                [](int64_t t, const ScheduleSpan& span) { return t < span.end; });
    }

    /// An instant at which a lane had to wait for something else.
    struct Joint {
        int64_t time = 0;
        const Wait* wait = nullptr;             // that ended then
        const ScheduleSpan* blocked = nullptr;  // or: who woke the lane is known, though no wait was told
        const Hold* after = nullptr;            // or: a lock was taken that was held like this before
        uint32_t object = kNone;                // that lock
        int64_t before = 0;                     // or: work began; end of what the lane did before
        Waker asked;                            // work: where it was asked for
        enum { New, Busy, Known } state = New;
        int64_t moved = 0;
    };

    /// When a link was given out.
    int64_t atGiving(const Waker& ender) {
        if (ender.woken) return at(ender.lane, ender.time);  // its lane had gone on before it woke another
        // At the very instant at which something else begins: was it still before that?
        const MarkerRef before = r_.innermostBefore(ender.lane, ender.time),
                        after = r_.innermostBefore(ender.lane, ender.time + 1);
        const bool still = (before.valid() && r_.pathOf(before) == ender.path) || !after.valid() ||
                           !r_.paths.common(r_.pathOf(after), ender.path);
        return still ? atEnd(ender.lane, ender.time) : at(ender.lane, ender.time);
    }
    /// Counting only the first `limit` joints.
    int64_t atBefore(uint32_t lane, int64_t time, size_t limit) {
        if (time <= begin_) return time;
        const std::vector<Joint>& joints = jointsOf(lane);
        const auto last = joints.begin() + static_cast<std::ptrdiff_t>(std::min(limit, joints.size()));
        const auto after =
            std::upper_bound(joints.begin(), last, time, [](int64_t t, const Joint& joint) { return t < joint.time; });
        if (after == joints.begin()) return time - cutOf(lane, begin_, time);
        const auto index = static_cast<size_t>(after - joints.begin()) - 1;
        const int64_t from = joints[index].time;
        return joint(lane, index) + (time - from) - cutOf(lane, from, time);
    }

    std::vector<Joint>& jointsOf(uint32_t lane) {
        Lanes& of = joints_[lane];
        if (of.made) return of.joints;
        of.made = true;
        const Lane& l = r_.lanes[lane];
        for (auto wait = std::lower_bound(l.waits.begin(), l.waits.end(), begin_,
                                          [](const Wait&w, int64_t t) { return w.begin < t; });
             wait != l.waits.end() && wait->begin < end_; ++wait) {
            if (wait->end <= begin_) continue;
            Joint joint;
            joint.time = wait->end;
            joint.wait = &*wait;
            const bool known = wait->kind == WaitKind::Pacing || wakerOf(r_, lane, *wait).lane != kNone;
            if (known) of.joints.push_back(joint);
        }
        if (!l.rows.empty()) {
            const MarkerRow& row = l.rows[0];
            int64_t before = begin_;
            uint32_t i = row.firstFrom(begin_);
            if (i > 0) before = row.end(i - 1);
            for (; i < row.size() && row.begin(i) < end_; ++i) {
                const int64_t begin = row.begin(i), end = row.end(i);
                Joint joint;
                joint.time = begin;
                joint.before = before;
                joint.asked = requesterOf(r_, lane, begin, end);
                if (joint.asked.lane != kNone || (begin > before + kGoesOn && lane != ownLane()))
                    of.joints.push_back(joint);
                before = std::max(before, end);
            }
        }
        addWakeUps(lane, of.joints);
        addLocks(lane, of.joints);
        const auto rank = [](const Joint& j) {
            return j.after ? 3 : j.blocked ? 0 : !j.wait ? 1 : j.wait->begin < j.time ? 0 : 2;
        };
        std::stable_sort(of.joints.begin(), of.joints.end(), [&](const Joint& a, const Joint& b) {
            return a.time != b.time ? a.time < b.time : rank(a) < rank(b);
        });
        return of.joints;
    }

    /// Blocked time outside any wait that was told, where another lane ended it.
    void addWakeUps(uint32_t lane, std::vector<Joint>& joints) const {
        const Lane& l = r_.lanes[lane];
        for (auto span = firstOf(l.schedule, begin_); span != l.schedule.end() && span->begin < end_; ++span) {
            if (span->state != ThreadState::Blocked || span->end <= begin_) continue;
            if (inToldWait(l, *span)) continue;
            if (wakerOf(r_, lane, *span).lane == kNone) continue;
            Joint joint;
            joint.time = span->end;
            joint.blocked = span;
            joints.push_back(joint);
        }
    }

    /// Whoever takes a lock does so after those who held it before, also where it was free long since, and where the
    /// lane itself held it in between: it may have come earlier.
    void addLocks(uint32_t lane, std::vector<Joint>& joints) const {
        for (const auto& holds : r_.holds) {
            auto hold = std::lower_bound(holds.begin(), holds.end(), begin_,
                                         [](const Hold& h, int64_t t) { return h.end < t; });
            const Hold* other = nullptr;  // the last one of another lane's
            for (; hold != holds.end() && hold->begin < end_; ++hold) {
                if (hold->lane != lane) {
                    other = &*hold;
                    continue;
                }
                if (!other || hold->begin <= begin_ || other->end > hold->begin || other->end <= begin_) continue;
                Joint joint;
                joint.time = hold->begin;
                joint.after = other;
                joint.object = static_cast<uint32_t>(&holds - r_.holds.data());
                joints.push_back(joint);
            }
        }
    }

    int64_t joint(uint32_t lane, size_t index) {
        std::vector<Joint>& joints = jointsOf(lane);
        if (joints[index].state == Joint::Known) return joints[index].moved;
        if (joints[index].state == Joint::Busy) return joints[index].time;  // a circle: leave it where it was
        joints[index].state = Joint::Busy;
        const Joint joint = joints[index];
        const int64_t moved = joint.after
                                  ? freeAfter(joint.object, joint.after, lane, atBefore(lane, joint.time, index))
                              : joint.wait    ? afterWait(lane, *joint.wait, index)
                              : joint.blocked ? afterWakeUp(lane, *joint.blocked, index)
                                              : beginOf(lane, joint, index);
        joints[index].state = Joint::Known;
        // Repairs never make anything later.
        return joints[index].moved = std::min(moved, joints[index].time);
    }

    int64_t afterWakeUp(uint32_t lane, const ScheduleSpan& blocked, size_t index) {
        const Waker waker = wakerOf(r_, lane, blocked);
        return std::max(atBefore(lane, blocked.begin, index), at(waker.lane, waker.time));
    }

    int64_t afterWait(uint32_t lane, const Wait& wait, size_t index) {
        const int64_t arrived = atBefore(lane, wait.begin, index);
        const Waker ender = wakerOf(r_, lane, wait);
        if (wait.kind == WaitKind::Pacing) {  // the device may keep the display waiting, too
            const int64_t ready = ender.lane == kNone ? arrived : std::max(arrived, atGiving(ender));
            return paced(lane, wait, ready, index);
        }
        const int64_t since = std::max(ender.time, wait.begin);
        const int64_t waking = wait.end - since - cutOf(lane, since, wait.end);
        if (ender.lock.object != kNone) {
            const auto& holds = r_.holds[ender.lock.object];
            const auto last = std::upper_bound(holds.begin(), holds.end(), ender.time,
                                               [](int64_t t, const Hold& hold) { return t < hold.end; });
            const int64_t free = freeAfter(ender.lock.object, last - 1, lane, arrived);
            return free > arrived ? free + waking : arrived;
        }
        int64_t ended = atGiving(ender);
        ended = std::max(ended, siblingsEnd(lane, wait, ender));
        return std::max(arrived, ended) + waking;
    }

    /// When a lane that wants a lock at `arrived` gets it, where `last` held it before: whoever would take it only
    /// later comes later now.
    int64_t freeAfter(uint32_t object, const Hold* last, uint32_t lane, int64_t arrived) {
        const auto& holds = r_.holds[object];
        for (const Hold* hold = last; hold >= holds.begin() && hold->end > begin_ && hold->lane != lane; --hold)
            if (at(hold->lane, hold->begin) <= arrived) return std::max(arrived, atEnd(hold->lane, hold->end));
        return arrived;
    }

    /// On which the frames are counted.
    uint32_t ownLane() const { return series_.frames.empty() ? kNone : series_.frames[0].lane; }

    /// The next tick after `arrived`. Ticks follow each other at the pace of the lane's frames; where a late frame
    /// does not shift them, it goes on at one of the old ones.
    int64_t paced(uint32_t lane, const Wait& wait, int64_t arrived, size_t index) {
        const std::vector<Joint>& joints = jointsOf(lane);
        size_t before = index;
        while (before-- > 0)
            if (joints[before].wait && joints[before].wait->kind == WaitKind::Pacing) break;
        if (before == SIZE_MAX) return std::max(arrived, wait.end);
        const int64_t last = joints[before].time, movedLast = joint(lane, before);
        const int64_t tick = ticks_.from(lane, wait.end, wait.end - last);
        int64_t next = movedLast + tick;
        if (ticks_.fixed(lane) && tick > 0 && next < arrived) next += (arrived - next + tick - 1) / tick * tick;
        return std::max(arrived, next);
    }

    /// Work asked for together with what ended the wait is waited for too.
    int64_t siblingsEnd(uint32_t lane, const Wait& wait, const Waker& ender) {
        if (wait.kind != WaitKind::Job && wait.kind != WaitKind::Condition && wait.kind != WaitKind::Other)
            return INT64_MIN;
        int64_t latest = INT64_MIN;
        const std::vector<Work>& works = askedBy(lane);
        for (auto work = std::upper_bound(works.begin(), works.end(), wait.begin,
                                          [](int64_t t, const Work&w) { return t < w.end; });
             work != works.end() && work->end <= wait.end; ++work)
            if (work->lane != ender.lane) latest = std::max(latest, atEnd(work->lane, work->end));
        return latest;
    }

    struct Work {
        uint32_t lane;
        int64_t end;
    };
    /// The work that a lane asked others to do, in the range.
    const std::vector<Work>& askedBy(uint32_t asker) {
        if (!worksMade_) {
            worksMade_ = true;
            for (uint32_t lane = 0; lane < r_.lanes.size(); ++lane) {
                const Lane& l = r_.lanes[lane];
                if (l.rows.empty() || l.kind != LaneKind::Thread) continue;
                for (auto in = std::lower_bound(l.linkIns.begin(), l.linkIns.end(), begin_,
                                                [](const LinkEnd&link, int64_t t) { return link.time < t; });
                     in != l.linkIns.end() && in->time < end_; ++in) {
                    const auto source = in->endsWait ? nullptr : r_.linkSource(in->link);
                    if (!source || source->lane == lane || source->time < begin_) continue;
                    const uint32_t root = l.rows[0].lastBefore(in->time + 1);
                    if (root == kNone || l.rows[0].end(root) < in->time || source->time > l.rows[0].begin(root))
                        continue;
                    works_[source->lane].push_back({lane, l.rows[0].end(root)});
                }
            }
            for (auto& [asked, works] : works_)
                std::sort(works.begin(), works.end(), [](const Work& a, const Work& b) { return a.end < b.end; });
        }
        return works_[asker];  // sorted by end
    }

    int64_t beginOf(uint32_t lane, const Joint& joint, size_t index) {
        // Nobody knows why the lane began then: it does so again, as long after the frame's begin as it did, less what
        // is repaired of the time in between (it had no core, for example).
        if (joint.asked.lane == kNone) {
            const uint32_t f = series_.frameAt(joint.time);
            if (f == kNone || series_.frames[f].begin <= begin_) return joint.time;
            const Frame& frame = series_.frames[f];
            const int64_t shift = frame.begin - at(frame.lane, frame.begin);
            const int64_t repaired = cutOf(lane, std::max(joint.before, frame.begin), joint.time);
            return std::max(atBefore(lane, joint.before, index), joint.time - shift - repaired);
        }
        const int64_t free = atBefore(lane, joint.before, index), asked = atGiving(joint.asked);
        const int64_t since = std::max(joint.before, joint.asked.time);
        const int64_t delay = std::max<int64_t>(0, joint.time - since - cutOf(lane, since, joint.time));
        return std::max(free, asked) + delay;
    }

    int64_t cutOf(uint32_t lane, int64_t begin, int64_t end) const {
        double sum = 0;
        const auto& cuts = cuts_[lane];
        for (auto cut =
                 std::upper_bound(cuts.begin(), cuts.end(), begin, [](int64_t t, const Cut&c) { return t < c.end; });
             cut != cuts.end() && cut->begin < end; ++cut)
            sum += static_cast<double>(std::min(end, cut->end) - std::max(begin, cut->begin)) * cut->part;
        return static_cast<int64_t>(sum);
    }

    struct Lanes {
        bool made = false;
        std::vector<Joint> joints;
    };
    const Recording& r_;
    const Series& series_;
    const Ticks& ticks_;
    const int64_t begin_, end_;
    std::vector<std::vector<Cut>> cuts_;
    std::vector<Lanes> joints_;
    bool worksMade_ = false;
    std::unordered_map<uint32_t, std::vector<Work>> works_;
};

class Predicting {
public:
    Predicting(const Explanation& e, const std::vector<Repair>& repairs)
        : e_(e), r_(*e.recording), accountant_(r_), ticks_(e), repairs_(repairs), repaired_(e.causes.size()) {
        for (const Repair& repair : repairs) repaired_[repair.cause] = true;
    }

    /// Predicts the frames [first, last] into `out`: spikes so near each other that the later ones may follow from the
    /// earlier. Returns false where `goOn` said so.
    bool runAgain(uint32_t first, uint32_t last, Prediction& out, const std::function<bool()>& goOn) {
        bool named = false;  // one of the causes to be repaired was found in these frames
        int64_t leastOverrun = INT64_MAX;
        uint32_t from = first;
        for (uint32_t f = first; f <= last; ++f) {
            const FrameVerdict& verdict = e_.frames[f];
            if (!verdict.overrun) continue;
            leastOverrun = std::min(leastOverrun, verdict.overrun);
            from = std::min(from, verdict.origin);
            for (const CauseShare& share : e_.sharesOf(verdict)) named |= repaired_[share.cause];
        }
        from = from > kLeadIn ? from - kLeadIn : 0;
        const int64_t begin = e_.frame(from).begin, end = e_.frame(last).end + 1;
        Again again(r_, r_.series[e_.series], ticks_, begin, end);
        for (const Repair& repair : repairs_) cuts(repair, from, last, begin, end, again);
        // Else it may have been at work just before; where that was little, these frames would be late all the same.
        if (!named && again.allCuts() < leastOverrun) return true;
        if (!again.settle(goOn)) return false;
        for (uint32_t f = first; f <= last; ++f) out.duration[f] = duration(f, again);
        return true;
    }

    /// By cause.
    const std::vector<bool>& repaired() const { return repaired_; }

private:
    void cuts(const Repair& repair, uint32_t first, uint32_t last, int64_t begin, int64_t end, Again& again) {
        const Cause& cause = e_.causes[repair.cause];
        if (cause.kind == CauseKind::NoCore) {
            // Wherever it was, also beside what the frames waited for.
            for (uint32_t lane = 0; lane < r_.lanes.size(); ++lane)
                if (r_.lanes[lane].kind == LaneKind::Thread)
                    accountant_.withoutCore(lane, begin, end, [&](int64_t from, int64_t to, CoreHolder holder) {
                        if (contentionBy(holder) == cause.contention) again.cut(lane, from, to, 1);
                    });
        } else if (cause.object != kNone) {
            const auto& holds = r_.holds[cause.object];
            const double usual = repair.gone ? 0 : usualHold(cause);
            for (auto hold = std::lower_bound(holds.begin(), holds.end(), begin,
                                              [](const Hold&h, int64_t t) { return h.end < t; });
                 hold != holds.end() && hold->begin < end; ++hold) {
                const auto length = static_cast<double>(hold->end - hold->begin);
                if (hold->path == cause.path && length > usual)
                    again.cut(hold->lane, hold->begin, hold->end, (length - usual) / length);
            }
        } else if (cause.path && cause.key.function == kNone) {
            occurrences(repair, cause, first, last, begin, end, again);
        } else {
            ownTime(repair, cause, first, last, again);
        }
    }

    /// Time outside any marker, or of a marker beside those in it, in the late frames that have this cause.
    void ownTime(const Repair& repair, const Cause& cause, uint32_t first, uint32_t last, Again& again) {
        const auto isOfCause = [&](const PartKey& key) {
            return key.path == cause.path && key.group == cause.group && key.kind == cause.segment &&
                   key.object == kNone;
        };
        for (auto at = std::lower_bound(cause.frames.begin(), cause.frames.end(), first);
             at != cause.frames.end() && *at <= last; ++at) {
            int64_t time = 0, usual = 0;
            for (const ExcessPart& part : e_.excessOf(*at)) {
                if (!isOfCause(part.key)) continue;
                time += part.ns;
                usual += part.usual;
            }
            if (time <= 0 || (time <= usual && !repair.gone)) continue;
            const double part = repair.gone ? 1 : static_cast<double>(time - usual) / static_cast<double>(time);
            const Frame& frame = e_.frame(*at);
            for (const Segment& segment : accountant_.account(frame.lane, frame.begin, frame.end))
                if (isOfCause({r_.lanes[segment.lane].group, segment.path, segment.kind, segment.lock.object}))
                    again.cut(segment.lane, segment.begin, segment.end, part);
        }
    }

    /// The median of those in frames that met their deadline; 0 where there are none.
    double usualHold(const Cause& cause) {
        const auto [at, isNew] = usualHold_.try_emplace({cause.object, cause.path}, 0);
        if (!isNew) return at->second;
        const auto& holds = r_.holds[cause.object];
        std::vector<double> lengths;
        const size_t step = holds.size() / 65536 + 1;
        for (size_t i = 0; i < holds.size(); i += step) {
            if (holds[i].path != cause.path) continue;
            const Series& series = r_.series[e_.series];
            const uint32_t from = series.frameAt(holds[i].begin), to = series.frameAt(holds[i].end);
            if (from != kNone && !e_.frames[from].overrun && !e_.frames[to].overrun)
                lengths.push_back(static_cast<double>(holds[i].end - holds[i].begin));
        }
        if (lengths.empty()) return 0;
        const auto middle = lengths.begin() + static_cast<std::ptrdiff_t>((lengths.size() - 1) / 2);
        std::nth_element(lengths.begin(), middle, lengths.end());
        return at->second = *middle;
    }

    void occurrences(const Repair& repair, const Cause& cause, uint32_t first, uint32_t last, int64_t begin,
                     int64_t end, Again& again) {
        const uint32_t baseline = e_.frames[last].baseline;
        const UsualOccurrence usual = e_.occurrences->of(e_, baseline, cause.group, cause.path);
        const bool gone = repair.gone || cause.kind == CauseKind::Unusual;
        const uint32_t depth = r_.paths[cause.path].depth;
        for (const uint32_t lane : r_.groups[cause.group].lanes) {
            if (r_.lanes[lane].rows.size() < depth) continue;
            const MarkerRow& row = r_.lanes[lane].rows[depth - 1];
            const auto [from, to] = row.overlapping(begin, end);
            uint32_t frame = first;
            double most = 0, seen = 0;  // of the calls in a frame
            row.forEach(from, to, [&](uint32_t, int64_t at, int64_t duration, uint32_t path, uint8_t) {
                if (row.pathOf(path) != cause.path) return;
                if (gone) return again.cut(lane, at, at + duration, 1);
                if (cause.kind == CauseKind::MoreCalls) {  // the calls beyond the usual number
                    while (frame < last && at >= e_.frame(frame + 1).begin) {
                        ++frame;
                        seen = 0;
                    }
                    most = cause.usualCalls > 0 ? cause.usualCalls : usual.calls;
                    if (++seen > most) again.cut(lane, at, at + duration, 1);
                    return;
                }
                const bool waits = cause.kind == CauseKind::Waiting;
                const auto length = static_cast<double>(waits ? duration : again.ranFor(lane, at, at + duration));
                if (length <= usual.middleNs) return;
                const double part = (length - usual.middleNs) / length;
                waits ? again.cut(lane, at, at + duration, part) : again.cutRunning(lane, at, at + duration, part);
            });
        }
    }

    int64_t duration(uint32_t f, Again& again) {
        const Frame& frame = e_.frame(f);
        const int64_t begin = again.at(frame.lane, frame.begin);
        if (e_.pathSums->pacing(f) == 0) return std::max<int64_t>(0, again.atEnd(frame.lane, frame.end) - begin);
        return std::max<int64_t>(0, again.at(frame.lane, frame.end) - begin);
    }

    const Explanation& e_;
    const Recording& r_;
    CriticalPathWalker accountant_;
    const Ticks ticks_;
    const std::vector<Repair>& repairs_;
    std::vector<bool> repaired_;  // by cause
    std::map<std::pair<uint32_t, PathId>, double> usualHold_;
};

}  // namespace

/// Of the causes of a spike's frames that were not repaired, or kNone.
static uint32_t costliestLeft(const Explanation& e, const Spike& spike, const std::vector<bool>& repaired) {
    std::map<uint32_t, int64_t> late;
    for (uint32_t f = spike.first; f <= spike.last; ++f)
        for (const CauseShare& share : e.sharesOf(f))
            if (!repaired[share.cause]) late[share.cause] += share.late;
    const auto most = std::max_element(late.begin(), late.end(), [](auto& a, auto& b) { return a.second < b.second; });
    return most == late.end() ? kNone : most->first;
}

std::shared_ptr<const Prediction> predict(const Explanation& e, std::vector<Repair> repairs, const Progress& progress) {
    longWork("a prediction");
    auto prediction = std::make_shared<Prediction>();
    Prediction& p = *prediction;
    p.repairs = std::move(repairs);
    p.duration.resize(e.frames.size());
    p.overrun.resize(e.frames.size());
    p.lateBy.resize(e.causes.size());
    for (uint32_t f = 0; f < e.frames.size(); ++f) p.duration[f] = e.frame(f).duration();
    Predicting predicting(e, p.repairs);
    const std::vector<Spike>& spikes = e.spikes;
    for (size_t i = 0, next = 0; i < spikes.size(); i = next) {
        const auto goOn = [&] {
            return !progress || progress(static_cast<double>(i) / static_cast<double>(spikes.size()));
        };
        for (next = i + 1; next < spikes.size(); ++next)
            if (spikes[next].first - spikes[next - 1].last > kLeadIn ||
                spikes[next].last - spikes[i].first > kMostTogether)
                break;
        if (!goOn() || !predicting.runAgain(spikes[i].first, spikes[next - 1].last, p, goOn)) return nullptr;
    }
    const std::vector<bool>& repaired = predicting.repaired();
    std::pair<uint32_t, uint32_t> beside{kNone, kNone};  // a spike, and its costliest cause that is left
    for (uint32_t f = 0; f < e.frames.size(); ++f) {
        const FrameVerdict& verdict = e.frames[f];
        if (!verdict.overrun) continue;
        const bool changed = p.duration[f] != e.frame(f).duration();
        const int64_t slack = e.pathSums->pacing(f) ? verdict.deadline / 2  // see judge()
                              : e.timer.tick        ? e.timer.longest - verdict.deadline
                                                    : 0;
        const int64_t overrun = p.duration[f] - verdict.deadline;
        p.overrun[f] = !changed ? verdict.overrun : overrun > slack ? overrun : 0;
        p.late += p.overrun[f];
        p.over += p.overrun[f] > 0;
        p.saved += p.overrun[f] == 0;
        // What is left of it stays with the causes that are left; where none of its own are, what delays it now delayed
        // a frame beside it before.
        double others = 0;
        for (const CauseShare& share : e.sharesOf(verdict))
            if (!repaired[share.cause]) others += static_cast<double>(share.late);
        if (others > 0)
            for (const CauseShare& share : e.sharesOf(verdict))
                if (!repaired[share.cause])
                    p.lateBy[share.cause] += static_cast<int64_t>(static_cast<double>(p.overrun[f]) *
                                                                  static_cast<double>(share.late) / others);
        if (others > 0 || !p.overrun[f]) continue;
        if (beside.first != verdict.spike)
            beside = {verdict.spike, costliestLeft(e, e.spikes[verdict.spike], repaired)};
        if (beside.second != kNone) p.lateBy[beside.second] += p.overrun[f];
    }
    for (uint32_t c = 0; c < e.causes.size(); ++c)
        if (p.lateBy[c] > 0 && (p.nextCause == kNone || p.lateBy[c] > p.lateBy[p.nextCause])) p.nextCause = c;
    return prediction;
}

std::shared_ptr<const Prediction> carriedOver(const Prediction& prediction, const Explanation& from,
                                              const Explanation& to) {
    auto out = std::make_shared<Prediction>(prediction);
    const auto now = [&](uint32_t cause) {
        return cause < from.causes.size() ? to.causeLike(from.causes[cause].key) : kNone;
    };
    out->repairs.clear();
    for (const Repair& repair : prediction.repairs)
        if (const uint32_t cause = now(repair.cause); cause != kNone) out->repairs.push_back({cause, repair.gone});
    out->nextCause = now(prediction.nextCause);
    const size_t known = std::min(prediction.overrun.size(), to.frames.size());
    out->duration.resize(known);
    out->overrun.resize(known);
    for (size_t f = known; f < to.frames.size(); ++f) {
        out->duration.push_back(to.frame(static_cast<uint32_t>(f)).duration());
        out->overrun.push_back(to.frames[f].overrun);
    }
    out->over = 0;
    out->late = 0;
    for (const int64_t overrun : out->overrun) {
        out->over += overrun > 0;
        out->late += overrun;
    }
    out->lateBy.clear();
    for (const Cause& cause : to.causes) {
        const uint32_t before = from.causeLike(cause.key);
        out->lateBy.push_back(before < prediction.lateBy.size() ? prediction.lateBy[before] : cause.late);
    }
    return out;
}

}  // namespace fugato
