// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_sentences.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "core/explain/causes/cause_arguments.h"
#include "core/explain/causes/cause_functions.h"
#include "core/explain/causes/comes_before.h"
#include "core/explain/causes/confidence.h"
#include "core/explain/causes/earlier_stage.h"
#include "format/number_text.h"
#include "templates.h"

namespace fugato {

namespace {

constexpr size_t kMostOfCauses = 4, kMostBeforeBound = 5;  // sentences
constexpr size_t kMostHolders = 4;                         // of cores, by name
constexpr double kMuchWaiting = 0.1;
constexpr int64_t kWorthTelling = 200'000;  // ns behind a lock or another lane, or a tenth of the overrun
constexpr size_t kFewFrames = 30;           // to compare with

/// Where the longest time without a marker lies inside one that is divided by markers.
Sentence unmarkedSentence(const Explanation& e, const Cause& cause, int64_t excess, std::span<const Segment> segments) {
    const Recording& r = *e.recording;
    Segment longest;
    for (const Segment& segment : segments)
        if (segment.path == cause.path && r.lanes[segment.lane].group == cause.group &&
            segment.kind == SegmentKind::Running && segment.duration() > longest.duration())
            longest = segment;
    Sentence sentence{{}, 0, 0, kNone};
    std::string before, after;
    if (longest.marker.valid()) {
        sentence = {{}, longest.begin, longest.end, longest.lane};
        const auto& rows = r.lanes[longest.lane].rows;
        const uint32_t below = longest.marker.row + 1;
        if (below < rows.size()) {
            const auto [from, to] = rows[below].childrenOf(longest.marker.index);
            for (uint32_t i = from; i < to; ++i) {
                const std::string& name = r.nameOf(rows[below].path(i));
                if (rows[below].end(i) <= longest.begin) before = name;
                if (rows[below].begin(i) >= longest.end && after.empty()) after = name;
            }
        }
    }
    const Template& words = !longest.marker.valid()           ? say::kInsideLonger
                            : before.empty() && after.empty() ? say::kInsideLongest
                            : after.empty()                   ? say::kInsideAfter
                            : before.empty()                  ? say::kInsideBefore
                                                              : say::kInsideBetween;
    sentence.text = words({{"path", r.pathText(cause.path)},
                           {"time", durationText(excess)},
                           {"longest", durationText(longest.duration())},
                           {"before", before},
                           {"after", after}});
    if (cause.function == kNone) sentence.text += " " + say::kMarkerThere();
    return sentence;
}

/// How much more than usual the marker of a cause ran, and how much it waited, by kind.
struct ExcessSplit {
    int64_t ran = 0, notRunning = 0;
    std::map<SegmentKind, int64_t> by;
};
ExcessSplit excessSplitOf(const Explanation& e, uint32_t frame, const Cause& cause) {
    ExcessSplit out;
    for (const ExcessPart& part : e.excessOf(frame)) {
        const PartKey& key = part.key;
        if (key.kind == SegmentKind::NoCore || e.isPacing(frame, part) || key.object != kNone ||
            key.group != cause.group || !e.recording->paths.contains(cause.path, key.path))
            continue;
        if (key.kind == SegmentKind::Running)
            out.ran += part.excess();
        else
            out.by[key.kind] += part.excess();
    }
    for (const auto& [kind, ns] : out.by) out.notRunning += std::max<int64_t>(0, ns);
    return out;
}

/// The sentences about one frame, gathered in order of what matters.
class FrameSentences {
public:
    FrameSentences(const Explanation& e, uint32_t frame, std::span<const Segment> segments)
        : e_(e),
          r_(*e.recording),
          index_(frame),
          frame_(e.frame(frame)),
          verdict_(e.frames[frame]),
          shares_(e.sharesOf(frame)),
          baseline_(e.baselines[verdict_.baseline]),
          stage_(baseline_.stage.empty() ? "" : " " + baseline_.stage),
          segments_(segments) {}

    std::vector<Sentence> all() {
        findWhoWasWaitedFor();
        for (const CauseShare& share : shares_)
            if (out_.size() < kMostOfCauses) cause(share);
        coverage();
        origin();
        otherLanes();
        comesBefore();
        arguments();
        boundBy();
        comparedWith();
        return std::move(out_);
    }

private:
    /// Time on other lanes, of the critical path: behind one lock, or on one lane.
    struct Behind {
        int64_t time = 0, begin = INT64_MAX, end = 0;
        uint32_t lane = 0, waiter = 0;
        PathId holder = 0;
        bool likely = false;  // it is guessed
    };

    void findWhoWasWaitedFor() {
        for (const Segment& segment : segments_) {
            if (segment.lane == frame_.lane) continue;
            Behind& behind = segment.lock.object != kNone ? locks_[segment.lock.object] : byLane_[segment.lane];
            behind.likely |= segment.likely;
            behind.time += segment.duration();
            behind.begin = std::min(behind.begin, segment.begin);
            behind.end = std::max(behind.end, segment.end);
            behind.lane = segment.lane;
            behind.waiter = segment.lock.waiterLane;
            behind.holder = segment.lock.holder;
        }
    }

    int64_t worth() const { return std::max<int64_t>(kWorthTelling, verdict_.overrun / 10); }

    Sentence lockSentence(const Cause& cause, int64_t excess) const {
        const auto found = locks_.find(cause.object);
        if (found == locks_.end())
            return {say::kHeldLonger({{"cause", causeTitle(e_, cause)},
                                      {"lock", r_.objects[cause.object]},
                                      {"time", durationText(excess)}}),
                    0, 0, kNone};
        const Behind& behind = found->second;
        int64_t usual = 0;
        for (const uint32_t key : baseline_.usualKeys)
            if (e_.pathSums->keys[key].object == cause.object) usual += baseline_.usual[key];
        const std::string waited = say::kWaitedForLock({{"waiter", r_.lanes[behind.waiter].name},
                                                        {"time", durationText(behind.time)},
                                                        {"lock", r_.objects[cause.object]}}),
                          held = (behind.holder ? say::kHeldInside : say::kHeldOutside)(
                              {{"holder", r_.lanes[behind.lane].name},
                               {"path", behind.holder ? r_.pathText(behind.holder) : std::string()}}),
                          usually = (usual ? say::kLockUsually
                                           : say::kLockUsuallyNot)({{"stage", stage_}, {"usual", durationText(usual)}});
        return {waited + " " + held + " " + usually, behind.begin, behind.end, behind.lane};
    }

    /// "main was ready to run, but waited for a core 29.9 ms longer than usual: CPU contention with sh."
    std::string contentionText(const Cause& cause, const std::string& time) const {
        const std::vector<ContentionPart> without = e_.contentionPartsIn(index_, cause);
        const auto groups = byGroup(without);
        std::vector<std::string> lanes, times;
        for (const auto& [group, ns] : groups) {
            if (static_cast<double>(ns) < kHardlyAny * static_cast<double>(groups.front().second)) continue;
            lanes.push_back(r_.groups[group].name);
            times.push_back(r_.groups[group].name + " " + durationText(ns));
        }
        if (cause.contention == Contention::MachineStopped)
            return say::kMachineStopped({{"time", time}, {"lanes", joined(lanes.size() == 1 ? lanes : times)}});
        return (lanes.size() == 1 ? say::kReadyOne
                                  : say::kReadySeveral)({{"lane", joined(lanes)},
                                                         {"lanes", joined(lanes)},
                                                         {"time", time},
                                                         {"times", joined(times)},
                                                         {"holders", holdersText(r_, without, kMostHolders, true)}});
    }

    /// What there is no room for by itself, and how much of the frame is explained.
    void coverage() {
        if (shares_.size() > kMostOfCauses) {
            std::vector<std::string> small;
            for (const CauseShare& share : shares_.subspan(kMostOfCauses))
                small.push_back(causeTitle(e_, e_.causes[share.cause]) + " (" + durationText(share.excess) + ")");
            out_.push_back({say::kSmaller({{"causes", joined(small)}}), 0, 0, kNone});
        }
        const Explanation::Coverage coverage = e_.coverageOf(index_);
        if (shares_.empty() || coverage.part() >= kEnoughExplained || !coverage.named) return;
        out_.push_back(
            {say::kCovered({{"part", fixedText(100 * coverage.part(), 0)}, {"excess", durationText(coverage.excess)}}),
             0, 0, kNone});
    }

    double callsOf(const Cause& cause) const {
        const uint32_t place = e_.pathSums->place({cause.group, cause.path});
        if (place == kNone) return 0;
        for (const Calls& calls : e_.pathSums->callsOf(index_))
            if (calls.place == place) return calls.count;
        return 0;
    }

    /// Of one without a marker: time outside any marker, or nothing that was recorded.
    std::string unexplainedText(const Cause& cause, int64_t excess) const {
        int64_t outside = 0;
        for (const ExcessPart& part : e_.excessOf(index_))
            if (!part.key.path && part.key.group == cause.group && part.key.kind == SegmentKind::Running)
                outside += part.excess();
        if (2 * outside >= excess)
            return say::kOutsideLonger({{"lane", r_.groups[cause.group].name}, {"time", durationText(outside)}}) +
                   (cause.function == kNone ? " " + say::kMarkerThere() : "");

        if (e_.frames.size() == 1) return say::kOnlyOne();
        if (shares_.size() > 1) return say::kNothingToBlame({{"time", durationText(excess)}});
        return say::kNothingLonger();
    }

    /// " sound-server ended it.": who ended the waits of a cause, or that it is not known.
    std::string endedText(const Cause& cause) const {
        if (cause.segment == SegmentKind::WaitPacing || cause.segment == SegmentKind::WaitSleep) return {};
        std::map<CoreHolder, int64_t> times;
        for (const Segment& segment : segments_)
            if (segment.kind == cause.segment && isOf(r_, segment, cause)) times[segment.endedBy] += segment.duration();
        const auto most = std::max_element(times.begin(), times.end(),
                                           [](const auto& a, const auto& b) { return a.second < b.second; });
        const CoreHolder by = most == times.end() ? kNone : most->first;
        if (by == kSystem) return " " + say::kSystemEnded();
        if (by != kNone)
            return " " + (isOfTheSystem(r_, by) ? say::kEndedBySystem
                                                : say::kEndedByProgram)({{"by", coreHolderText(r_, by)}});
        if (cause.segment >= SegmentKind::WaitOther && cause.segment <= SegmentKind::WaitGpu)
            return " " + say::kWhoEnded();
        return {};
    }

    Sentence sentenceOf(const Cause& cause, int64_t excess) const {
        const std::string lane = r_.groups[cause.group].name, title = causePlace(e_, cause),
                          time = durationText(excess);
        const double calls = callsOf(cause);
        std::string text;
        switch (cause.kind) {
            case CauseKind::MoreCalls:
                text = say::kMoreCalls({{"path", title},
                                        {"calls", callsText(calls)},
                                        {"lane", lane},
                                        {"usual", callsText(cause.usualCalls)},
                                        {"time", time}});
                break;
            case CauseKind::Unusual:
                text = say::kUnusual({{"path", title}, {"lane", lane}, {"time", time}, {"stage", stage_}});
                break;
            case CauseKind::Slower:
                text = (calls == 0   ? say::kBeside  // the frame's critical path did not come through it
                        : calls == 1 ? say::kOneCall
                                     : say::kCalls)({{"path", title},
                                                     {"lane", lane},
                                                     {"factor", fixedText(cause.slowdown, 1)},
                                                     {"time", time},
                                                     {"calls", callsText(calls)}});
                break;
            case CauseKind::Waiting:
                text =
                    waitTemplates(cause.segment)
                        .longer(
                            {{"lane", lane}, {"time", time}, {"path", title}, {"blocked", blockedText(cause, excess)}});
                if (cause.segment == SegmentKind::Blocked) text += " " + say::kNoWaitRecorded();
                if (cause.segment == SegmentKind::WaitPacing) text += " " + say::kEndedLate();
                text += endedText(cause);
                break;
            case CauseKind::NoCore: text = contentionText(cause, time); break;
            case CauseKind::Unexplained:
                if (cause.path) return unmarkedSentence(e_, cause, excess, segments_);
                text = unexplainedText(cause, excess);
                break;
        }
        return {text, 0, 0, kNone};
    }

    /// " It ran 42.0 ms of that, and was blocked 35.0 ms." where a good part of it did not run.
    std::string notRunningText(const Cause& cause, int64_t excess) const {
        const ExcessSplit split = excessSplitOf(e_, index_, cause);
        if (split.notRunning < kWorthTelling ||
            static_cast<double>(split.notRunning) < kMuchWaiting * static_cast<double>(excess))
            return {};
        std::vector<std::string> words;
        if (split.ran > 0)
            words.push_back(waitTemplates(SegmentKind::Running).lasted({{"time", durationText(split.ran)}}));
        for (const auto& [kind, ns] : split.by)
            if (static_cast<double>(ns) >= kMuchWaiting * static_cast<double>(excess))
                words.push_back(waitTemplates(kind).lasted({{"time", durationText(ns)}}));
        return words.empty() ? std::string() : " " + say::kOfThat({{"what", joined(words)}});
    }

    /// ", 33.2 ms of that in loadTexture of skerry (by read)" where call stacks tell where it was blocked.
    std::string blockedText(const Cause& cause, int64_t excess) const {
        constexpr double kAll = 0.95;
        const SeenFunctions* const stacks = functionsSeen(e_, index_, cause);
        if (!stacks || !stacks->blocked) return {};
        const SeenFunction* const in = stacks->find(cause.function);
        const SeenFunction* const most = in ? in : stacks->by ? &*stacks->by : nullptr;
        if (!most) return {};
        const bool all = static_cast<double>(most->excess) >= kAll * static_cast<double>(excess);
        std::string text = all ? ", in " : ", " + durationText(most->excess) + " of that in ";
        if (!in) return text + e_.symbols->nameOf(most->function);
        text += e_.symbols->fullName(cause.function);
        if (stacks->by) text += " (by " + e_.symbols->nameOf(stacks->by->function) + ")";
        return text + (cause.caller == kNone ? "" : ", called from " + e_.symbols->nameOf(cause.caller));
    }

    /// " 19 of 21 call stacks there are in png_read_row of libpng16.so.16, called from loadTexture: 21.3 ± 2.1 ms more
    /// than usual." where call stacks tell.
    std::string functionText(const Cause& cause) const {
        const SeenFunctions* const stacks = functionsSeen(e_, index_, cause);
        const SeenFunction* const in = stacks ? stacks->find(cause.function) : nullptr;
        if (!in || stacks->blocked) return {};
        const bool from = cause.caller != kNone;
        return " " + (from ? say::kStacksInFrom
                           : say::kStacksIn)({{"samples", countText(in->samples)},
                                              {"stacks", plural(stacks->samples, "call stack", "call stacks")},
                                              {"function", e_.symbols->fullName(cause.function)},
                                              {"caller", from ? e_.symbols->nameOf(cause.caller) : std::string()},
                                              {"time", fixedText(static_cast<double>(in->excess) / 1e6, 1)},
                                              {"deviation", fixedText(static_cast<double>(in->deviation) / 1e6, 1)}});
    }

    /// " It had file = reef.png, size = 3.": of the longest occurrence in this frame, else of the nearest marker around
    /// it.
    std::string argumentsText(const Cause& cause) const {
        const MarkerRef longest = longestOccurrenceIn(e_, index_, cause);
        if (!longest.valid()) return {};
        constexpr size_t kMostText = 200;
        const auto& rows = r_.lanes[longest.lane].rows;
        for (MarkerRef at = longest;; --at.row) {
            const std::string text = r_.argumentsText(at);
            if (!text.empty() && text.size() <= kMostText)
                return " " + (at.row < longest.row ? say::kAroundHad
                              : callsOf(cause) > 1
                                  ? say::kLongestHad
                                  : say::kItHad)({{"marker", r_.nameOf(r_.pathOf(at))}, {"arguments", text}});
            // The outermost one on the frames' own lane is the frame, and says little of this.
            if (at.row == 0 || (at.row == 1 && at.lane == frame_.lane)) return {};
            at.index = rows[at.row].parent(at.index);
        }
    }

    void cause(const CauseShare& share) {
        const Cause& cause = e_.causes[share.cause];
        if (cause.object != kNone) {
            out_.push_back(lockSentence(cause, share.excess));
            return;
        }
        Sentence sentence = sentenceOf(cause, share.excess);
        const bool work =
            cause.kind == CauseKind::Slower || cause.kind == CauseKind::MoreCalls || cause.kind == CauseKind::Unusual;
        if (work) sentence.text += notRunningText(cause, share.excess);
        sentence.text += functionText(cause) + argumentsText(cause);
        for (const Segment& segment : segments_) {
            if (!isOf(r_, segment, cause)) continue;
            if (sentence.lane == kNone) sentence = {sentence.text, segment.begin, segment.end, segment.lane};
            sentence.begin = std::min(sentence.begin, segment.begin);
        }
        out_.push_back(std::move(sentence));
    }

    void origin() {
        if (verdict_.origin != kNone && verdict_.origin != index_) {
            const Frame& origin = e_.frame(verdict_.origin);
            out_.push_back(
                {say::kAskedFor({{"origin", countText(verdict_.origin)}}), origin.begin, origin.end, origin.lane});
        }
        for (const EarlierStage& earlier : earlierStages(e_, index_, segments_)) {
            const Frame& other = r_.series[earlier.series].frames[earlier.frame];
            out_.push_back(
                {(earlier.likely ? say::kLikelyThrough : say::kCameThrough)({{"frame", countText(earlier.frame)},
                                                                             {"series", r_.series[earlier.series].name},
                                                                             {"late", durationText(earlier.overrun)}}),
                 other.begin, other.end, other.lane});
        }
    }

    void otherLanes() {
        for (const auto& [lane, behind] : byLane_) {
            if (out_.size() >= kMostBeforeBound) break;
            if (behind.time < std::max<int64_t>(worth(), frame_.duration() / 8)) continue;
            out_.push_back(
                {(behind.likely ? say::kLikelyWaited : say::kWaitedForLane)({{"lane", r_.lanes[frame_.lane].name},
                                                                             {"other", r_.lanes[lane].name},
                                                                             {"time", durationText(behind.time)}}),
                 behind.begin, behind.end, lane});
        }
    }

    void comesBefore() {
        for (const CauseShare& share : shares_) {
            const Cause& cause = e_.causes[share.cause];
            if (cause.before.what.empty()) continue;
            std::string what = cause.before.what;
            if (what[0] >= 'a' && what[0] <= 'z') what[0] = static_cast<char>(what[0] - 'a' + 'A');
            const auto [from, to] = justBefore(e_, e_.spikes[verdict_.spike]);
            out_.push_back({(cause.before.elsewhere ? say::kJustBefore : say::kJustBeforeOnly)(
                                {{"what", what},
                                 {"some", countText(cause.before.spikes)},
                                 {"spikes", plural(cause.spikes.size(), "spike", "spikes")},
                                 {"letter", cause.letter}}),
                            from, to, cause.before.lane == kNone ? frame_.lane : cause.before.lane});
            break;
        }
    }

    /// What all frames of the first cause have in common.
    void arguments() {
        if (shares_.empty()) return;
        const Cause& cause = e_.causes[shares_.front().cause];
        for (const CauseArgument& argument : cause.arguments)
            out_.push_back({(argument.marker.empty() ? say::kAllHad
                             : argument.around       ? say::kAllHadAround
                                                     : say::kAllHadInside)(
                                {{"some", countText(argument.frames)},
                                 {"frames", plural(argument.ofFrames, "frame", "frames")},
                                 {"letter", cause.letter},
                                 {"marker", argument.marker.empty() ? r_.nameOf(cause.path) : argument.marker},
                                 {"argument", argument.key + " = " + argument.value}}),
                            0, 0, kNone});
    }

    void boundBy() {
        const Bound bound = Bounds(r_, *e_.pathSums).of(index_);
        const int64_t longest = bound.group == kNone ? bound.ns[static_cast<size_t>(bound.by)] : bound.groupNs;
        int64_t busy = 0;  // of all lanes
        for (const Lane& lane : r_.lanes) busy += lane.ranBetween(frame_.begin, frame_.end);
        const int64_t beside = busy - bound.work;
        std::string text = say::kBoundBy({{"what", boundText(r_, bound.by, bound.group)},
                                          {"longest", durationText(longest)},
                                          {"duration", durationText(frame_.duration())}});
        if (static_cast<double>(frame_.duration() - bound.work) > kMuchWaiting * static_cast<double>(frame_.duration()))
            text += " " + (bound.work > verdict_.deadline ? say::kWithoutWaitStill
                                                          : say::kWithoutWait)({{"work", durationText(bound.work)}});
        if (beside > frame_.duration() / 100) text += " " + say::kBesideIt({{"time", durationText(beside)}});
        out_.push_back({std::move(text), frame_.begin, frame_.end, frame_.lane});
    }

    void comparedWith() {
        const auto tell = [&](std::string text) { out_.push_back({std::move(text), 0, 0, kNone}); };
        if (baseline_.changes) tell(say::kChanges());
        if (!shares_.empty())
            out_.push_back({confidenceSentence(confidenceOf(e_, index_, e_.causes[shares_.front().cause], segments_)),
                            frame_.begin, frame_.end, frame_.lane});
        else if (e_.frames.size() == 1)
            tell(say::kOnlyFrame());
        else if (baseline_.onlyLate)
            tell(say::kNoneMet());
        else if (baseline_.frames < kFewFrames)
            tell(say::kFewFrames({{"frames", plural(baseline_.frames, "frame", "frames")}}));
    }

    const Explanation& e_;
    const Recording& r_;
    const uint32_t index_;
    const Frame& frame_;
    const FrameVerdict& verdict_;
    const std::span<const CauseShare> shares_;
    const Baseline& baseline_;
    const std::string stage_;  // " Race", or nothing
    const std::span<const Segment> segments_;
    std::map<uint32_t, Behind> locks_, byLane_;  // by object; by lane, of those reached in other ways
    std::vector<Sentence> out_;
};

}  // namespace

std::vector<Sentence> frameSentences(const Explanation& e, uint32_t frame, std::span<const Segment> segments) {
    return FrameSentences(e, frame, segments).all();
}
std::vector<Sentence> frameSentences(const Explanation& e, uint32_t frame) {
    return frameSentences(e, frame, e.segmentsOf(frame));
}

std::vector<WaterfallStep> waterfallOf(const Explanation& e, uint32_t frame, size_t most) {
    const Recording& r = *e.recording;
    // Time at one place counts once, however it was reached and whether it ran or waited there.
    std::vector<WaterfallStep> waterfall;
    const int64_t whole = e.frame(frame).duration() - e.usualDuration(frame);
    const auto shares = e.sharesOf(frame);
    for (const CauseShare& share : shares) {  // of a late frame its causes
        const Cause& cause = e.causes[share.cause];
        const bool waiting = cause.kind == CauseKind::Waiting || cause.kind == CauseKind::NoCore;
        PartKey key;
        key.group = cause.group;
        key.path = cause.path;
        const int64_t notRunning = waiting      ? share.excess
                                   : cause.path ? std::min(share.excess, excessSplitOf(e, frame, cause).notRunning)
                                                : 0;
        waterfall.push_back({causeTitle(e, cause), share.excess, key, false, notRunning});
    }
    for (const ExcessPart& part : e.excessOf(frame)) {
        if (!part.excess() || !shares.empty()) continue;
        const std::string title = partTitle(r, part.key);
        const auto same = std::find_if(waterfall.begin(), waterfall.end(), [&](const WaterfallStep& step) {
            return step.key.group == part.key.group && step.key.path == part.key.path && step.title == title;
        });
        const int64_t notRunning = part.key.kind == SegmentKind::Running ? 0 : part.excess();
        if (same != waterfall.end()) {
            same->excess += part.excess();
            same->notRunning += notRunning;
        } else {
            waterfall.push_back({title, part.excess(), part.key, false, notRunning});
        }
    }
    std::stable_sort(waterfall.begin(), waterfall.end(),
                     [](auto& a, auto& b) { return std::abs(a.excess) > std::abs(b.excess); });
    const int64_t floor = std::max<int64_t>(50'000, std::abs(whole) / 100);
    while (waterfall.size() > most || (!waterfall.empty() && std::abs(waterfall.back().excess) < floor))
        waterfall.pop_back();
    std::stable_sort(waterfall.begin(), waterfall.end(), [](auto& a, auto& b) { return a.excess > b.excess; });
    int64_t named = 0;
    for (const WaterfallStep& step : waterfall) named += step.excess;
    if (whole != named) waterfall.push_back({"everything else", whole - named, {}, true, 0});
    return waterfall;
}

}  // namespace fugato
