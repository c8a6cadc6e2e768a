// SPDX-License-Identifier: GPL-3.0-or-later
//
// A recording as columns per lane and nesting depth, in order of time. What grows with its length lies
// in a Storage (memory, or a mapped file) and is plain numbers; what does not lies beside it. Built by
// ModelBuilder, then never changed, so that any number of threads may read it. Times are integer
// nanoseconds since the recording's start. Indices are positions in the vectors here, not the ids of
// the file. Columns belong to the recording.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "extremes.h"
#include "format/events.h"
#include "marker_row.h"

namespace fugato {

struct Site {
    std::string name, category, description, file;
    uint32_t line = 0;
    int64_t longestNs = 0;
    uint32_t detail = 0;  // 0 coarse, 1 fine, 2 finest
};

struct MarkerRef {
    uint32_t lane = kNone, row = 0, index = 0;
    bool valid() const { return lane != kNone; }
    bool operator==(const MarkerRef&) const = default;
};

struct Wait {
    int64_t begin = 0, end = 0;
    uint32_t object = kNone;  // kNone: not told
    WaitKind kind = WaitKind::Other;
    uint64_t link = 0;  // that ended it; 0: not known
    uint32_t row = 0, index = 0;
};

/// A lock held by a lane; `path` is the innermost marker that was open from taking to giving back.
struct Hold {
    int64_t begin = 0, end = 0;
    uint32_t lane = 0;
    PathId path = 0;
};

struct LinkEnd {
    int64_t time = 0;
    uint64_t link = 0;
    PathId path = 0;
    uint32_t endsWait = 0;  // 1: the link ended a wait; 0: work began that was asked for by it
};

/// An argument of one marker of a lane.
struct Argument {
    uint32_t index = 0;  // of its marker, in a row
    uint32_t key = 0;
    ArgumentType type{};
    uint64_t value = 0;  // a whole number, the bits of a double, or a TextRef
    int64_t integer() const { return static_cast<int64_t>(value); }
    double real() const {
        double number;
        std::memcpy(&number, &value, sizeof number);
        return number;
    }
};

/// What the operating system did with a thread, where it was recorded.
enum class ThreadState : uint8_t { Running, Ready, Blocked };
struct ScheduleSpan {
    int64_t begin = 0, end = 0;
    ThreadState state{};
    uint32_t core = kNone;  // a lane of kind Core; where it ran, or ran last
};
/// Another thread, or the system itself, made a blocked thread ready to run.
struct WakeUp {
    int64_t time = 0;
    uint32_t by = 0;        // thread of the operating system; 0: the system itself (a timer, a device)
    uint32_t lane = kNone;  // of that thread
};
/// How a thread spent a range of time, as far as the system told.
struct TimeSplit {
    int64_t ran = 0, ready = 0, blocked = 0;
    int64_t known() const { return ran + ready + blocked; }
    void add(ThreadState state, int64_t ns) {
        (state == ThreadState::Running ? ran : state == ThreadState::Ready ? ready : blocked) += ns;
    }
};
inline constexpr size_t kScheduleStep = 64;  // of Lane::scheduleSums
/// Stands in CoreSpan::thread where the machine itself made no progress, as a virtual one while its host runs others:
/// a thread had the core, and in several times the time between two call stacks none was taken.
inline constexpr uint32_t kStoppedMachine = 0xfffffffe;
/// Who had a core; for lanes of kind Core.
struct CoreSpan {
    int64_t begin = 0, end = 0;
    uint32_t thread = 0;  // of the operating system; 0: idle, layout::kUnknownThread: not known; kStoppedMachine
};

struct LostEvents {
    int64_t time = 0;  // the events before this instant are missing
    uint64_t events = 0;
};

struct Lane {
    uint32_t id = 0;
    uint64_t osId = 0;
    LaneKind kind = LaneKind::Thread;
    std::string name, role;  // name is never empty
    std::string program;     // where the recording holds several; else empty
    uint32_t group = 0;      // lanes of one kind and role do the same work; see Recording::groups
    int64_t first = 0, last = 0;
    std::vector<MarkerRow> rows;
    Column<PathId> paths;  // by the lane's own numbers of paths
    Column<Wait> waits;    // sorted by begin
    struct Blocked {
        int64_t begin, end, until;  // until: summed durations up to and with this one
    };
    Column<Blocked> blocked;  // the waits that lie in no other wait, in order of time
    Column<LinkEnd> linkIns;  // sorted by time
    Column<LostEvents> lost;
    std::vector<Column<Argument>> arguments;  // by row, as far as any has some; sorted by index
    Column<ScheduleSpan> schedule;            // of a thread, sorted, without gaps but where it is not known
    Column<TimeSplit> scheduleSums;           // of the spans before every kScheduleStep-th one
    Column<WakeUp> wakeUps;                   // of a thread that was blocked, sorted
    Column<CoreSpan> coreSpans;               // of a core, sorted
    bool onlyCounts = false;                  // tells counters and nothing else
    bool fromSystem = false;                  // a thread that told nothing: the system says that it ran
    /// While the recording is still being opened: when the lane's events lie that have not been read.
    struct Unread {
        int64_t begin = 0, end = 0;
        uint64_t events = 0;
    };
    std::vector<Unread> unread;

    /// The link by which the work was asked for that a marker [begin, end] holds, or null.
    const LinkEnd* askedFor(int64_t begin, int64_t end) const;
    std::pair<const Argument*, const Argument*> argumentsOf(uint32_t row, uint32_t index) const;  // begin and end
    /// What the operating system did with the thread at an instant, or null.
    const ScheduleSpan* scheduleAt(int64_t time) const;

    TimeSplit splitBetween(int64_t begin, int64_t end) const;

    size_t markerCount() const;
    /// Time between two instants inside markers and not waiting.
    int64_t busyBetween(int64_t begin, int64_t end) const;
    /// The same, less the time in which the system did not let it run, where that is known. Costs a look at
    /// every change of its state in between.
    int64_t ranBetween(int64_t begin, int64_t end) const;
    const Wait* waitAt(uint32_t row, uint32_t index) const;
    const Wait* waitOf(const MarkerRef& marker) const { return waitAt(marker.row, marker.index); }
};

struct LaneGroup {
    std::string name;  // the lane's name where it stands alone, else the role
    std::vector<uint32_t> lanes;
};

struct Frame {
    int64_t begin = 0, end = 0;
    int64_t deadline = 0;  // duration allowed; 0: not recorded
    uint32_t lane = 0;
    int64_t duration() const { return end - begin; }
};

struct Series {
    std::string name;
    Column<Frame> frames;  // sorted by begin
    /// The frame that contains `time` (or the last one before it), or kNone.
    uint32_t frameAt(int64_t time) const;
    /// The first frame from `near` on that begins at `time` or later, or the number of frames. Quick where that is
    /// not far from `near`.
    uint32_t firstFrom(int64_t time, uint32_t near) const;
};

struct Counter {
    std::string name, unit;
    std::optional<double> threshold;
    Column<int64_t> times;
    Column<double> values;
    Column<Extreme> extremes;  // of the values
};

struct Point {
    int64_t time = 0;
    uint32_t lane = 0;
    Severity severity{};
    TextRef text = 0;
    std::optional<int64_t> code;
    bool input = false;  // a person did it; of no severity
};
/// "input", or how severe it is.
inline std::string_view kindOf(const Point& point) { return point.input ? "input" : layout::wordOf(point.severity); }

struct OperationStep {
    int64_t time = 0;
    uint32_t site = 0, lane = 0;
};
/// Work that begins on one lane and may end on another, passing through steps.
struct Operation {
    uint32_t site = 0;
    int64_t begin = 0, end = 0;  // end: of the recording where it was never ended
    uint32_t beganOn = 0, endedOn = kNone;
    PathId askedBy = 0;  // the marker it was begun in
    int64_t code = 0;    // 0: succeeded
    TextRef text = 0;
    uint32_t firstStep = 0, steps = 0;  // see Recording::stepsOf
    uint32_t row = 0;                   // in a picture where overlapping operations stand one below the other
};

inline constexpr size_t kListedOperationRows = 64;
/// Operations that follow one another in a picture. There are as many rows as operations at once, at most; those after
/// the first kListedOperationRows list nothing.
struct OperationRow {
    Column<uint32_t> operations;  // in order of time
    Column<uint32_t> failed;      // of these, in their order
    /// Whether any of the operations [from, to) of the row failed.
    bool anyFailed(size_t from, size_t to) const;
};

inline constexpr int64_t kNotReleased = std::numeric_limits<int64_t>::max();
struct Allocation {
    int64_t taken = 0, released = kNotReleased;
    bool isReleased() const { return released != kNotReleased; }
    uint32_t pool = 0, lane = 0;
    uint64_t address = 0, bytes = 0;
    PathId path = 0;   // the marker it is charged to
    TextRef name = 0;  // of a resource; else empty
};
struct Pool {
    std::string name;
    Column<int64_t> times;
    Column<int64_t> bytesInUse;  // after each change; what was taken before the recording is not counted
    Column<Extreme> extremes;    // of these
};

struct Picture {
    int64_t time = 0;
    uint32_t width = 0, height = 0;
    TextRef pixels = 0;  // red, green, blue
};

struct OsThread {
    uint32_t process = 0;
    std::string name;
    bool system = false;  // one of the system's own, and of no program
};
struct StackSample {
    int64_t time = 0;
    uint32_t thread = 0;            // of the operating system
    uint32_t core = 0;              // lane
    uint32_t first = 0, count = 0;  // in Recording::stackAddresses, innermost first
};
struct Module {
    uint64_t address = 0, bytes = 0, offset = 0;
    std::string path, buildId;
};

struct StateSpan {
    int64_t begin = 0, end = 0;
    TextRef value = 0;
};
struct State {
    std::string name;
    Column<StateSpan> spans;
};

/// What was wrong in the events and has been mended, counted.
struct Repairs {
    uint64_t endsWithoutBegin = 0;
    uint64_t beginsWithoutEnd = 0;
    uint64_t timesBackwards = 0;
    uint64_t framesWithoutEnd = 0;
    uint64_t unknownNames = 0;
    uint64_t lostEvents = 0;
    uint64_t tooDeep = 0;             // markers that lie too deep and stand beside the one they lie in
    std::string mostOftenNeverEnded;  // the marker's name
    bool any() const {
        return endsWithoutBegin || beginsWithoutEnd || timesBackwards || framesWithoutEnd || unknownNames ||
               lostEvents || tooDeep;
    }
    std::vector<std::string> sentences() const;
};

/// Waits of a marker on a lane that likely end when work of a lane group does.
struct LikelyEnder {
    uint32_t lane = 0;
    PathId path = 0;
    uint32_t group = 0;
    bool operator==(const LikelyEnder&) const = default;
};

class Recording {
public:
    std::vector<Site> sites;
    PathTable paths;
    std::vector<Lane> lanes;
    std::vector<LaneGroup> groups;
    std::vector<std::string> objects;
    std::vector<Column<Hold>> holds;  // by object, sorted by end
    std::vector<Series> series;       // those with frames come first, else as defined
    std::vector<Counter> counters;
    Column<Point> points;             // sorted by time
    Column<Extreme> pointSeverities;  // the extremes of theirs
    std::vector<State> states;
    std::vector<std::string> keys;  // of arguments
    Column<Operation> operations;   // sorted by begin
    Column<OperationStep> operationSteps;
    std::vector<OperationRow> operationRows;
    Column<int64_t> operationEnds;   // of all, sorted
    Column<Allocation> allocations;  // sorted by taken
    std::vector<Pool> pools;
    Column<Picture> pictures;  // sorted by time
    std::map<uint32_t, OsThread> osThreads;
    Column<StackSample> samples;  // of running, sorted by time
    Column<StackSample> stops;    // each where its thread blocks, at the begin of that; sorted by time
    Column<uint64_t> stackAddresses;
    std::vector<Module> modules;
    std::map<std::string, std::string> context;
    int64_t startedUnixNs = 0;
    int64_t begin = 0, end = 0;
    Repairs repairs;
    Damage damage;
    bool growing = false;                   // the program that makes it still runs: `end` is not its end
    bool wakeUps = false;                   // it tells who woke whom
    std::vector<LikelyEnder> likelyEnders;  // sorted by lane and path; see likely_enders.h
    uint64_t fileState = 0;                 // of its file, for which its index is valid; 0: it has no index

    struct LinkSource {
        uint64_t link = 0;
        int64_t time = 0;
        uint32_t lane = 0;
        PathId path = 0;
    };
    Column<LinkSource> linkSources;  // sorted by link
    std::shared_ptr<Storage> storage;
    std::shared_ptr<Arena> arena;  // of columns that only this recording has; see ModelBuilder::asItIs

    /// Where a link was given out, or null.
    const LinkSource* linkSource(uint64_t link) const;
    std::string_view text(TextRef text) const { return storage->text(text); }
    std::string valueText(const Argument& argument) const;
    std::string argumentsText(const MarkerRef& marker) const;  // "course = twice round, sails = 3"
    /// The gravest of the points [from, to), at least one; of several the first. Costs a look at each 64 of them.
    size_t gravestPoint(size_t from, size_t to) const;
    /// How many operations go on at an instant.
    size_t operationsAt(int64_t time) const;
    std::span<const OperationStep> stepsOf(const Operation& operation) const {
        return {operationSteps.data() + operation.firstStep, operation.steps};
    }

    /// Call stacks: samples, then stops.
    size_t stackCount() const { return samples.size() + stops.size(); }
    const StackSample& stack(size_t i) const { return i < samples.size() ? samples[i] : stops[i - samples.size()]; }
    /// What is damaged or missing and what had to be repaired, in sentences; the gravest first.
    std::vector<std::string> notes() const;
    size_t markerCount() const;
    /// Of path 0, which a marker has only where what was kept of it could not be read: one without a name.
    const Site& siteOf(PathId path) const;
    const std::string& nameOf(PathId path) const;
    std::vector<std::string> namesOf(PathId path) const;       // outermost first
    std::string pathText(PathId path, size_t most = 2) const;  // the innermost names, "Replay ▸ Flush"
    PathId pathOf(const MarkerRef& m) const { return lanes[m.lane].rows[m.row].path(m.index); }
    /// The innermost marker of a lane that is open just before `time`.
    MarkerRef innermostBefore(uint32_t lane, int64_t time) const;
    int64_t selfTime(const MarkerRef& marker) const;
    /// The recorded program's number; 0 where it is not known.
    uint32_t process() const;
    /// The processes of the recorded programs, with their programs' names: one without a name where the recording does
    /// not hold several.
    std::map<uint32_t, std::string> ownProcesses() const;
    /// Those that lanes tell of, in the order of the lanes; none where the recording holds one.
    std::vector<std::string> programNames() const;
    /// A name for a thread of the operating system: its lane's, else its own and its process.
    std::string osThreadText(uint32_t thread) const;
    /// Running time between two call stacks of a thread, in ns; 0: not known.
    int64_t samplePeriod() const;
    /// Whether they were taken also while the thread was in the system.
    bool samplesInSystem() const;
    /// The program's stages, each once, in the order in which they came.
    std::vector<std::string> stageNames() const;
    /// A code address as its module and the offset in the module's file, "skerry+0x1a2b".
    std::string addressText(uint64_t address) const;
    /// The state whose values are the stages of the program, or null.
    const State* stages() const;
    const StateSpan* stageAt(int64_t time) const;
};

}  // namespace fugato
