// SPDX-License-Identifier: GPL-3.0-or-later
//
// Everything a recording tells, in order of time: a list of any length of which rows are read where they are looked at.
// What it takes to make one grows with the chunks of markers (4096 each) and with the other events that are asked for,
// not with the markers; reading some hundred rows anywhere costs a few searches in every row of markers. It never
// changes: any number of threads may read one.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "scope.h"

namespace fugato {

/// Kinds of events, as a person chooses among them.
enum class EventGroup : uint8_t {
    Marker,
    Wait,
    Frame,
    Link,
    Point,
    Operation,
    State,
    Counter,
    Memory,
    Picture,
    Lost,
    Input
};
inline constexpr size_t kEventGroups = static_cast<size_t>(EventGroup::Input) + 1;

enum class EventWhat : uint8_t {
    MarkerEnds,
    WaitEnds,
    FrameEnds,
    StateBegins,
    FrameBegins,
    WorkBegins,    // that a link asked for
    WaitReleased,  // by a link
    MarkerBegins,
    WaitBegins,
    LinkGiven,
    Input,
    Point,
    OperationBegins,
    OperationStep,
    OperationEnds,
    Counter,
    MemoryTaken,
    MemoryReleased,
    Picture,
    EventsLost
};
EventGroup groupOf(EventWhat what);

struct ListedEvent {
    int64_t time = 0;
    EventWhat what{};
    uint32_t lane = kNone;  // kNone: of no lane
    MarkerRef marker;       // of a marker or wait
    uint32_t of = 0;        // counter, state, series, pool
    uint32_t index = 0;     // in its list of the recording (or lane, series, counter…)
    bool noLength = false;  // of a marker or wait: it ends as it begins
    bool operator==(const ListedEvent&) const = default;
};

struct EventFilter {
    uint32_t kinds = (1u << kEventGroups) - 1;  // a bit for each
    Severity least = Severity::Debug;           // of points
    std::string category;                       // only markers, waits and operations of this one; empty: any
    std::string words;                          // in a name, text or argument; "key=value" as of search()
    bool has(EventGroup kind) const { return kinds & (1u << static_cast<unsigned>(kind)); }
    bool operator==(const EventFilter&) const = default;
};

/// Some events that are sorted by time, of one lane or of none.
class EventSource {
public:
    virtual ~EventSource() = default;
    virtual uint32_t lane() const = 0;
    virtual uint64_t size() const = 0;
    /// How many lie before an instant; known to be `from` or more, and `to` or fewer.
    virtual uint64_t before(int64_t time, uint64_t from, uint64_t to) const = 0;
    uint64_t before(int64_t time) const { return before(time, 0, size()); }
    /// Appends those from `from` to before `to`.
    virtual void read(uint64_t from, uint64_t to, std::vector<ListedEvent>& out) const = 0;
};

/// Of one instant: first what ends, then what begins; of markers in each other the inner ones end first.
class EventList {
public:
    EventList() = default;
    EventList(const EventList&) = delete;
    EventList& operator=(const EventList&) = delete;

    /// Events that lie in the scope; those of no lane only where it has all lanes. Null where `progress` cancelled it.
    static std::shared_ptr<const EventList> of(std::shared_ptr<const Recording> recording, const Scope& scope,
                                               const EventFilter& filter, const Progress& progress = {});
    const Recording& recording() const { return *recording_; }
    uint64_t size() const { return size_; }
    /// How many of them lie before an instant: where the first one from there on stands.
    uint64_t placeOf(int64_t time) const;
    /// Where the begin of a marker stands; none where it is not listed.
    std::optional<uint64_t> placeOf(const MarkerRef& marker) const;
    /// At most `count` of them from the one at `first` on.
    std::vector<ListedEvent> read(uint64_t first, size_t count) const;
    /// The last `count` of a lane.
    std::vector<ListedEvent> lastOf(uint32_t lane, size_t count) const;

private:
    friend class EventSources;
    /// An instant, and how many lie before it, altogether and of each source.
    struct Place {
        int64_t time = 0;
        uint64_t before = 0;
        std::vector<uint64_t> from;
    };
    uint64_t before(int64_t time) const;
    Place lastBefore(const TimeRange& range, uint64_t most) const;
    void merge(const std::vector<uint64_t>& from, int64_t to, uint64_t skip, size_t count,
               std::vector<ListedEvent>& out) const;

    std::shared_ptr<const Recording> recording_;
    std::vector<std::unique_ptr<const std::vector<uint8_t>>>
        paths_;  // that are wanted, of lanes; the sources read them
    std::vector<std::unique_ptr<const EventSource>> sources_;
    struct Stretch {
        TimeRange range;
        uint64_t place = 0;   // of its first event in the list
        uint64_t before = 0;  // events of all sources before it
    };
    std::vector<Stretch> stretches_;
    uint64_t size_ = 0;
};

}  // namespace fugato
