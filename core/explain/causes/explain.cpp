// SPDX-License-Identifier: GPL-3.0-or-later
#include "explain.h"

#include <algorithm>
#include <atomic>
#include <cctype>
#include <cmath>
#include <functional>
#include <map>
#include <numeric>
#include <set>
#include <tuple>

#include "cause_arguments.h"
#include "cause_functions.h"
#include "comes_before.h"
#include "core/store/long_work.h"
#include "core/store/side_by_side.h"
#include "excess_tree.h"
#include "timer_pacing.h"

namespace fugato {

namespace {

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

/// Judges the frames from `first` on. Those before it are judged, listed and counted already, and their durations
/// are in e.durations.
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
    const auto known = static_cast<std::ptrdiff_t>(e.durations.size());
    e.durations.reserve(frames.size());
    for (uint32_t i = first; i < frames.size(); ++i) {
        const FrameVerdict& v = e.frames[i];
        if (v.overrun) e.late.push_back(i);
        e.figures.near += v.state == FrameState::Near;
        e.figures.late += v.overrun;
        if (!v.outside) e.durations.push_back(frames[i].duration());
    }
    findStartUp(e, first);
    e.figures.frames = e.durations.size();
    e.figures.over = e.late.size();
    std::map<std::pair<BoundBy, uint32_t>, size_t> lateBy;
    for (const uint32_t i : e.late) ++lateBy[{e.frames[i].bound, e.frames[i].boundGroup}];
    for (const auto& [by, count] : lateBy)
        if (count > e.figures.bound) {
            e.figures.bound = count;
            std::tie(e.figures.boundBy, e.figures.boundGroup) = by;
        }
    if (e.durations.empty()) return;
    std::sort(e.durations.begin() + known, e.durations.end());
    if (known) std::inplace_merge(e.durations.begin(), e.durations.begin() + known, e.durations.end());
    const auto nearestRank = [&](double part) {
        const auto rank = static_cast<size_t>(std::ceil(part * static_cast<double>(e.durations.size())));
        return e.durations[std::clamp<size_t>(rank, 1, e.durations.size()) - 1];
    };
    e.figures.p50 = nearestRank(0.50);
    e.figures.p95 = nearestRank(0.95);
    e.figures.p99 = nearestRank(0.99);
    e.figures.worst = e.durations.back();
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

std::string letterOf(size_t index) {
    std::string letters;
    for (size_t i = index + 1; i > 0; i = (i - 1) / 26)
        letters.insert(letters.begin(), static_cast<char>('A' + (i - 1) % 26));
    return letters;
}

/// Causes while they are being gathered.
class Gathering {
public:
    explicit Gathering(Explanation& e) : e_(e) {}

    uint32_t add(uint32_t frame, const FoundCause& found, const NamedFunction& named, int64_t late) {
        CauseKey key = keyOf(found);
        key.startUp = e_.frames[frame].startUp;
        if (found.kind == CauseKind::Unexplained || found.outside) {  // else its marker says what it is
            key.function = named.function;
            key.caller = named.caller;
        }
        const auto [at, isNew] = indexOf_.try_emplace(key, static_cast<uint32_t>(e_.causes.size()));
        if (isNew) {
            e_.causes.push_back({});
            sums_.push_back({});
        }
        Cause& cause = e_.causes[at->second];
        Sum& sum = sums_[at->second];
        cause.key = key;
        cause.group = found.group;
        cause.path = found.path;
        cause.object = found.object;
        cause.contention = found.contention;
        sum.oneFunction &= isNew || cause.function == named.function;
        cause.function = named.function;
        cause.caller = named.caller;
        const SeenFunction* const seen = found.functions.find(named.function);
        if (seen && !found.functions.blocked) {
            cause.samples += seen->samples;
            cause.ofSamples += found.functions.samples;
        }
        cause.late += late;
        if (cause.frames.empty() || cause.frames.back() != frame) cause.frames.push_back(frame);
        sum.byKind[static_cast<size_t>(found.kind)] += late;
        sum.byPiece[static_cast<size_t>(found.segment)] += found.excess;
        addContention(sum, found, late);
        sum.calls += found.calls;
        sum.usualCalls += found.usualCalls;
        sum.slowdown += found.slowdown;
        return at->second;
    }

    /// Settles kinds and means, and puts the costliest first.
    void finish(const Explanation* previous) {
        for (size_t i = 0; i < e_.causes.size(); ++i) {
            Cause& cause = e_.causes[i];
            const Sum& sum = sums_[i];
            const auto frames = static_cast<double>(cause.frames.size());
            cause.kind =
                static_cast<CauseKind>(std::max_element(sum.byKind.begin(), sum.byKind.end()) - sum.byKind.begin());
            cause.segment = static_cast<SegmentKind>(std::max_element(sum.byPiece.begin(), sum.byPiece.end()) -
                                                     sum.byPiece.begin());
            for (const auto& [of, ns] : sum.contentionParts) cause.contentionParts.push_back({of.first, of.second, ns});
            if (!cause.contentionParts.empty()) cause.group = byGroup(cause.contentionParts).front().first;
            if (!sum.oneFunction) cause.function = cause.caller = kNone;
            cause.calls = sum.calls / frames;
            cause.usualCalls = sum.usualCalls / frames;
            cause.slowdown = sum.slowdown / frames;
        }
        std::vector<uint32_t> order(e_.causes.size()), rank(e_.causes.size());
        std::iota(order.begin(), order.end(), 0u);
        // What is hardly anything of its kind of frames comes last; else start-up after all other frames.
        int64_t late[2] = {0, 0};
        for (const Cause& cause : e_.causes) late[cause.key.startUp] += cause.late;
        const auto small = [&](const Cause& cause) {
            return static_cast<double>(cause.late) < kListed * static_cast<double>(late[cause.key.startUp]);
        };
        std::stable_sort(order.begin(), order.end(), [&](uint32_t x, uint32_t y) {
            const Cause &a = e_.causes[x], &b = e_.causes[y];
            return std::tuple(small(a), a.key.startUp, -a.late) < std::tuple(small(b), b.key.startUp, -b.late);
        });
        e_.listed = static_cast<size_t>(std::count_if(e_.causes.begin(), e_.causes.end(), std::not_fn(small)));
        std::vector<Cause> sorted;
        for (uint32_t i = 0; i < order.size(); ++i) {
            rank[order[i]] = i;
            sorted.push_back(std::move(e_.causes[order[i]]));
        }
        e_.causes = std::move(sorted);
        giveLetters(previous);
        for (CauseShare& share : e_.shares) share.cause = rank[share.cause];
    }

private:
    void giveLetters(const Explanation* previous) {
        std::map<CauseKey, std::string> known;
        std::set<std::string> given;
        const auto withoutFunction = [](CauseKey key) {
            key.function = key.caller = kNone;
            return key;
        };
        if (previous)
            for (const Cause& cause : previous->causes) {
                // Functions of other symbols have other numbers.
                known.try_emplace(previous->symbols == e_.symbols ? cause.key : withoutFunction(cause.key),
                                  cause.letter);
                given.insert(cause.letter);
            }
        size_t next = 0;
        for (Cause& cause : e_.causes) {
            auto had = known.find(cause.key);
            if (had == known.end()) had = known.find(withoutFunction(cause.key));  // its functions were not known yet
            if (had != known.end()) {
                cause.letter = had->second;
                known.erase(had);
                continue;
            }
            do cause.letter = letterOf(next++);
            while (given.count(cause.letter));
        }
    }

    struct Sum {
        std::array<int64_t, kCauseKinds> byKind{};
        std::array<int64_t, kSegmentKinds> byPiece{};
        double calls = 0, usualCalls = 0, slowdown = 0;
        bool oneFunction = true;                                             // in all frames the same one, or none
        std::map<std::pair<uint32_t, CoreHolder>, int64_t> contentionParts;  // by lane group and holder
    };
    /// The time late is shared out as the time without a core was.
    static void addContention(Sum& sum, const FoundCause& found, int64_t late) {
        double all = 0;
        for (const ContentionPart& part : found.contentionParts) all += static_cast<double>(part.ns);
        for (const ContentionPart& part : found.contentionParts)
            sum.contentionParts[{part.group, part.holder}] +=
                static_cast<int64_t>(static_cast<double>(late) * static_cast<double>(part.ns) / all);
    }
    Explanation& e_;
    std::map<CauseKey, uint32_t> indexOf_;
    std::vector<Sum> sums_;
};

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
    Gathering gathering(e);
    e.shares.resize(all->size());
    for (size_t number = 0; number < e.late.size(); ++number) {
        const FrameVerdict& verdict = e.frames[e.late[number]];
        const std::span<const FoundCause> causes = all->of(number);
        CauseShare* shares = e.shares.data() + all->from[number];
        double covered = 0;
        for (const FoundCause& cause : causes) covered += static_cast<double>(cause.excess);
        int64_t given = 0;
        for (size_t k = 0; k < causes.size(); ++k) {  // the overrun is shared in proportion to the excess
            const int64_t part = k + 1 == causes.size()
                                     ? verdict.overrun - given
                                     : static_cast<int64_t>(static_cast<double>(verdict.overrun) *
                                                            static_cast<double>(causes[k].excess) / covered);
            given += part;
            size_t at = k;
            for (; at > 0 && shares[at - 1].excess < causes[k].excess; --at) shares[at] = shares[at - 1];
            shares[at] = {gathering.add(e.late[number], causes[k], named[all->from[number] + k], part),
                          causes[k].excess, part};
        }
        const auto from = static_cast<uint32_t>(all->from[number]), count = static_cast<uint32_t>(causes.size());
        if (verdict.sharesFrom == from && verdict.sharesCount == count) continue;  // one known before
        FrameVerdict& changed = e.frames.change(e.late[number]);
        changed.sharesFrom = from;
        changed.sharesCount = count;
    }
    gathering.finish(previous);
    return true;
}

void findSpikes(Explanation& e) {
    for (size_t at = 0; at < e.late.size();) {
        Spike spike;
        spike.first = spike.last = e.late[at];
        std::map<uint32_t, int64_t> lateBy;
        for (; at < e.late.size() && e.late[at] <= spike.last + 1; ++at) {
            spike.last = e.late[at];
            const auto number = static_cast<uint32_t>(e.spikes.size());
            if (e.frames[spike.last].spike != number) e.frames.change(spike.last).spike = number;
            spike.late += e.frames[spike.last].overrun;
            for (const CauseShare& share : e.sharesOf(spike.last)) lateBy[share.cause] += share.late;
        }
        spike.cause =
            std::max_element(lateBy.begin(), lateBy.end(), [](auto& a, auto& b) { return a.second < b.second; })->first;
        spike.origin = kNone;
        for (uint32_t f = spike.first; f <= spike.last; ++f)
            if (e.sharesOf(f).front().cause == spike.cause) spike.origin = std::min(spike.origin, e.frames[f].origin);
        if (spike.origin == kNone) spike.origin = spike.first;
        e.causes[spike.cause].spikes.push_back(static_cast<uint32_t>(e.spikes.size()));
        e.spikes.push_back(spike);
    }
}

/// The first `stands` frames and what is usual, as they were; the causes are gathered anew.
void takeOver(Explanation& e, const Explanation& previous, uint32_t stands) {
    e.frames = previous.frames;
    e.frames.resize(stands);
    e.late.assign(previous.late.begin(), std::lower_bound(previous.late.begin(), previous.late.end(), stands));
    const size_t late = e.late.size();
    e.figures.near = previous.figures.near;
    e.figures.late = previous.figures.late;
    e.figures.startUpOver = previous.figures.startUpOver;
    e.figures.startUpLate = previous.figures.startUpLate;
    std::vector<int64_t> gone;
    for (uint32_t i = stands; i < previous.frames.size(); ++i) {
        e.figures.near -= previous.frames[i].state == FrameState::Near;
        e.figures.late -= previous.frames[i].overrun;
        e.figures.startUpOver -= previous.frames[i].startUp && previous.frames[i].overrun;
        e.figures.startUpLate -= previous.frames[i].startUp ? previous.frames[i].overrun : 0;
        if (!previous.frames[i].outside) gone.push_back(previous.frame(i).duration());
    }
    std::sort(gone.begin(), gone.end());
    e.durations.reserve(previous.durations.size() + gone.size());
    std::set_difference(previous.durations.begin(), previous.durations.end(), gone.begin(), gone.end(),
                        std::back_inserter(e.durations));
    auto found = std::make_shared<FoundCauses>();
    const auto frames = static_cast<std::ptrdiff_t>(late);
    found->frames.assign(previous.found->frames.begin(), previous.found->frames.begin() + frames);
    found->from.assign(previous.found->from.begin(), previous.found->from.begin() + frames + 1);
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
    }
    if (!stands) makeBaselines(e);
    if (!findCauses(e, stands, progress, previous)) return nullptr;
    findSpikes(e);
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
