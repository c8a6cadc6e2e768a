// SPDX-License-Identifier: GPL-3.0-or-later
#include "event_table.h"

#include <algorithm>
#include <optional>
#include <unordered_map>

#include "core/explain/words/quantities.h"
#include "core/table/first_in_order.h"
#include "format/number_text.h"
#include "link_ends.h"

namespace fugato {

namespace {

constexpr uint32_t kReadAtOnce = 4096, kLookedAtOnce = 65536;
constexpr size_t kMostSorted = 300'000;

std::vector<TableColumn> columnsFor(const Recording& r) {
    std::vector<TableColumn> columns{
        {"time_ns", "Time", Quantity::Instant, "Since the recording's begin", r.begin},
        {"lane", "Lane", Quantity::Text, "On which it happened"},
        {"event", "Event", Quantity::Text, "What happened"},
        {"name", "Name", Quantity::Text, "Of the marker, counter, state…; of a point its words"},
        {"duration_ns", "Duration", Quantity::Duration, "From its begin to its end"},
        {"details", "Details", Quantity::Text,
         "Arguments, values, who ended a wait, where a link leads, what an operation said"},
        {"inside", "Inside", Quantity::Text, "The markers around it, the innermost last"},
        {"category", "Category", Quantity::Text, "Of the marker or operation"}};
    columns[kEventInside].optional = columns[kEventCategory].optional = true;
    columns[kEventDetails].wide = true;
    return columns;
}

std::string whereOf(const Recording& r, uint32_t lane, PathId path) {
    return (lane < r.lanes.size() ? r.lanes[lane].name : "another lane") + (path ? ", in " + r.pathText(path) : "");
}

/// Where the links lead that are given out among some events, as far as that is found soon after these.
class LinkTargets {
public:
    LinkTargets(const Recording& r, const std::vector<ListedEvent>& events) {
        std::unordered_map<uint64_t, uint32_t> given;  // by link, its number among all sources
        int64_t first = INT64_MAX, last = INT64_MIN;
        for (const ListedEvent& event : events) {
            if (event.what != EventWhat::LinkGiven) continue;
            given.emplace(r.linkSources[event.index].link, event.index);
            first = std::min(first, event.time);
            last = std::max(last, event.time);
        }
        if (given.empty()) return;
        eachLinkEnd(r, first, last > INT64_MAX - kSoon ? INT64_MAX : last + kSoon, kMostLooked,
                    [&](uint32_t lane, const LinkEnd& end) {
                        if (const auto link = given.find(end.link); link != given.end())
                            add(targets_[link->second], r, lane, end);
                        return true;
                    });
    }
    std::string of(const ListedEvent& event) const {
        const auto found = targets_.find(event.index);
        if (found == targets_.end()) return {};
        const Target& target = found->second;
        return target.text + (target.count > 1 ? " and " + std::to_string(target.count - 1) + " more" : "");
    }

private:
    static constexpr int64_t kSoon = 5'000'000'000;  // ns
    static constexpr size_t kMostLooked = 500'000;
    struct Target {
        int64_t time = 0;  // of the first
        size_t count = 0;
        std::string text;
    };
    static void add(Target& target, const Recording& r, uint32_t lane, const LinkEnd& end) {
        if (++target.count > 1 && end.time >= target.time) return;
        target.time = end.time;
        target.text = (end.endsWait ? "ended the wait of " : "asked for work of ") + whereOf(r, lane, end.path);
    }
    std::unordered_map<uint32_t, Target> targets_;
};

/// What is known of one event; the recording and the links outlive it.
class EventTexts {
public:
    EventTexts(const Recording& recording, const ListedEvent& event, const LinkTargets& links)
        : r_(recording), e_(event), links_(links) {}

    TableValue value(size_t column) const {
        switch (column) {
            case kEventTime: return e_.time;
            case kEventLane: return e_.lane < r_.lanes.size() ? TableValue(r_.lanes[e_.lane].name) : TableValue();
            case kEventWhat: return std::string(textOf(e_.what));
            case kEventName: return name();
            case kEventDuration: return duration();
            case kEventDetails: return text(details());
            case kEventInside: return text(inside());
            default: return text(category());
        }
    }
    Emphasis emphasis() const {
        switch (e_.what) {
            case EventWhat::Point:
                return r_.points[e_.index].severity >= Severity::Warning ? Emphasis::Strong : Emphasis::None;
            case EventWhat::OperationEnds: return r_.operations[e_.index].code ? Emphasis::Strong : Emphasis::None;
            case EventWhat::EventsLost: return Emphasis::Strong;
            case EventWhat::MarkerEnds:
            case EventWhat::WaitEnds:
            case EventWhat::FrameEnds: return Emphasis::Muted;
            default: return Emphasis::None;
        }
    }
    TablePlace place() const {
        TablePlace place;
        place.marker = e_.marker;
        place.lane = e_.lane;
        place.begin = place.end = e_.time;
        if (e_.what == EventWhat::FrameBegins || e_.what == EventWhat::FrameEnds) {
            const Frame& frame = r_.series[e_.of].frames[e_.index];
            place.begin = frame.begin;
            place.end = frame.end;
        }
        return place;
    }

private:
    static TableValue text(std::string text) { return text.empty() ? TableValue() : TableValue(std::move(text)); }
    const LinkEnd& linkEnd() const { return r_.lanes[e_.lane].linkIns[e_.index]; }

    std::string name() const {
        switch (e_.what) {
            case EventWhat::MarkerBegins:
            case EventWhat::MarkerEnds:
            case EventWhat::WaitBegins:
            case EventWhat::WaitEnds: return r_.nameOf(r_.pathOf(e_.marker));
            case EventWhat::FrameBegins:
            case EventWhat::FrameEnds: return r_.series[e_.of].name + " " + countText(e_.index);
            case EventWhat::WorkBegins:
            case EventWhat::WaitReleased: return linkEnd().path ? r_.nameOf(linkEnd().path) : "outside all markers";
            case EventWhat::LinkGiven: {
                const PathId path = r_.linkSources[e_.index].path;
                return path ? r_.nameOf(path) : "outside all markers";
            }
            case EventWhat::Input:
            case EventWhat::Point: return std::string(r_.text(r_.points[e_.index].text));
            case EventWhat::OperationBegins:
            case EventWhat::OperationEnds: return r_.sites[r_.operations[e_.index].site].name;
            case EventWhat::OperationStep: return r_.sites[r_.operationSteps[e_.index].site].name;
            case EventWhat::StateBegins: return r_.states[e_.of].name;
            case EventWhat::Counter: return r_.counters[e_.of].name;
            case EventWhat::MemoryTaken:
            case EventWhat::MemoryReleased: {
                const Allocation& one = r_.allocations[e_.index];
                if (const std::string_view name = r_.text(one.name); !name.empty()) return std::string(name);
                return one.pool < r_.pools.size() ? r_.pools[one.pool].name : std::string();
            }
            case EventWhat::Picture: return "the screen";
            case EventWhat::EventsLost: return {};
        }
        return {};
    }
    TableValue duration() const {
        switch (e_.what) {
            case EventWhat::MarkerBegins:
            case EventWhat::MarkerEnds:
            case EventWhat::WaitBegins:
            case EventWhat::WaitEnds: return r_.lanes[e_.marker.lane].rows[e_.marker.row].duration(e_.marker.index);
            case EventWhat::FrameBegins:
            case EventWhat::FrameEnds: return r_.series[e_.of].frames[e_.index].duration();
            case EventWhat::OperationEnds: return r_.operations[e_.index].end - r_.operations[e_.index].begin;
            case EventWhat::StateBegins: {
                const StateSpan& span = r_.states[e_.of].spans[e_.index];
                return span.end - span.begin;
            }
            case EventWhat::MemoryReleased: return r_.allocations[e_.index].released - r_.allocations[e_.index].taken;
            default: return {};
        }
    }
    std::string details() const {
        switch (e_.what) {
            case EventWhat::MarkerBegins: return r_.argumentsText(e_.marker);
            case EventWhat::WaitBegins: {
                const Wait* wait = r_.lanes[e_.lane].waitOf(e_.marker);
                return wait && wait->object < r_.objects.size() ? "for " + r_.objects[wait->object] : std::string();
            }
            case EventWhat::WaitEnds: {
                const Wait* wait = r_.lanes[e_.lane].waitOf(e_.marker);
                const auto* by = wait && wait->link ? r_.linkSource(wait->link) : nullptr;
                return by ? "ended by " + whereOf(r_, by->lane, by->path) : std::string();
            }
            case EventWhat::WorkBegins:
            case EventWhat::WaitReleased: {
                const auto* by = r_.linkSource(linkEnd().link);
                return by ? (e_.what == EventWhat::WorkBegins ? "asked for by " : "by ") +
                                whereOf(r_, by->lane, by->path)
                          : std::string();
            }
            case EventWhat::LinkGiven: return links_.of(e_);
            case EventWhat::Point: {
                const Point& point = r_.points[e_.index];
                const std::string severity(layout::kWords<Severity>[static_cast<size_t>(point.severity)]);
                return severity + (point.code ? ", code " + std::to_string(*point.code) : "");
            }
            case EventWhat::OperationEnds: {
                const Operation& operation = r_.operations[e_.index];
                std::string said(r_.text(operation.text));
                if (!operation.code) return said;
                return "failed, code " + std::to_string(operation.code) + (said.empty() ? "" : ": " + said);
            }
            case EventWhat::StateBegins: return std::string(r_.text(r_.states[e_.of].spans[e_.index].value));
            case EventWhat::Counter: {
                const Counter& counter = r_.counters[e_.of];
                return shortText(counter.values[e_.index], 6) + (counter.unit.empty() ? "" : " " + counter.unit);
            }
            case EventWhat::MemoryTaken:
            case EventWhat::MemoryReleased: return bytesText(r_.allocations[e_.index].bytes);
            case EventWhat::Picture: {
                const Picture& picture = r_.pictures[e_.index];
                return std::to_string(picture.width) + " × " + std::to_string(picture.height);
            }
            case EventWhat::EventsLost:
                return plural(r_.lanes[e_.lane].lost[e_.index].events, "event", "events") + " missing before";
            default: return {};
        }
    }
    PathId around() const {
        switch (e_.what) {
            case EventWhat::MarkerBegins:
            case EventWhat::MarkerEnds:
            case EventWhat::WaitBegins:
            case EventWhat::WaitEnds: return r_.paths[r_.pathOf(e_.marker)].parent;
            case EventWhat::OperationBegins:
            case EventWhat::OperationEnds: return r_.operations[e_.index].askedBy;
            case EventWhat::MemoryTaken: return r_.allocations[e_.index].path;
            default: return 0;
        }
    }
    std::string inside() const {
        const PathId path = around();
        return path ? r_.pathText(path) : std::string();
    }
    std::string category() const {
        switch (e_.what) {
            case EventWhat::MarkerBegins:
            case EventWhat::MarkerEnds:
            case EventWhat::WaitBegins:
            case EventWhat::WaitEnds: return r_.siteOf(r_.pathOf(e_.marker)).category;
            case EventWhat::OperationBegins:
            case EventWhat::OperationEnds: return r_.sites[r_.operations[e_.index].site].category;
            case EventWhat::OperationStep: return r_.sites[r_.operationSteps[e_.index].site].category;
            default: return {};
        }
    }

    const Recording& r_;
    const ListedEvent& e_;
    const LinkTargets& links_;
};

/// Stays the same where other events come before it.
uint64_t keyOfEvent(const ListedEvent& event) {
    uint64_t key = (static_cast<uint64_t>(event.what) + 1) * kKeyMixer;
    for (const uint32_t part : {event.lane, event.marker.row, event.of, event.index}) key = (key ^ part) * kKeyMixer;
    return key ^ key >> 32;
}

/// Some of a list. `window`: in the list's order, or one that was sorted.
class EventRows : public Table {
public:
    EventRows(std::shared_ptr<const EventList> list, std::vector<ListedEvent> events, bool window)
        : list_(std::move(list)), events_(std::move(events)), window_(window) {}
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(events_.size()); }
    bool ordered() const override { return window_; }
    const ListedEvent& event(Row row) const { return events_[row]; }
    TableValue value(Row row, size_t column) const override { return texts(row).value(column); }
    Emphasis emphasis(Row row, size_t) const override { return texts(row).emphasis(); }
    TablePlace place(Row row) const override { return texts(row).place(); }
    uint64_t keyOf(Row row) const override { return keyOfEvent(events_[row]); }

private:
    EventTexts texts(Row row) const { return {list_->recording(), events_[row], links_}; }

    const std::shared_ptr<const EventList> list_;
    const std::vector<ListedEvent> events_;
    const bool window_;
    const LinkTargets links_{list_->recording(), events_};
    const std::vector<TableColumn> columns_ = columnsFor(list_->recording());
};

LongList<ListedEvent> longList(const std::shared_ptr<const EventList>& list) {
    return {std::make_shared<EventTable>(list),
            list->size(),
            kLookedAtOnce,
            [list](uint64_t first, size_t count) { return list->read(first, count); },
            [list](std::vector<ListedEvent> events, bool window) {
                return std::make_shared<EventRows>(list, std::move(events), window);
            },
            [](const ListedEvent& event, const MarkerRef& marker) {
                return event.marker == marker &&
                       (event.what == EventWhat::MarkerBegins || event.what == EventWhat::WaitBegins);
            }};
}

/// Lanes, and below each its events.
class LastEvents : public NestedTable {
public:
    LastEvents(std::shared_ptr<const EventList> list, size_t count) : list_(std::move(list)) {
        const Recording& r = list_->recording();
        struct Last {
            uint32_t lane;
            std::vector<ListedEvent> events;
        };
        std::vector<Last> lanes;
        for (uint32_t l = 0; l < r.lanes.size(); ++l)
            if (auto events = list_->lastOf(l, count); !events.empty()) lanes.push_back({l, std::move(events)});
        std::stable_sort(lanes.begin(), lanes.end(),
                         [](const Last& a, const Last& b) { return a.events.back().time > b.events.back().time; });
        std::vector<Row> top;
        std::vector<std::vector<Row>> children;
        for (const Last& last : lanes) {
            top.push_back(static_cast<Row>(events_.size()));
            ListedEvent lane;
            lane.lane = last.lane;
            lane.time = last.events.back().time;
            events_.push_back(lane);
            children.emplace_back();
            for (const ListedEvent& event : last.events) {
                children[top.back()].push_back(static_cast<Row>(events_.size()));
                events_.push_back(event);
                children.emplace_back();
            }
        }
        nest(std::move(top), std::move(children));
        links_.emplace(r, events_);
        // What lies below each other begins with what it is called.
        std::swap(columns_[kEventTime], columns_[kEventName]);
        columns_[kEventTime].title = "Last events";
        columns_[kEventTime].help = "Lanes, and their last events below them";
        columns_[kEventLane].empty = true;
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    TableValue value(Row row, size_t column) const override {
        const ListedEvent& event = events_[row];
        const bool lane = parentOf(row) == kTop;
        if (column == kEventName) return event.time;
        if (lane) return column == kEventTime ? TableValue(list_->recording().lanes[event.lane].name) : TableValue();
        return texts(row).value(column == kEventTime ? kEventName : column);
    }
    Emphasis emphasis(Row row, size_t) const override {
        return parentOf(row) == kTop ? Emphasis::Strong : texts(row).emphasis();
    }
    TablePlace place(Row row) const override {
        if (parentOf(row) != kTop) return texts(row).place();
        TablePlace place;
        place.lane = events_[row].lane;
        place.begin = place.end = events_[row].time;
        return place;
    }
    uint64_t keyOf(Row row) const override { return uint64_t{events_[row].lane} << 32 | positionOf(row); }

private:
    EventTexts texts(Row row) const { return {list_->recording(), events_[row], *links_}; }

    const std::shared_ptr<const EventList> list_;
    std::vector<ListedEvent> events_;  // of a lane's own row only lane and time
    std::optional<LinkTargets> links_;
    std::vector<TableColumn> columns_ = columnsFor(list_->recording());
};

}  // namespace

const char* textOf(EventWhat what) {
    switch (what) {
        case EventWhat::MarkerEnds: return "ends";
        case EventWhat::WaitEnds: return "wait ends";
        case EventWhat::FrameEnds: return "frame ends";
        case EventWhat::StateBegins: return "state";
        case EventWhat::FrameBegins: return "frame begins";
        case EventWhat::WorkBegins: return "work begins";
        case EventWhat::WaitReleased: return "wait released";
        case EventWhat::MarkerBegins: return "begins";
        case EventWhat::WaitBegins: return "wait begins";
        case EventWhat::LinkGiven: return "link given";
        case EventWhat::Input: return "input";
        case EventWhat::Point: return "point";
        case EventWhat::OperationBegins: return "operation begins";
        case EventWhat::OperationStep: return "operation goes on";
        case EventWhat::OperationEnds: return "operation ends";
        case EventWhat::Counter: return "counter";
        case EventWhat::MemoryTaken: return "memory taken";
        case EventWhat::MemoryReleased: return "memory released";
        case EventWhat::Picture: return "picture";
        case EventWhat::EventsLost: return "events lost";
    }
    return "";
}

EventTable::EventTable(std::shared_ptr<const EventList> list)
    : WindowedTable(kReadAtOnce), list_(std::move(list)), columns_(columnsFor(list_->recording())) {}

uint32_t EventTable::rowLimit() const {
    return static_cast<uint32_t>(std::min<uint64_t>(list_->size(), uint64_t{kTop} - 1));
}

std::shared_ptr<const Table> EventTable::window(Row first, uint32_t count) const {
    return std::make_shared<EventRows>(list_, list_->read(first, count), true);
}

std::shared_ptr<const Table> EventTable::sorted(size_t column, bool descending, const Progress& progress) const {
    const LongList<ListedEvent> list = longList(list_);
    if (column == kEventTime && !descending) return list.table;
    return FirstInOrder<ListedEvent>::of(list, column, descending, kMostSorted, progress);
}

std::optional<Table::Row> EventTable::rowOf(const MarkerRef& marker) const {
    const auto place = list_->placeOf(marker);
    return place && *place < rowLimit() ? std::optional(static_cast<Row>(*place)) : std::nullopt;
}

std::shared_ptr<const Table> lastEventTable(std::shared_ptr<const EventList> list, size_t count) {
    return std::make_shared<LastEvents>(std::move(list), count);
}

}  // namespace fugato
