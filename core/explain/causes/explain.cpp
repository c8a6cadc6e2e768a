// SPDX-License-Identifier: GPL-3.0-or-later
#include "explain.h"

#include <algorithm>
#include <atomic>
#include <cctype>
#include <map>
#include <tuple>

#include "cause_arguments.h"
#include "cause_functions.h"
#include "comes_before.h"
#include "core/store/long_work.h"
#include "core/store/side_by_side.h"
#include "excess_tree.h"
#include "gathering.h"
#include "timer_pacing.h"

namespace fugato {

namespace {

constexpr uint32_t kSettledAtOnce = 512;  // frames: the settled part grows by at least so many at once

FrameVerdict verdictOf(const Explanation& e, uint32_t index, const Bound& bound) {
    int64_t sleep = 0;
    if (e.timer.tick)
        for (const Part& part : e.pathSums->partsOf(index))
            if (part.key == e.timer.key) sleep += part.ns;
    FrameVerdict v = e.judged(e.frame(index), e.pathSums->pacing(index), sleep);
    v.bound = bound.by;
    v.boundGroup = bound.group;
    return v;
}

bool isLoading(std::string_view stage) {
    std::string words(stage);
    std::transform(words.begin(), words.end(), words.begin(), [](unsigned char c) { return std::tolower(c); });
    const char* const names[] = {"load", "start up", "starting", "start-up", "startup", "boot", "initial"};
    return std::any_of(std::begin(names), std::end(names),
                       [&](const char* name) { return words.find(name) != std::string::npos; });
}

/// Which frames from `first` on belong to the program's starting up or loading: by the name of their stage; and those
/// at the begin, where one of them lasts very long.
void findStartUp(Explanation& e, uint32_t first) {
    const auto count = static_cast<uint32_t>(e.frames.size());
    if (e.recording->stages())
        for (uint32_t i = first; i < count; ++i)
            if (const StateSpan* stage = e.recording->stageAt(e.frame(i).begin))
                e.frames.change(i).startUp = isLoading(e.recording->text(stage->value));
    const auto most = std::max<uint32_t>(1, static_cast<uint32_t>(kStartUpPart * count));
    uint32_t end = 0;
    bool veryLong = false;
    for (uint32_t i = 0, good = 0; first == 0 && i < std::min(count, most) && good < kStartedFrames; ++i) {
        good = e.frames[i].overrun ? 0 : good + 1;
        if (!e.frames[i].overrun) continue;
        end = i + 1;
        veryLong |= e.frame(i).duration() >= kStartUpDeadlines * e.frames[i].deadline;
    }
    for (uint32_t i = 0; veryLong && i < end; ++i) e.frames.change(i).startUp = true;
    for (uint32_t i = first; i < count; ++i) {
        e.figures.startUpOver += e.frames[i].startUp && e.frames[i].overrun;
        e.figures.startUpLate += e.frames[i].startUp ? e.frames[i].overrun : 0;
    }
}

/// The first frame that is not settled: the frames before it will hardly change again. Frames from `first` on are new.
uint32_t settledUpTo(const Explanation& e, uint32_t first) {
    constexpr uint32_t kMayChange = 4 * CriticalPathSums::kSlice;  // of the last ones of a growing recording
    const auto frames = static_cast<uint32_t>(e.frames.size());
    return first ? first : frames - std::min(frames, kMayChange);
}

/// e.durations holds those of frames before `first`, if any.
void takeDurations(Explanation& e, uint32_t first) {
    const auto sorted = [&](uint32_t from, uint32_t to) {
        std::vector<int64_t> durations;
        for (uint32_t i = from; i < to; ++i)
            if (!e.frames[i].outside) durations.push_back(e.frame(i).duration());
        std::sort(durations.begin(), durations.end());
        return durations;
    };
    if (e.durations.settledUpTo() > first) e.durations = {};
    const uint32_t settled = settledUpTo(e, first);
    if (settled >= e.durations.settledUpTo() + kSettledAtOnce)
        e.durations.settle(sorted(e.durations.settledUpTo(), settled), settled);
    e.durations.setRest(sorted(e.durations.settledUpTo(), static_cast<uint32_t>(e.frames.size())));
}

/// Judges the frames from `first` on. Those before it are judged, listed and counted already.
void judge(Explanation& e, uint32_t first) {
    const auto& frames = e.recording->series[e.series].frames;
    e.frames.resize(frames.size());
    constexpr size_t kAtOnce = 1024;  // frames
    std::atomic<size_t> next{first};
    sideBySide(threadsFor((frames.size() - first) / kAtOnce), [&](size_t) {
        Bounds bounds(*e.recording, *e.pathSums);
        for (size_t from; (from = next.fetch_add(kAtOnce)) < frames.size();)
            for (size_t i = from; i < std::min(frames.size(), from + kAtOnce); ++i)
                e.frames.change(i) = verdictOf(e, static_cast<uint32_t>(i), bounds.of(static_cast<uint32_t>(i)));
    });
    for (uint32_t i = first; i < frames.size(); ++i) {
        const FrameVerdict& v = e.frames[i];
        if (v.overrun) e.late.push_back(i);
        e.figures.near += v.state == FrameState::Near;
        e.figures.late += v.overrun;
    }
    findStartUp(e, first);
    e.groups.resize((frames.size() + FrameGroup::kFrames - 1) / FrameGroup::kFrames);
    for (uint32_t i = first / FrameGroup::kFrames * FrameGroup::kFrames; i < frames.size(); ++i) {
        FrameGroup& group = e.groups.change(i / FrameGroup::kFrames);
        const FrameGroup frame = groupOfOne(i, e.frames[i]);
        i % FrameGroup::kFrames ? group.add(frame) : void(group = frame);
    }
    takeDurations(e, first);
    e.figures.frames = e.durations.size();
    e.figures.over = e.late.size();
    if (e.durations.empty()) return;
    e.figures.p50 = e.durations.percentile(0.50);
    e.figures.p95 = e.durations.percentile(0.95);
    e.figures.p99 = e.durations.percentile(0.99);
    e.figures.worst = e.durations.percentile(1);
}

/// The frame in which the work of `found` that fills most of `frame` was asked for, where that is told; else `frame`
/// itself. Behind a lock it is the work in which its holder held it.
uint32_t originOf(const Explanation& e, std::span<const Segment> segments, uint32_t frame, const FoundCause& found) {
    const Recording& r = *e.recording;
    const Frame& f = e.frame(frame);
    std::map<std::pair<uint32_t, uint32_t>, std::pair<int64_t, const Segment*>> roots;  // lane, outermost marker
    for (const Segment& segment : segments) {
        if (!segment.marker.valid() || segment.lock.object != found.object || segment.lane == f.lane) continue;
        if (r.lanes[segment.lane].group != found.group || !r.paths.contains(found.path, segment.path)) continue;
        uint32_t root = segment.marker.index;
        for (uint32_t row = segment.marker.row; row > 0; --row) root = r.lanes[segment.lane].rows[row].parent(root);
        auto& sum = roots[{segment.lane, root}];
        sum.first += segment.duration();
        sum.second = &segment;
    }
    const auto longest =
        std::max_element(roots.begin(), roots.end(), [](auto& a, auto& b) { return a.second.first < b.second.first; });
    if (longest == roots.end()) return frame;
    const Lane& lane = r.lanes[longest->first.first];
    const int64_t begin = lane.rows[0].begin(longest->first.second), end = lane.rows[0].end(longest->first.second);
    const Waker asker = requesterOf(r, longest->first.first, begin, end);
    if (asker.lane == kNone || asker.time >= f.begin) return frame;
    const uint32_t origin = r.series[e.series].frameAt(asker.time);
    return origin == kNone ? frame : std::min(origin, frame);
}

/// Which causes each late frame from `first` on has, several ranges of them side by side; then those of all late
/// frames gathered. e.found holds those of the frames before.
bool findCauses(Explanation& e, uint32_t first, const Progress& progress, const Explanation* previous) {
    if (progress && !progress(0)) return false;
    const std::vector<uint32_t> late(  // the last one first: see CriticalPathWalker
        e.late.rbegin(), std::make_reverse_iterator(std::lower_bound(e.late.begin(), e.late.end(), first)));
    std::vector<std::vector<FoundCause>> found(late.size());
    std::atomic<size_t> next{0};
    std::atomic<bool> stop{false};
    if (!late.empty())
        sideBySide(threadsFor(late.size() / 256), [&](size_t thread) {
            CriticalPathWalker walker(*e.recording);
            CauseFinder finder(e);
            FunctionFinder functions(e);
            constexpr size_t kAtOnce = 64;  // frames
            for (size_t from; (from = next.fetch_add(kAtOnce)) < late.size() && !stop;) {
                if (thread == 0 && progress && !progress(static_cast<double>(from) / static_cast<double>(late.size())))
                    stop = true;
                for (size_t i = from; i < std::min(late.size(), from + kAtOnce); ++i) {
                    const Frame& frame = e.frame(late[i]);
                    const std::span<const Segment> segments = walker.account(frame.lane, frame.begin, frame.end);
                    found[i] = finder.causesOf(late[i], segments);
                    for (FoundCause& cause : found[i]) functions.look(late[i], segments, cause);
                    e.frames.change(late[i]).origin = originOf(e, segments, late[i], found[i].front());
                }
            }
        });
    if (stop) return false;
    const auto all = e.found ? std::make_shared<FoundCauses>(*e.found) : std::make_shared<FoundCauses>();
    for (size_t i = late.size(); i-- > 0;) all->add(std::move(found[i]));
    e.found = all;

    const std::vector<NamedFunction> named = functionsOf(e, *all);
    auto gathered = e.gathered && e.gathered->goesOnWith(named) ? *e.gathered : GatheredCauses();
    const uint32_t settled = settledUpTo(e, first);
    if (settled >= gathered.upTo() + kSettledAtOnce) {
        gathered.addUpTo(e, settled, *all, named);
        e.gathered = std::make_shared<const GatheredCauses>(gathered);
    }
    gathered.addUpTo(e, static_cast<uint32_t>(e.frames.size()), *all, named);
    gathered.finish(e, previous);
    return true;
}

/// The first `stands` frames and what is usual, as they were; the causes are gathered anew.
void takeOver(Explanation& e, const Explanation& previous, uint32_t stands) {
    e.frames = previous.frames;
    e.frames.resize(stands);
    e.groups = previous.groups;
    e.late.assign(previous.late.begin(), std::lower_bound(previous.late.begin(), previous.late.end(), stands));
    const size_t late = e.late.size();
    e.figures.near = previous.figures.near;
    e.figures.late = previous.figures.late;
    e.figures.startUpOver = previous.figures.startUpOver;
    e.figures.startUpLate = previous.figures.startUpLate;
    for (uint32_t i = stands; i < previous.frames.size(); ++i) {
        e.figures.near -= previous.frames[i].state == FrameState::Near;
        e.figures.late -= previous.frames[i].overrun;
        e.figures.startUpOver -= previous.frames[i].startUp && previous.frames[i].overrun;
        e.figures.startUpLate -= previous.frames[i].startUp ? previous.frames[i].overrun : 0;
    }
    e.durations = previous.durations;
    if (previous.gathered && previous.gathered->upTo() <= stands) e.gathered = previous.gathered;
    auto found = std::make_shared<FoundCauses>();
    found->frames = previous.found->frames;
    found->frames.resize(late);
    found->from.assign(previous.found->from.begin(),
                       previous.found->from.begin() + static_cast<std::ptrdiff_t>(late) + 1);
    e.found = found;
    e.baselines = previous.baselines;
    e.occurrences = previous.occurrences;
    e.usualOver = previous.usualOver;
    e.timer = previous.timer;
}

}  // namespace

std::shared_ptr<const Explanation> explain(std::shared_ptr<const Recording> recording,
                                           std::shared_ptr<const CriticalPathSums> pathSums,
                                           const ExplainOptions& options, const Progress& progress,
                                           const Explanation* previous, uint32_t stands) {
    longWork("looking for causes");
    auto explanation = std::make_shared<Explanation>();
    Explanation& e = *explanation;
    e.recording = std::move(recording);
    e.pathSums = std::move(pathSums);
    e.symbols = options.symbols;
    e.scope = options.scope;
    e.series = e.pathSums->series;
    e.budget = options.budget;
    if (stands)
        takeOver(e, *previous, stands);
    else
        e.timer = findTimerPacing(e);
    judge(e, stands);
    if (e.frames.empty()) return explanation;
    if (stands && !continueBaselines(e, stands)) {  // a stage not met before
        stands = 0;
        e.frames.copyShared();
        e.baselines.clear();
        e.found.reset();
        e.gathered.reset();
    }
    if (!stands) makeBaselines(e);
    if (!findCauses(e, stands, progress, previous)) return nullptr;
    if (!stands) {
        findWhatComesBefore(e);
        findArguments(e);
        return explanation;
    }
    std::map<CauseKey, const Cause*> before;
    for (const Cause& cause : previous->causes) before[cause.key] = &cause;
    for (Cause& cause : e.causes)
        if (const auto known = before.find(cause.key); known != before.end()) {
            cause.before = known->second->before;
            cause.arguments = known->second->arguments;
        }
    return explanation;
}

}  // namespace fugato
