// SPDX-License-Identifier: GPL-3.0-or-later
//
// Which frames of a series were late, and what made them so: usual frames, excess, causes, spikes.
// The method with its formulas: docs/explanation.md. An Explanation never changes once made and may
// be read from any thread; it keeps the recording and the pathSums alive.
#pragma once

#include <array>
#include <limits>
#include <string>

#include "core/explain/walk/bound.h"
#include "core/store/shared_list.h"
#include "core/symbols/symbols.h"
#include "durations.h"
#include "frame_groups.h"

namespace fugato {

/// Used where neither the recording nor the person tells a deadline: 60 frames a second.
inline constexpr int64_t kDefaultBudgetNs = 16'666'667;
/// What critical paths do not reach (other lanes' usual work) is looked up in so many frames.
inline constexpr size_t kSampleFrames = 64;
/// Causes are named until this part of a frame's excess has an owner; below the half of it there is one for the rest.
inline constexpr double kEnoughExplained = 0.8, kHalfExplained = 0.5;
/// Causes with less than this part of the time late are not listed by themselves.
inline constexpr double kListed = 0.01;
/// Frames at the begin belong to the program's start-up where one of them lasts so many deadlines, …
inline constexpr int64_t kStartUpDeadlines = 10;
/// … up to so many frames in budget in a row, and to this part of all frames.
inline constexpr uint32_t kStartedFrames = 8;
inline constexpr double kStartUpPart = 0.05;
/// A frame is near its deadline within this part before it.
inline constexpr double kNearPart = 0.1;

enum class CauseKind : uint8_t { Slower, MoreCalls, Unusual, Waiting, NoCore, Unexplained };
inline constexpr size_t kCauseKinds = 6;
const char* causeKindName(CauseKind kind);  // "slower", "more_calls", …: the names used in JSON

/// How much longer than usual one part took in one frame.
struct ExcessPart {
    PartKey key;
    int64_t ns = 0, usual = 0;
    int64_t high = 0;  // what it takes in all but the slowest twentieth of usual frames
    int64_t excess() const { return ns - usual; }
};

struct CauseShare {
    uint32_t cause = 0;  // index in Explanation::causes
    int64_t excess = 0;  // of this frame
    int64_t late = 0;    // part of the frame's overrun laid to this cause
};

/// Whether a frame that paces itself met its tick: it ends on one, so it is late only where it missed one.
bool heldToTick(int64_t duration, int64_t pacing, int64_t deadline);

enum class FrameState : uint8_t { InBudget, Near, Over };

/// Which frames are explained: those that begin in a range of time, in a stage; by itself all of them.
struct ExplainScope {
    int64_t begin = std::numeric_limits<int64_t>::min(), end = std::numeric_limits<int64_t>::max();  // from, to before
    std::string stage;  // a value of the state named "stage"; empty: any
    bool whole() const { return *this == ExplainScope(); }
    bool operator==(const ExplainScope&) const = default;
};

/// How frames are to be judged and named.
struct ExplainOptions {
    int64_t budget = 0;                      // ns for every frame; 0: each frame's own deadline
    std::shared_ptr<const Symbols> symbols;  // functions by which time without markers is named; null: without names
    ExplainScope scope;
    ExplainOptions(int64_t budgetNs = 0, std::shared_ptr<const Symbols> names = nullptr, ExplainScope frames = {})
        : budget(budgetNs), symbols(std::move(names)), scope(std::move(frames)) {}
};

struct FrameVerdict {
    int64_t deadline = 0;  // duration allowed
    int64_t work = 0;      // duration without pacing
    int64_t overrun = 0;
    FrameState state = FrameState::InBudget;
    bool outside = false;  // of the scope: not judged, and never late
    bool startUp = false;  // the program was starting up or loading: see findStartUp()
    BoundBy bound = BoundBy::Cpu;
    uint32_t boundGroup = kNone;  // lane group, of Cpu and Gpu
    uint32_t baseline = 0;        // index in Explanation::baselines
    uint32_t spike = kNone;
    uint32_t origin = kNone;  // over frames: the frame whose work made this one late; mostly itself
    // Over frames only: where in Explanation::shares theirs are, and how many; see Explanation::sharesOf().
    uint32_t sharesFrom = 0, sharesCount = 0;
};

inline FrameGroup groupOfOne(uint32_t index, const FrameVerdict& frame) {
    const int64_t headroom = std::max<int64_t>(0, frame.deadline - frame.work);
    return {index,
            static_cast<uint8_t>(1u << static_cast<unsigned>(frame.bound)),
            frame.state == FrameState::Near,
            frame.outside,
            frame.overrun,
            headroom,
            headroom,
            frame.deadline,
            frame.deadline};
}

/// The usual frame of a stage: for each part the median over the frames that met their deadline.
struct Baseline {
    std::string stage;             // "" where it holds for the whole series
    size_t frames = 0;             // it rests on so many
    bool onlyLate = false;         // there was no frame in budget to rest on
    bool changes = false;          // what is usual changes slowly; this is one of several for its stage
    std::vector<uint32_t> sample;  // up to kSampleFrames of them, evenly spread
    std::vector<int64_t> usual;    // by key
    std::vector<int64_t> high;     // by key: 95th percentile; of parts without a core as `usual`
    std::array<int64_t, kContentions> contentionHigh{};  // by whose doing: 95th percentile of all such parts together
    std::vector<uint32_t> usualKeys;                     // those with a usual above 0
    std::vector<double> usualCalls;                      // by place
    int64_t total = 0;                                   // of `usual`
    int64_t median = 0;                                  // of the frames' durations
};

/// What frames must have in common to count as having one cause.
struct CauseKey {
    uint32_t group = 0;
    PathId path = 0;
    uint32_t object = kNone;  // lock, where the time was reached through one
    Contention contention = Contention::None;
    bool outside = false;  // the lane's time outside any marker
    bool waiting = false, unexplained = false;
    bool startUp = false;  // of frames in which the program was starting up or loading; ranked after all others
    FunctionId function = kNone, caller = kNone;  // in which the time went, as call stacks tell
    auto operator<=>(const CauseKey&) const = default;
};

/// Time that one lane group was without a core because of one holder.
struct ContentionPart {
    uint32_t group = 0;
    CoreHolder holder = kNone;
    int64_t ns = 0;
};

/// An argument of a cause's marker, or of one around or directly inside it, whose values go with the cause.
struct CauseArgument {
    std::string key;
    std::string marker;               // that has it; empty: the cause's own
    bool around = false;              // that marker is around the cause's own, not inside it
    std::string value;                // "reef.png", "reef.png (5) or bay.png (3)", "48, usually 12"
    size_t frames = 0, ofFrames = 0;  // that have it, of those looked at
};

struct Cause {
    std::string letter;  // "A" costs most, but a letter once given stays
    CauseKey key;
    uint32_t group = 0;  // of NoCore: which lost most time
    PathId path = 0;
    CauseKind kind = CauseKind::Unexplained;
    uint32_t object = kNone;
    Contention contention = Contention::None;
    std::vector<ContentionPart> contentionParts;  // of NoCore: its time late by waiting lane group and by core holder
    SegmentKind segment = SegmentKind::Running;   // what most of the excess is
    std::vector<uint32_t> frames;                 // with a share, ascending
    std::vector<uint32_t> spikes;                 // whose main cause it is
    int64_t late = 0;
    double calls = 0, usualCalls = 0;  // per frame, mean over its frames
    double slowdown = 0;               // mean call ÷ usual call; 0 where there is no usual call
    /// The function that took the time, where call stacks tell one.
    FunctionId function = kNone, caller = kNone;  // caller: the nearest one in another module
    /// In which it was seen, of those at this place in these frames; 0 where they tell that it was blocked there.
    size_t samples = 0, ofSamples = 0;
    /// Whether something that was recorded says what it is.
    bool isNamed() const { return kind != CauseKind::Unexplained || path || key.outside || function != kNone; }
    std::vector<CauseArgument> arguments;
    /// What regularly happens just before its spikes and hardly ever otherwise; empty where nothing does.
    struct Before {
        std::string what;  // "‘A gust crosses the course’"
        size_t spikes = 0, elsewhere = 0;
        uint32_t lane = kNone;
    } before;
};

/// Whether a piece of a frame's critical path is of a cause.
bool isOf(const Recording& recording, const Segment& segment, const Cause& cause);

/// Sums by holder, or by lane group that had no core: the most first.
std::vector<std::pair<CoreHolder, int64_t>> byHolder(const std::vector<ContentionPart>& contentionParts);
std::vector<std::pair<uint32_t, int64_t>> byGroup(const std::vector<ContentionPart>& contentionParts);

struct Spike {
    uint32_t first = 0, last = 0;  // frames
    uint32_t origin = 0;
    uint32_t cause = 0;
    int64_t late = 0;
};

struct Figures {
    size_t frames = 0, over = 0, near = 0;
    size_t startUpOver = 0;  // of those over, while the program was starting up or loading
    int64_t startUpLate = 0;
    int64_t late = 0, p50 = 0, p95 = 0, p99 = 0, worst = 0;
    // What most of the late frames are bound by, and how many of them.
    BoundBy boundBy = BoundBy::Cpu;
    uint32_t boundGroup = kNone;  // lane group, of Cpu and Gpu
    size_t bound = 0;
};

/// A loop that sleeps until its next tick without telling so; see timer_pacing.h.
struct TimerPacing {
    int64_t tick = 0;      // 0: there is none
    int64_t longest = 0;   // a frame that lasts no longer ended on its tick
    uint32_t key = kNone;  // the part in which it sleeps, in CriticalPathSums::keys
    double held = 0;       // this part of the frames lasts one tick
};

struct FoundCauses;      // in each late frame: excess_tree.h
class GatheredCauses;    // gathering.h
class UsualOccurrences;  // usual.h

class Explanation {
public:
    Explanation() = default;
    Explanation(const Explanation&) = delete;
    Explanation& operator=(const Explanation&) = delete;

    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const CriticalPathSums> pathSums;
    std::shared_ptr<const Symbols> symbols;  // null: functions are not named
    uint32_t series = 0;
    int64_t budget = 0;  // set by the person for every frame; 0: each frame's own
    ExplainScope scope;
    TimerPacing timer;
    SharedList<FrameVerdict> frames;
    SharedList<FrameGroup> groups;  // of each FrameGroup::kFrames of them
    std::vector<CauseShare> shares;
    std::vector<uint32_t> late;  // the frames over their deadline, ascending
    std::vector<Baseline> baselines;
    /// Costliest first, but those of starting up after the others.
    std::vector<Cause> causes;
    /// So many of them are worth a place in a list; each of the others has less than kListed of the time late.
    size_t listed = 0;
    std::vector<Spike> spikes;  // in order of time
    Figures figures;
    // What an explanation of more frames goes on from.
    std::shared_ptr<const FoundCauses> found;
    std::shared_ptr<UsualOccurrences> occurrences;
    std::shared_ptr<const GatheredCauses> gathered;  // of frames that are settled; null: none
    Durations durations;                             // of all frames in the scope
    uint32_t usualOver = 0;                          // what is usual was worked out when there were so many frames

    ExplainOptions options() const { return {budget, symbols, scope}; }
    /// How long a frame of the series may take.
    int64_t deadlineOf(const Frame& frame) const {
        return budget ? budget : frame.deadline ? frame.deadline : kDefaultBudgetNs;
    }
    /// Whether a frame was in time, and how much of it was work. `pacing`: so much of it was idle on purpose; `sleep`:
    /// in the sleep of its timer loop. Not what it was bound by, nor why.
    FrameVerdict judged(const Frame& frame, int64_t pacing, int64_t sleep) const;
    /// Whether a part of a frame is idle on purpose: less of it makes no other part's excess smaller, more of it is no
    /// cause. But where a frame is late although its work was done in time, its wait for the next tick ended late.
    bool isPacing(uint32_t frame, const ExcessPart& part) const;
    /// The causes of a frame that is over, largest first; of others none.
    std::span<const CauseShare> sharesOf(const FrameVerdict& verdict) const {
        return {shares.data() + verdict.sharesFrom, verdict.sharesCount};
    }
    std::span<const CauseShare> sharesOf(uint32_t frame) const { return sharesOf(frames[frame]); }
    /// What the frames [from, to) come to, at least one. Costs a look at each group of them.
    FrameGroup groupOf(uint32_t from, uint32_t to) const;
    FrameGroup groupOfAll() const { return groupOf(0, static_cast<uint32_t>(frames.size())); }
    const Frame& frame(uint32_t index) const { return recording->series[series].frames[index]; }
    /// Every part of a frame, longest excess first. The excesses add up to its duration minus the
    /// usual frame's total exactly.
    std::vector<ExcessPart> excessOf(uint32_t frame) const;
    /// The frame's critical path, from its end back to its begin. Costs a walk.
    std::vector<Segment> segmentsOf(uint32_t frame) const;
    uint32_t worstFrameOf(const Spike& spike) const;  // the one with the greatest overrun
    /// The one with most of the cause.
    uint32_t worstFrameOf(const Cause& cause) const;
    /// The excess of a contention cause in a frame by waiting lane group and by core holder, in proportion to the time
    /// that each lost. The longest first.
    std::vector<ContentionPart> contentionPartsIn(uint32_t frame, const Cause& cause) const;
    /// The cause with this key, or kNone.
    uint32_t causeLike(const CauseKey& key) const;
    int64_t usualOf(uint32_t frame) const { return baselines[frames[frame].baseline].total; }
    /// The median duration of the frames that this one is compared with. Not usualOf(), as a sum of medians is not
    /// the median of sums.
    int64_t usualDuration(uint32_t frame) const { return baselines[frames[frame].baseline].median; }
    /// What has to be explained of a frame, and how much of that its causes are. Pacing is no part of it.
    struct Coverage {
        int64_t excess = 0, named = 0;
        double part() const {
            return excess > 0 ? std::min(1.0, static_cast<double>(named) / static_cast<double>(excess)) : 1;
        }
    };
    Coverage coverageOf(uint32_t frame) const;

private:
    bool isOutside(const Frame& frame) const;
};

}  // namespace fugato
