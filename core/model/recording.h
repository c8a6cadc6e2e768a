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

enum MarkerFlag : uint8_t { kMarkerWait = 1, kMarkerEndRepaired = 2, kMarkerInsideWait = 4 };

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
    /// The state whose values are the stages of the program, or null.
    const State* stages() const;
    const StateSpan* stageAt(int64_t time) const;
};

}  // namespace fugato
