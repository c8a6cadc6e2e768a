// SPDX-License-Identifier: GPL-3.0-or-later
#include "advice.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "core/ask/occurrences.h"
#include "core/explain/causes/cause_functions.h"
#include "core/explain/causes/comes_before.h"
#include "core/explain/words/sentences.h"
#include "core/explain/words/templates.h"
#include "core/store/long_work.h"
#include "core/symbols/stack_tree.h"
#include "format/number_text.h"

namespace fugato {

const char* adviceKindName(AdviceKind kind) {
    static const char* const names[] = {
        "comes_before",    "out_of_range", "lock_queue", "queues_wait",     "too_many_threads", "other_programs",
        "machine_stopped", "timer_pacing", "repeated",   "changed_nothing", "allocations",      "logging",
        "first_use",       "slow_file",    "too_long",   "unmarked",        "measuring",        "weak"};
    static_assert(std::size(names) == kAdviceKinds);
    return names[static_cast<size_t>(kind)];
}

namespace {

constexpr double kWorthSaying = 0.005;  // of the frames' time
constexpr size_t kFewestSpikes = 3;
constexpr double kWaitersShare = 0.01;
constexpr int64_t kAllocation = 100;  // ns, roughly; only for the order of findings
constexpr double kReadyShare = 0.1;

std::string percent(double part) { return fixedText(part * 100, part < 0.1 ? 1 : 0) + " %"; }

class Adviser {
public:
    Adviser(const Explanation& e, const AdviceLimits& limits, const Progress& progress)
        : e_(e), r_(*e.recording), limits_(limits), progress_(progress) {
        std::vector<uint32_t> inside;  // the scope
        for (uint32_t f = 0; f < e.frames.size(); ++f) {
            if (e.frames[f].outside) continue;
            inside.push_back(f);
            time_ += e.frame(f).duration();
        }
        const size_t count = std::min(kAdviceFrames, inside.size());
        for (size_t i = 0; i < count; ++i) sample_.push_back(inside[i * inside.size() / count]);
        for (const uint32_t f : sample_) sampleTime_ += e.frame(f).duration();
    }

    bool run() {
        using Step = void (Adviser::*)();
        const Step steps[] = {&Adviser::comesBefore,
                              &Adviser::counters,
                              &Adviser::locks,
                              &Adviser::queues,
                              &Adviser::threads,
                              &Adviser::sampleFrames,
                              &Adviser::memory,
                              &Adviser::messages,
                              &Adviser::files,
                              &Adviser::tooLong,
                              &Adviser::unmarked,
                              &Adviser::recorded,
                              &Adviser::unmarkedFunctions,
                              &Adviser::timerPacing};
        double done = 0;
        for (const Step step : steps) {
            if (progress_ && !progress_(done++ / static_cast<double>(std::size(steps)))) return false;
            if (!e_.frames.empty()) (this->*step)();
        }
        std::stable_sort(out_.begin(), out_.end(), [](const Advice& a, const Advice& b) { return a.cost > b.cost; });
        return true;
    }
    std::vector<Advice> out_;

private:
    /// Costs counted in the sample, as of all frames.
    int64_t ofAll(int64_t inSample) const {
        return static_cast<int64_t>(static_cast<double>(inSample) * static_cast<double>(time_) /
                                    static_cast<double>(std::max<int64_t>(1, sampleTime_)));
    }
    double share(int64_t ns) const {
        return static_cast<double>(ns) / static_cast<double>(std::max<int64_t>(1, time_));
    }
    void placeAt(Advice& advice, uint32_t lane, int64_t begin, int64_t end) const {
        advice.lane = lane;
        advice.begin = begin;
        advice.end = end;
    }
    // ---- what goes with late frames --------------------------------------------------------------------

    void comesBefore() {
        for (const Cause& cause : e_.causes) {
            if (cause.before.what.empty()) continue;
            Advice advice;
            advice.kind = AdviceKind::ComesBefore;
            advice.confidence = cause.before.spikes >= 8 ? ConfidenceLevel::Medium : ConfidenceLevel::Low;
            advice.title = say::kBeforeTitle({{"what", cause.before.what}, {"letter", cause.letter}});
            advice.evidence = say::kBeforeEvidence({{"some", countText(cause.before.spikes)},
                                                    {"all", countText(cause.spikes.size())},
                                                    {"cause", causeTitle(e_, cause)},
                                                    {"elsewhere", countText(cause.before.elsewhere)}});
            advice.next = say::kBeforeNext();
            advice.key = "before " + cause.before.what + " " + causeTitle(e_, cause);
            advice.cost = cause.late;
            const auto [from, to] = justBefore(e_, e_.spikes[cause.spikes.front()]);
            if (cause.before.lane != kNone) placeAt(advice, cause.before.lane, from, to);
            out_.push_back(std::move(advice));
        }
    }

    /// Counters whose values in late frames are ones they hardly have otherwise.
    void counters() {
        if (e_.figures.over < kFewestSpikes || e_.figures.over * 2 > e_.frames.size()) return;
        for (const Counter& counter : r_.counters) {
            std::vector<double> late, others;
            size_t lateOut = 0, othersOut = 0;
            size_t at = 0;
            for (uint32_t f = 0; f < e_.frames.size(); ++f) {
                const Frame& frame = e_.frame(f);
                double most = -INFINITY;
                while (at < counter.times.size() && counter.times[at] < frame.begin) ++at;
                for (size_t i = at; i < counter.times.size() && counter.times[i] < frame.end; ++i)
                    most = std::max(most, counter.values[i]);
                if (most == -INFINITY && at > 0) most = counter.values[at - 1];
                if (most == -INFINITY) continue;
                const bool over = e_.frames[f].overrun > 0;
                (over ? late : others).push_back(most);
                if (counter.threshold && most > *counter.threshold) ++(over ? lateOut : othersOut);
            }
            if (late.size() < kFewestSpikes || others.size() < 8) continue;
            double limit = counter.threshold.value_or(0);
            if (!counter.threshold) {
                const auto high =
                    others.begin() + static_cast<std::ptrdiff_t>(0.98 * static_cast<double>(others.size() - 1));
                std::nth_element(others.begin(), high, others.end());
                limit = *high;
                lateOut =
                    static_cast<size_t>(std::count_if(late.begin(), late.end(), [&](double v) { return v > limit; }));
                othersOut = static_cast<size_t>(
                    std::count_if(others.begin(), others.end(), [&](double v) { return v > limit; }));
            }
            const double inLate = static_cast<double>(lateOut) / static_cast<double>(late.size()),
                         inOthers = static_cast<double>(othersOut) / static_cast<double>(others.size());
            // Exactly then: much of it in late frames, and seldom elsewhere.
            if (lateOut < kFewestSpikes || inLate < 0.1 || inLate < 5 * inOthers) continue;
            char number[40];
            std::snprintf(number, sizeof number, "%.6g", limit);
            Advice advice;
            advice.kind = AdviceKind::OutOfRange;
            advice.confidence = inLate > 0.5 ? ConfidenceLevel::Medium : ConfidenceLevel::Low;
            advice.title = say::kCounterTitle({{"counter", counter.name}});
            advice.evidence = (counter.threshold ? say::kCounterEvidenceThreshold : say::kCounterEvidence)(
                {{"limit", number + (counter.unit.empty() ? "" : " " + counter.unit)},
                 {"late", percent(inLate)},
                 {"others", percent(inOthers)}});
            advice.next = say::kCounterNext();
            advice.key = "counter " + counter.name;
            advice.cost = static_cast<int64_t>(static_cast<double>(e_.figures.late) * inLate);
            out_.push_back(std::move(advice));
        }
    }

    // ---- waits ------------------------------------------------------------------------------------------

    void locks() {
        struct Queue {
            int64_t waited = 0, longest = 0, begin = 0, end = 0;
            size_t waits = 0, together = 0;
            uint32_t lane = kNone;
            std::set<uint32_t> lanes;
            std::vector<std::pair<int64_t, int64_t>> spans;
        };
        std::map<uint32_t, Queue> byObject;
        for (uint32_t lane = 0; lane < r_.lanes.size(); ++lane)
            for (const Wait& wait : r_.lanes[lane].waits) {
                if (wait.kind != WaitKind::Lock || wait.object == kNone) continue;
                Queue& queue = byObject[wait.object];
                queue.waited += wait.end - wait.begin;
                ++queue.waits;
                queue.lanes.insert(lane);
                queue.spans.emplace_back(wait.begin, wait.end);
                if (wait.end - wait.begin > queue.longest) {
                    queue.longest = wait.end - wait.begin;
                    queue.begin = wait.begin;
                    queue.end = wait.end;
                    queue.lane = lane;
                }
            }
        for (auto& [object, queue] : byObject) {
            if (queue.lanes.size() < 2 || share(queue.waited) < kWaitersShare) continue;
            std::sort(queue.spans.begin(), queue.spans.end());
            int64_t until = INT64_MIN;
            for (const auto& [begin, end] : queue.spans) {
                queue.together += begin < until;
                until = std::max(until, end);
            }
            if (queue.together < kFewestSpikes) continue;
            Advice advice;
            advice.kind = AdviceKind::LockQueue;
            advice.confidence = ConfidenceLevel::High;
            advice.title = say::kQueueTitle({{"lock", r_.objects[object]}});
            advice.evidence = say::kQueueEvidence({{"waits", plural(queue.waits, "wait", "waits")},
                                                   {"lanes", plural(queue.lanes.size(), "lane", "lanes")},
                                                   {"time", durationText(queue.waited)},
                                                   {"longest", durationText(queue.longest)},
                                                   {"together", countText(queue.together)}});
            advice.next = say::kQueueNext();
            advice.key = "lock " + r_.objects[object];
            advice.cost = queue.waited;
            placeAt(advice, queue.lane, queue.begin, queue.end);
            out_.push_back(std::move(advice));
        }
    }

    /// Queues of a device that wait for each other in both directions.
    void queues() {
        struct Way {
            int64_t waited = 0, begin = 0, end = 0;
            size_t waits = 0;
        };
        std::map<std::pair<uint32_t, uint32_t>, Way> ways;  // who waited for whom
        for (uint32_t lane = 0; lane < r_.lanes.size(); ++lane) {
            if (r_.lanes[lane].kind != LaneKind::Queue) continue;
            for (const Wait& wait : r_.lanes[lane].waits) {
                const Waker ender = wakerOf(r_, lane, wait);
                if (ender.lane == kNone || ender.lane == lane || r_.lanes[ender.lane].kind != LaneKind::Queue) continue;
                Way& way = ways[{lane, ender.lane}];
                way.waited += wait.end - wait.begin;
                ++way.waits;
                if (wait.end - wait.begin > way.end - way.begin) {
                    way.begin = wait.begin;
                    way.end = wait.end;
                }
            }
        }
        for (const auto& [lanes, there] : ways) {
            const auto back = ways.find({lanes.second, lanes.first});
            if (lanes.first > lanes.second || back == ways.end()) continue;
            const int64_t waited = there.waited + back->second.waited;
            if (share(waited) < kWaitersShare) continue;
            Advice advice;
            advice.kind = AdviceKind::QueuesWait;
            advice.confidence = ConfidenceLevel::High;
            const std::string &one = r_.lanes[lanes.first].name, &other = r_.lanes[lanes.second].name;
            advice.title = say::kEachOtherTitle({{"one", one}, {"other", other}});
            advice.evidence = say::kEachOtherEvidence({{"one", one},
                                                       {"other", other},
                                                       {"there", durationText(there.waited)},
                                                       {"back", durationText(back->second.waited)}});
            advice.next = say::kEachOtherNext();
            advice.key = "queues " + one + " " + other;
            advice.cost = waited;
            placeAt(advice, lanes.first, there.begin, there.end);
            out_.push_back(std::move(advice));
        }
    }

    struct ContentionSum {
        int64_t time = 0;
        std::vector<ContentionPart> parts;
        int64_t longest = 0, begin = 0, end = 0;  // and where it lies
        uint32_t lane = kNone;
        void add(const Recording& r, uint32_t at, int64_t from, int64_t to, CoreHolder holder) {
            time += to - from;
            parts.push_back({r.lanes[at].group, holder, to - from});
            if (to - from <= longest) return;
            longest = to - from;
            begin = from;
            end = to;
            lane = at;
        }
    };

    /// Who had the cores while threads of the program were ready to run.
    void threads() {
        ContentionSum own, others, machine;
        int64_t ran = 0;
        uint32_t cores = 0, threads = 0;
        CriticalPathWalker walker(r_);
        for (uint32_t i = 0; i < r_.lanes.size(); ++i) {
            cores += r_.lanes[i].kind == LaneKind::Core;
            if (r_.lanes[i].schedule.empty()) continue;
            ++threads;
            for (const uint32_t f : sample_) {
                const Frame& frame = e_.frame(f);
                ran += r_.lanes[i].ranBetween(frame.begin, frame.end);
                walker.readyWithoutCore(i, frame.begin, frame.end, [&](int64_t from, int64_t to, CoreHolder holder) {
                    const Contention by = contentionBy(holder);
                    ContentionSum& of = by == Contention::OwnThreads       ? own
                                        : by == Contention::MachineStopped ? machine
                                                                           : others;
                    of.add(r_, i, std::max(from, frame.begin), std::min(to, frame.end), holder);
                });
            }
        }
        const auto much = [&](const ContentionSum& of) {
            return of.time > 0 && static_cast<double>(of.time) >= kReadyShare * static_cast<double>(ran);
        };
        if (threads > cores && much(own)) {
            Advice advice;
            advice.kind = AdviceKind::TooManyThreads;
            advice.confidence = ConfidenceLevel::Medium;
            advice.title = say::kThreadsTitle();
            advice.evidence = say::kThreadsEvidence({{"threads", plural(threads, "thread", "threads")},
                                                     {"cores", plural(cores, "core", "cores")},
                                                     {"ready", durationText(ofAll(own.time))},
                                                     {"ran", durationText(ofAll(ran))}});
            advice.next = say::kThreadsNext();
            advice.key = "threads";
            finish(std::move(advice), own);
        }
        if (much(others)) otherPrograms(others);
        if (machine.time > 0 && share(ofAll(machine.time)) >= kWorthSaying) machineStopped(machine);
    }

    void machineStopped(const ContentionSum& machine) {
        const size_t late = lateBecauseOf(Contention::MachineStopped);
        Advice advice;
        advice.kind = AdviceKind::MachineStopped;
        advice.confidence = ConfidenceLevel::High;
        advice.title = say::kStoppedTitle();
        advice.evidence = say::kStoppedEvidence({{"time", durationText(ofAll(machine.time))},
                                                 {"frames", plural(late, "late frame has", "late frames have")}});
        advice.next = say::kStoppedNext();
        advice.key = "machine stopped";
        finish(std::move(advice), machine);
    }

    /// Late frames whose main cause is CPU contention of a kind.
    size_t lateBecauseOf(Contention contention) const {
        return static_cast<size_t>(std::count_if(e_.late.begin(), e_.late.end(), [&](uint32_t f) {
            return e_.causes[e_.sharesOf(f).front().cause].contention == contention;
        }));
    }

    void otherPrograms(const ContentionSum& others) {
        std::vector<ContentionPart> parts = others.parts;
        for (ContentionPart& part : parts) part.ns = ofAll(part.ns);
        const size_t ownCauses = e_.late.size() - lateBecauseOf(Contention::OtherPrograms);
        Advice advice;
        advice.kind = AdviceKind::OtherPrograms;
        advice.confidence = ConfidenceLevel::High;
        advice.title = say::kProgramsTitle();
        constexpr size_t kMostPrograms = 4;
        advice.evidence = (e_.late.empty() ? say::kProgramsEvidenceNone : say::kProgramsEvidence)(
            {{"programs", holdersText(r_, parts, kMostPrograms, true)},
             {"time", durationText(ofAll(others.time))},
             {"own", countText(ownCauses)},
             {"late", plural(e_.late.size(), "late frame", "late frames")}});
        advice.next = say::kProgramsNext();
        advice.key = "other programs";
        finish(std::move(advice), others);
    }

    void timerPacing() {
        if (!e_.timer.tick) return;
        const PartKey& sleep = e_.pathSums->keys[e_.timer.key];
        Advice advice;
        advice.kind = AdviceKind::TimerPacing;
        advice.confidence = ConfidenceLevel::Medium;
        advice.title = say::kTimerTitle();
        advice.evidence = say::kTimerEvidence({{"part", percent(e_.timer.held)},
                                               {"tick", durationText(e_.timer.tick)},
                                               {"sleep", partTitle(r_, sleep)},
                                               {"longest", durationText(e_.timer.longest)}});
        advice.next = say::kTimerNext();
        advice.key = "timer pacing";
        const Frame& frame = e_.frame(0);
        placeAt(advice, frame.lane, frame.begin, frame.end);
        out_.push_back(std::move(advice));
    }

    void finish(Advice advice, const ContentionSum& of) {
        advice.cost = ofAll(of.time);
        placeAt(advice, of.lane, of.begin, of.end);
        out_.push_back(std::move(advice));
    }

    // ---- work that need not be ----------------------------------------------------------------------------

    /// Reads every marker of the sampled frames: what changed nothing, what was done again.
    struct Work {
        uint64_t calls = 0, idle = 0, again = 0;
        int64_t idleNs = 0, againNs = 0;
        uint32_t frames = 0, lastFrame = kNone;
        uint32_t lane = kNone;
        int64_t begin = 0, end = 0;
    };
    void sampleFrames() {
        std::map<PathId, Work> byPath;
        for (const uint32_t f : sample_) {
            const Frame& frame = e_.frame(f);
            std::set<std::pair<PathId, std::string>> done;  // with which arguments
            for (uint32_t lane = 0; lane < r_.lanes.size(); ++lane) {
                const Lane& l = r_.lanes[lane];
                for (uint32_t row = 0; row < l.rows.size(); ++row) {
                    const auto [from, to] = l.rows[row].overlapping(frame.begin, frame.end);
                    if (from == to) break;
                    l.rows[row].forEach(
                        from, to, [&](uint32_t i, int64_t begin, int64_t duration, uint32_t path, uint8_t flags) {
                            if (begin < frame.begin || flags & kMarkerWait) return;
                            const PathId id = l.rows[row].pathOf(path);
                            const bool idle = flags & kMarkerChangedNothing;
                            const auto [first, last] = l.argumentsOf(row, i);
                            if (!idle && first == last) return;
                            Work& work = byPath[id];
                            ++work.calls;
                            const auto note = [&] {
                                if (work.lastFrame != f) ++work.frames;
                                work.lastFrame = f;
                                if (duration > work.end - work.begin) {
                                    work.lane = lane;
                                    work.begin = begin;
                                    work.end = begin + duration;
                                }
                            };
                            if (idle) {
                                ++work.idle;
                                work.idleNs += duration;
                                note();
                            }
                            std::string said;
                            for (const Argument* argument = first; argument != last; ++argument)
                                said.append(reinterpret_cast<const char*>(&argument->key), sizeof argument->key)
                                    .append(reinterpret_cast<const char*>(&argument->value), sizeof argument->value);
                            if (!said.empty() && !done.emplace(id, said).second) {
                                ++work.again;
                                work.againNs += duration;
                                note();
                            }
                        });
                }
            }
        }
        tellNeedless(byPath);
    }

    void tellNeedless(const std::map<PathId, Work>& byPath) {
        const auto frames = static_cast<double>(std::max<size_t>(1, sample_.size()));
        for (const auto& [path, work] : byPath) {
            const std::string title = r_.pathText(path);
            const auto add = [&, path = path, &work = work](AdviceKind kind, ConfidenceLevel confidence,
                                                            const Template& what, uint64_t calls, int64_t ns,
                                                            const Template& next) {
                if (static_cast<double>(ns) < kWorthSaying * static_cast<double>(sampleTime_)) return;
                Advice advice;
                advice.kind = kind;
                advice.confidence = confidence;
                advice.title = what({{"path", title}});
                const double times = static_cast<double>(calls) / frames;
                advice.evidence = say::kPerFrameEvidence(
                    {{"times", fixedText(times, times < 10 ? 1 : 0)},
                     {"part", percent(static_cast<double>(ns) / static_cast<double>(sampleTime_))},
                     {"frames", plural(sample_.size(), "frame", "frames")}});
                advice.next = next();
                advice.key = std::string(adviceKindName(kind)) + " " + title;
                advice.cost = ofAll(ns);
                advice.site = r_.paths[path].site;
                placeAt(advice, work.lane, work.begin, work.end);
                out_.push_back(std::move(advice));
            };
            add(AdviceKind::ChangedNothing, ConfidenceLevel::High, say::kIdleTitle, work.idle, work.idleNs,
                say::kIdleNext);
            add(AdviceKind::Repeated, ConfidenceLevel::Medium, say::kAgainTitle, work.again, work.againNs,
                say::kAgainNext);
        }
    }

    using PerFrame = std::map<uint32_t, uint32_t>;  // how often, by frame
    void countIn(PerFrame& counts, int64_t time) const {
        const uint32_t f = r_.series[e_.series].frameAt(time);
        if (f != kNone && time < e_.frame(f).end) ++counts[f];
    }
    /// The frames in which something happens at least so often.
    struct Crowded {
        uint32_t frames = 0, late = 0, most = 0, worst = 0;
        uint64_t all = 0;  // in every frame
    };
    Crowded crowded(const PerFrame& counts, uint32_t least) const {
        Crowded found;
        for (const auto& [frame, count] : counts) {
            found.all += count;
            if (count < least) continue;
            ++found.frames;
            found.late += e_.frames[frame].overrun > 0;
            if (count > found.most) {
                found.most = count;
                found.worst = frame;
            }
        }
        return found;
    }

    void memory() {
        if (r_.allocations.empty()) return;
        std::map<PathId, PerFrame> byPath;
        for (const Allocation& allocation : r_.allocations) countIn(byPath[allocation.path], allocation.taken);
        for (const auto& [path, counts] : byPath) {
            const auto [over, late, most, worst, all] = crowded(counts, limits_.allocations + 1);
            if (!over) continue;
            Advice advice;
            advice.kind = AdviceKind::Allocations;
            advice.confidence = ConfidenceLevel::High;
            advice.title = say::kAllocationsTitle({{"path", path ? r_.pathText(path) : say::kOutsideMarkers()}});
            advice.evidence = say::kAllocationsEvidence({{"limit", countText(limits_.allocations)},
                                                         {"frames", plural(over, "frame", "frames")},
                                                         {"most", countText(most)},
                                                         {"worst", countText(worst)}});
            advice.next = say::kAllocationsNext();
            advice.key = "allocations " + (path ? r_.pathText(path) : std::string());
            advice.cost = static_cast<int64_t>(all) * kAllocation;
            if (path) advice.site = r_.paths[path].site;
            placeAt(advice, e_.frame(worst).lane, e_.frame(worst).begin, e_.frame(worst).end);
            out_.push_back(std::move(advice));
        }
    }

    void messages() {
        std::map<uint32_t, PerFrame> byLane;
        for (const Point& point : r_.points) countIn(byLane[point.lane], point.time);
        for (const auto& [lane, counts] : byLane) {
            const auto [over, late, most, worst, all] = crowded(counts, limits_.messages);
            if (!over) continue;
            Advice advice;
            advice.kind = AdviceKind::Logging;
            advice.confidence = ConfidenceLevel::Low;
            advice.title = say::kMessagesTitle({{"lane", r_.lanes[lane].name}});
            advice.evidence = say::kMessagesEvidence({{"limit", countText(limits_.messages)},
                                                      {"frames", plural(over, "frame", "frames")},
                                                      {"late", countText(late)},
                                                      {"most", countText(most)},
                                                      {"worst", countText(worst)}});
            advice.next = say::kMessagesNext();
            advice.key = "messages " + r_.lanes[lane].name;
            placeAt(advice, lane, e_.frame(worst).begin, e_.frame(worst).end);
            out_.push_back(std::move(advice));
        }
    }

    /// File waits on the lanes of frames: those over a limit; those inside work that frames do not usually have.
    void files() {
        std::map<std::string, Advice> slow, first;
        std::map<std::string, size_t> slowCount, firstCount;
        std::set<PathId> unusual;
        for (const Cause& cause : e_.causes)
            if (cause.kind == CauseKind::Unusual) unusual.insert(cause.path);
        std::set<uint32_t> lanes;
        for (uint32_t f = 0; f < e_.frames.size(); ++f) lanes.insert(e_.frame(f).lane);
        for (const uint32_t lane : lanes)
            for (const Wait& wait : r_.lanes[lane].waits) {
                if (wait.kind != WaitKind::File) continue;
                const PathId path = r_.lanes[lane].rows[wait.row].path(wait.index);
                const std::string title = r_.pathText(path);
                const auto add = [&](std::map<std::string, Advice>& to, std::map<std::string, size_t>& counts) {
                    Advice& advice = to[title];
                    advice.cost += wait.end - wait.begin;
                    ++counts[title];
                    advice.site = r_.paths[path].site;
                    if (wait.end - wait.begin > advice.end - advice.begin) placeAt(advice, lane, wait.begin, wait.end);
                };
                if (wait.end - wait.begin > limits_.slowFile) add(slow, slowCount);
                for (PathId above = path; above; above = r_.paths[above].parent)
                    if (unusual.count(above)) {
                        add(first, firstCount);
                        break;
                    }
            }
        for (auto& [title, advice] : slow) {
            advice.kind = AdviceKind::SlowFile;
            advice.confidence = ConfidenceLevel::High;
            advice.title = say::kSlowFileTitle({{"path", title}});
            advice.evidence = say::kSlowFileEvidence({{"requests", plural(slowCount[title], "request", "requests")},
                                                      {"limit", durationText(limits_.slowFile)},
                                                      {"time", durationText(advice.cost)},
                                                      {"longest", durationText(advice.end - advice.begin)}});
            advice.next = say::kSlowFileNext();
            advice.key = "file " + title;
            out_.push_back(advice);
        }
        for (auto& [title, advice] : first) {
            advice.kind = AdviceKind::FirstUse;
            advice.confidence = ConfidenceLevel::Medium;
            advice.title = say::kFirstUseTitle({{"path", title}});
            advice.evidence = say::kFirstUseEvidence(
                {{"times", plural(firstCount[title], "time", "times")}, {"time", durationText(advice.cost)}});
            advice.next = say::kFirstUseNext();
            advice.key = "first use " + title;
            out_.push_back(advice);
        }
    }

    void tooLong() {
        constexpr size_t kMost = 1000;
        for (uint32_t site = 0; site < r_.sites.size(); ++site) {
            const int64_t longest = r_.sites[site].longestNs;
            if (longest <= 0) continue;
            const auto found = longestOccurrences(r_, site, wholeOf(r_), kMost);
            if (!found) continue;
            size_t over = 0;
            int64_t cost = 0;
            for (const Occurrence& occurrence : *found) {
                if (occurrence.duration <= longest) break;
                ++over;
                cost += occurrence.duration - longest;
            }
            if (!over) continue;
            Advice advice;
            advice.kind = AdviceKind::TooLong;
            advice.confidence = ConfidenceLevel::High;
            advice.title = say::kTooLongTitle({{"marker", r_.sites[site].name}});
            advice.evidence = (over == kMost ? say::kTooLongEvidenceAtLeast : say::kTooLongEvidence)(
                {{"calls", plural(over, "call", "calls")},
                 {"expected", durationText(longest)},
                 {"longest", durationText(found->front().duration)}});
            advice.next = say::kTooLongNext();
            advice.key = "too long " + r_.sites[site].name;
            advice.cost = cost;
            advice.site = site;
            placeAt(advice, found->front().marker.lane, found->front().begin,
                    found->front().begin + found->front().duration);
            out_.push_back(std::move(advice));
        }
    }

    // ---- what should be recorded ----------------------------------------------------------------------------

    /// Time of frames that ran outside any marker, or between the inner markers of one, for long.
    void unmarked() {
        constexpr int64_t kLongPart = 1'000'000;  // ns without a marker
        std::map<std::pair<uint32_t, PathId>, Advice> byPlace;
        std::map<std::pair<uint32_t, PathId>, int64_t> inSample;
        std::map<std::pair<uint32_t, PathId>, StackTree> stacks;
        std::vector<bool> divided(r_.paths.size());
        for (const PartKey& key : e_.pathSums->keys)
            if (key.path && key.kind == SegmentKind::Running) divided[r_.paths[key.path].parent] = true;
        divided[0] = true;
        CriticalPathWalker walker(r_);
        for (size_t i = sample_.size(); i-- > 0;) {
            const Frame& frame = e_.frame(sample_[i]);
            for (const Segment& segment : walker.account(frame.lane, frame.begin, frame.end)) {
                if (segment.kind != SegmentKind::Running || segment.duration() < kLongPart || !divided[segment.path])
                    continue;
                Advice& advice = byPlace[{segment.lane, segment.path}];
                inSample[{segment.lane, segment.path}] += segment.duration();
                if (e_.symbols)
                    forEachSample(r_, r_.lanes[segment.lane], segment.begin, segment.end,
                                  [&](const StackSample& sample) {
                                      stacks[{segment.lane, segment.path}].add(*e_.symbols, r_, sample);
                                  });
                if (segment.duration() > advice.end - advice.begin)
                    placeAt(advice, segment.lane, segment.begin, segment.end);
            }
        }
        for (auto& [place, advice] : byPlace) {
            const int64_t ns = inSample[place];
            if (static_cast<double>(ns) < 10 * kWorthSaying * static_cast<double>(sampleTime_)) continue;
            advice.kind = AdviceKind::Unmarked;
            advice.confidence = ConfidenceLevel::High;
            advice.title = say::kUnmarkedTitle({{"lane", r_.lanes[place.first].name}});
            advice.evidence = (place.second ? say::kUnmarkedInside : say::kUnmarkedOutside)(
                {{"part", percent(static_cast<double>(ns) / static_cast<double>(sampleTime_))},
                 {"path", r_.pathText(place.second)}});
            advice.next = say::kUnmarkedNext();
            if (const auto tree = stacks.find(place); tree != stacks.end()) nameFunction(advice, tree->second);
            advice.key = "unmarked " + r_.lanes[place.first].name + " " + r_.pathText(place.second);
            advice.cost = ofAll(ns) / 10;  // it only hides what costs
            out_.push_back(advice);
        }
    }

    /// Functions that made frames late, and that no marker tells.
    void unmarkedFunctions() {
        for (const Cause& cause : e_.causes) {
            if (cause.key.function == kNone || cause.spikes.empty()) continue;
            const std::string name = e_.symbols->nameOf(cause.function),
                              where = (cause.path ? say::kInPath : say::kOnLaneOutside)(
                                  {{"path", r_.pathText(cause.path)}, {"lane", r_.groups[cause.group].name}});
            const uint32_t worst = e_.worstFrameOf(cause);
            int64_t excess = 0;
            for (const CauseShare& share : e_.sharesOf(worst))
                if (&e_.causes[share.cause] == &cause) excess = share.excess;
            const SeenFunctions* const stacks = functionsSeen(e_, worst, cause);
            if (const SeenFunction* seen = stacks ? stacks->find(cause.function) : nullptr) excess = seen->excess;
            Advice advice;
            advice.kind = AdviceKind::Unmarked;
            advice.confidence = ConfidenceLevel::Medium;
            advice.title = say::kAddMarkerTitle({{"function", name}});
            const std::string from =
                cause.caller == kNone ? "" : say::kCalledFrom({{"caller", e_.symbols->nameOf(cause.caller)}});
            advice.evidence = (cause.ofSamples ? say::kAddMarkerEvidence : say::kAddMarkerBlocked)(
                {{"where", where},
                 {"samples", countText(cause.samples)},
                 {"stacks", plural(cause.ofSamples, "call stack", "call stacks")},
                 {"frames", plural(cause.frames.size(), "late frame", "late frames")},
                 {"function", e_.symbols->fullName(cause.function)},
                 {"from", from},
                 {"time", durationText(excess)},
                 {"worst", countText(worst)}});
            advice.next = say::kAddMarkerNext();
            advice.key = "unmarked function " + e_.symbols->fullName(cause.function) +
                         (cause.path ? " in " + r_.pathText(cause.path)
                                     : " on " + r_.groups[cause.group].name + ", outside any marker");
            advice.cost = cause.late;
            const Frame& frame = e_.frame(worst);
            placeAt(advice, frame.lane, frame.begin, frame.end);
            out_.push_back(std::move(advice));
        }
    }

    /// Where a marker should be: the innermost function that most of the call stacks have.
    void nameFunction(Advice& advice, const StackTree& stacks) const {
        constexpr uint32_t kFewest = 8;  // samples
        constexpr double kMost = 0.5;
        uint32_t named = StackTree::kRoot;
        const auto& nodes = stacks.nodes();
        for (uint32_t node = StackTree::kRoot, next = node; next != kNone; node = next) {
            if (node != StackTree::kRoot && e_.symbols->tells(nodes[node].function)) named = node;
            next = kNone;
            for (const uint32_t child : nodes[node].children)
                if (nodes[child].total >= kMost * stacks.total()) next = child;
        }
        if (named == StackTree::kRoot || stacks.total() < kFewest) return;
        std::string caller;  // none: it is the program's or the thread's main function, which names nothing
        for (uint32_t at = nodes[named].parent; at != StackTree::kRoot && caller.empty(); at = nodes[at].parent)
            if (e_.symbols->tells(nodes[at].function)) caller = e_.symbols->nameOf(nodes[at].function);
        if (caller.empty()) return;
        advice.evidence +=
            " " + say::kStacksMostlyIn({{"part", percent(static_cast<double>(nodes[named].total) / stacks.total())},
                                        {"stacks", plural(stacks.total(), "call stack is", "call stacks are")},
                                        {"function", e_.symbols->fullName(nodes[named].function)},
                                        {"caller", caller}});
        advice.next = say::kMarkerAround({{"function", e_.symbols->nameOf(nodes[named].function)}});
    }

    void recorded() {
        const Measuring& measuring = e_.pathSums->measuring;
        if (const std::string sentence = measuringAdvice(r_, measuring); !sentence.empty()) {
            Advice advice;
            advice.kind = AdviceKind::Measuring;
            advice.confidence = ConfidenceLevel::High;
            advice.title = say::kMeasuringTitle({{"part", percent(measuring.share)}});
            advice.evidence = sentence;
            advice.next = say::kMeasuringNext();
            advice.key = "measuring";
            advice.cost = measuring.inFrames;
            out_.push_back(std::move(advice));
        }
        size_t good = 0;
        for (const FrameVerdict& frame : e_.frames) good += frame.overrun == 0;
        if (e_.figures.over && good < 30) {
            Advice advice;
            advice.kind = AdviceKind::Weak;
            advice.confidence = ConfidenceLevel::High;
            advice.title = good ? say::kFewMetTitle() : say::kNoneMetTitle();
            advice.evidence = say::kFewMetEvidence({{"frames", plural(good, "frame is", "frames are")}});
            advice.next = say::kFewMetNext();
            advice.key = "weak";
            out_.push_back(std::move(advice));
        }
    }

    const Explanation& e_;
    const Recording& r_;
    const AdviceLimits limits_;
    const Progress& progress_;
    int64_t time_ = 0, sampleTime_ = 0;
    std::vector<uint32_t> sample_;
};

}  // namespace

std::shared_ptr<const std::vector<Advice>> adviceFor(const Explanation& explanation, const AdviceLimits& limits,
                                                     const Progress& progress) {
    longWork("advice");
    Adviser adviser(explanation, limits, progress);
    if (!adviser.run()) return nullptr;
    return std::make_shared<const std::vector<Advice>>(std::move(adviser.out_));
}

}  // namespace fugato
