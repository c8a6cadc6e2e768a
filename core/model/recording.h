// SPDX-License-Identifier: GPL-3.0-or-later
//
// A recording in memory: columns per lane and nesting depth, in order of time. Built by ModelBuilder,
// then never changed, so that any number of threads may read it. Times are integer nanoseconds since
// the recording's start. Indices are positions in the vectors here, not the ids of the file.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "format/events.h"

namespace fugato {

using PathId = uint32_t;  // a marker together with its callers; 0: outside any marker

inline constexpr uint32_t kNone = UINT32_MAX;

struct Site {
    std::string name, category, description, file;
    uint32_t line = 0;
    int64_t longestNs = 0;
    uint32_t detail = 0;  // 0 coarse, 1 fine, 2 finest
};

/// Every distinct chain of nested markers, as a tree: node 0 is "outside any marker".
class PathTable {
public:
    PathTable() : nodes_(1) {}
    struct Node {
        PathId parent = 0;
        uint32_t site = kNone;
        uint32_t depth = 0;  // number of markers on the path
    };
    const Node& operator[](PathId path) const { return nodes_[path]; }
    size_t size() const { return nodes_.size(); }
    PathId child(PathId parent, uint32_t site);
    bool contains(PathId ancestor, PathId path) const;  // also true where they are the same
    PathId common(PathId a, PathId b) const;

private:
    std::vector<Node> nodes_;
    std::unordered_map<uint64_t, PathId> children_;
};

enum MarkerFlag : uint8_t { kMarkerWait = 1, kMarkerEndRepaired = 2, kMarkerInsideWait = 4, kMarkerChangedNothing = 8 };

/// The markers of one lane at one nesting depth. They do not overlap and are sorted by begin.
struct MarkerRow {
    std::vector<int64_t> begin, end;
    std::vector<PathId> path;
    std::vector<uint32_t> parent;  // index in the row above; ascending
    std::vector<uint8_t> flags;
    std::vector<int64_t> busyUntil;  // summed durations of all markers up to and with this one
    std::vector<int64_t> waitUntil;  // the same of the waits among them; empty where there are none

    size_t size() const { return begin.size(); }
    /// The last marker that begins before `time`, or kNone.
    uint32_t lastBefore(int64_t time) const;
    /// The first marker that ends after `time`, or size().
    uint32_t firstEndingAfter(int64_t time) const;
};

struct MarkerRef {
    uint32_t lane = kNone, row = 0, index = 0;
    bool valid() const { return lane != kNone; }
    bool operator==(const MarkerRef&) const = default;
};

struct Wait {
    int64_t begin = 0, end = 0;
    uint32_t object = kNone;
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
};

/// An argument of one marker of a lane.
struct Argument {
    uint32_t row = 0, index = 0;
    uint32_t key = 0;
    ArgumentType type{};
    int64_t integer = 0;
    double real = 0;
    std::string text;
    std::string valueText() const;
};

/// What the operating system did with a thread, where it was recorded.
enum class ThreadState : uint8_t { Running, Ready, Blocked };
struct ScheduleSpan {
    int64_t begin = 0, end = 0;
    ThreadState state{};
    uint32_t core = kNone;  // a lane of kind Core; where it ran, or ran last
};
/// Who had a core; for lanes of kind Core.
struct CoreSpan {
    int64_t begin = 0, end = 0;
    uint32_t thread = 0;  // of the operating system; 0: idle, layout::kUnknownThread: not known
};

struct LostStretch {
    int64_t time = 0;  // the events before this instant are missing
    uint64_t events = 0;
};

struct Lane {
    uint32_t id = 0;
    uint64_t osId = 0;
    LaneKind kind = LaneKind::Thread;
    std::string name, role;  // name is never empty
    uint32_t group = 0;      // lanes of one kind and role do the same work; see Recording::groups
    int64_t first = 0, last = 0;
    std::vector<MarkerRow> rows;
    std::vector<Wait> waits;  // sorted by begin
    struct Blocked {
        int64_t begin, end, until;  // until: summed durations up to and with this one
    };
    std::vector<Blocked> blocked;  // the waits that lie in no other wait, in order of time
    std::vector<LinkEnd> linkIns;  // sorted by time
    std::vector<LostStretch> lost;
    std::vector<Argument> arguments;     // sorted by row and index
    std::vector<ScheduleSpan> schedule;  // of a thread, sorted, without gaps but where it is not known
    std::vector<CoreSpan> coreSpans;     // of a core, sorted
    bool onlyCounts = false;             // tells counters and nothing else

    std::pair<const Argument*, const Argument*> argumentsOf(uint32_t row, uint32_t index) const;  // begin and end
    /// What the operating system did with the thread at an instant, or null.
    const ScheduleSpan* scheduleAt(int64_t time) const;

    size_t markerCount() const;
    /// Time between two instants inside markers and not waiting.
    int64_t busyBetween(int64_t begin, int64_t end) const;
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
    std::vector<Frame> frames;  // sorted by begin
    /// The frame that contains `time` (or the last one before it), or kNone.
    uint32_t frameAt(int64_t time) const;
};

struct Counter {
    std::string name, unit;
    std::optional<double> threshold;
    std::vector<int64_t> times;
    std::vector<double> values;
};

struct Point {
    int64_t time = 0;
    uint32_t lane = 0;
    Severity severity{};
    std::string text;
    std::optional<int64_t> code;
};

/// Work that begins on one lane and may end on another, passing through steps.
struct Operation {
    uint32_t site = 0;
    int64_t begin = 0, end = 0;  // end: of the recording where it was never ended
    uint32_t beganOn = 0, endedOn = kNone;
    PathId askedBy = 0;  // the marker it was begun in
    int64_t code = 0;    // 0: succeeded
    std::string text;
    struct Step {
        int64_t time;
        uint32_t site, lane;
    };
    std::vector<Step> steps;  // sorted by time
    uint32_t row = 0;         // in a picture where overlapping operations stand one below the other
};

struct Allocation {
    int64_t taken = 0, given = 0;  // given: end of the recording where it was never given back
    bool givenBack = false;
    uint32_t pool = 0, lane = 0;
    uint64_t address = 0, bytes = 0;
    PathId path = 0;   // the marker it is charged to
    std::string name;  // of a resource; else empty
};
struct Pool {
    std::string name;
    std::vector<int64_t> times;
    std::vector<int64_t> bytesInUse;  // after each change; what was taken before the recording is not counted
};

struct Picture {
    int64_t time = 0;
    uint32_t width = 0, height = 0;
    std::string pixels;  // red, green, blue
};

struct OsThread {
    uint32_t process = 0;
    std::string name;
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
    std::string value;
};
struct State {
    std::string name;
    std::vector<StateSpan> spans;
};

/// What was wrong in the events and has been mended, counted.
struct Repairs {
    uint64_t endsWithoutBegin = 0;
    uint64_t beginsWithoutEnd = 0;
    uint64_t timesBackwards = 0;
    uint64_t framesWithoutEnd = 0;
    uint64_t unknownNames = 0;
    uint64_t lostEvents = 0;
    bool any() const {
        return endsWithoutBegin || beginsWithoutEnd || timesBackwards || framesWithoutEnd || unknownNames || lostEvents;
    }
    std::vector<std::string> sentences() const;
};

class Recording {
public:
    std::vector<Site> sites;
    PathTable paths;
    std::vector<Lane> lanes;
    std::vector<LaneGroup> groups;
    std::vector<uint32_t> laneOrder;  // as lanes are shown: the first series' own lane, threads, queues
    std::vector<std::string> objects;
    std::vector<std::vector<Hold>> holds;  // by object, sorted by end
    std::vector<Series> series;            // those with frames come first, else as defined
    std::vector<Counter> counters;
    std::vector<Point> points;  // sorted by time
    std::vector<State> states;
    std::vector<std::string> keys;        // of arguments
    std::vector<Operation> operations;    // sorted by begin
    std::vector<Allocation> allocations;  // sorted by taken
    std::vector<Pool> pools;
    std::vector<Picture> pictures;  // sorted by time
    std::map<uint32_t, OsThread> osThreads;
    std::vector<StackSample> samples;  // sorted by time
    std::vector<uint64_t> stackAddresses;
    std::vector<Module> modules;
    std::map<std::string, std::string> context;
    int64_t startedUnixNs = 0;
    int64_t begin = 0, end = 0;
    Repairs repairs;
    Damage damage;

    struct LinkSource {
        uint32_t lane = 0;
        int64_t time = 0;
        PathId path = 0;
    };
    std::unordered_map<uint64_t, LinkSource> linkSources;

    size_t markerCount() const;
    const Site& siteOf(PathId path) const { return sites[paths[path].site]; }
    const std::string& nameOf(PathId path) const;
    std::vector<std::string> namesOf(PathId path) const;       // outermost first
    std::string pathText(PathId path, size_t most = 2) const;  // the innermost names, "Replay ▸ Flush"
    PathId pathOf(const MarkerRef& m) const { return lanes[m.lane].rows[m.row].path[m.index]; }
    /// The innermost marker of a lane that is open just before `time`.
    MarkerRef innermostBefore(uint32_t lane, int64_t time) const;
    int64_t selfTime(const MarkerRef& marker) const;
    /// A name for a thread of the operating system: its lane's, else its own and its process.
    std::string osThreadText(uint32_t thread) const;
    /// A code address as its module and the offset in the module's file, "skerry+0x1a2b".
    std::string addressText(uint64_t address) const;
    /// The state whose values are the stages of the program, or null.
    const State* stages() const;
    const StateSpan* stageAt(int64_t time) const;
};

}  // namespace fugato
