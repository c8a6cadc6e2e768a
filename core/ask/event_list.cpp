// SPDX-License-Identifier: GPL-3.0-or-later
#include "event_list.h"

#include <algorithm>
#include <functional>
#include <numeric>
#include <optional>
#include <queue>

#include "core/store/long_work.h"
#include "search.h"

namespace fugato {

namespace {

constexpr size_t kReadFirst = 16;  // of a source

/// The first of [from, to) for which `late` says so, or `to`; it says so of all after that.
template <class Late>
uint64_t firstOf(uint64_t from, uint64_t to, Late&& late) {
    while (from < to) {
        const uint64_t middle = from + (to - from) / 2;
        if (late(middle))
            to = middle;
        else
            from = middle + 1;
    }
    return from;
}

/// The begins or the ends of a row of markers; all, or those on some paths.
class MarkerSource : public EventSource {
public:
    enum class Which : uint8_t { Begins, Ends };
    /// `paths`: by the lane's own numbers of them, outlives it; null: all.
    MarkerSource(const Recording& recording, uint32_t lane, uint32_t row, Which which,
                 const std::vector<uint8_t>* paths)
        : markers_(recording.lanes[lane].rows[row]), lane_(lane), row_(row), which_(which), paths_(paths) {
        if (!paths_) return;
        const size_t chunks = markers_.chunks().size();
        places_.reserve(chunks + 1);
        for (size_t chunk = 0; chunk < chunks; ++chunk) {
            places_.push_back(count_);
            for (auto [sum, to] = markers_.sumsOf(chunk); sum != to; ++sum)
                if ((*paths_)[sum->path]) count_ += sum->count;
        }
        places_.push_back(count_);
    }
    static ListedEvent eventOf(const MarkerRef& marker, int64_t begin, int64_t duration, uint8_t flags, Which which) {
        const bool wait = flags & kMarkerWait;
        const EventWhat what = which == Which::Begins ? (wait ? EventWhat::WaitBegins : EventWhat::MarkerBegins)
                                                      : (wait ? EventWhat::WaitEnds : EventWhat::MarkerEnds);
        return {
            which == Which::Begins ? begin : begin + duration, what, marker.lane, marker, 0, marker.index, !duration};
    }
    uint32_t lane() const override { return lane_; }
    uint64_t size() const override { return paths_ ? count_ : markers_.size(); }
    uint64_t before(int64_t time, uint64_t from, uint64_t to) const override {
        if (from == to) return from;
        if (!paths_ && to - from <= kFew)
            return firstOf(from, to, [&](uint64_t i) { return timeOf(static_cast<uint32_t>(i)) >= time; });
        const uint32_t index = which_ == Which::Begins ? markers_.firstFrom(time)
                               : time == INT64_MIN     ? 0
                                                       : markers_.firstEndingAfter(time - 1);
        if (!paths_) return index;
        const uint32_t chunk = index >> MarkerRow::kChunkBits;
        if (chunk + 1 >= places_.size()) return count_;
        uint64_t place = places_[chunk];
        if (places_[chunk + 1] > place)
            markers_.forEach(
                chunk << MarkerRow::kChunkBits, index,
                [&](uint32_t, int64_t, int64_t, uint32_t path, uint8_t) { place += (*paths_)[path] != 0; });
        return place;
    }
    void read(uint64_t from, uint64_t to, std::vector<ListedEvent>& out) const override {
        if (!paths_) {
            markers_.forEach(static_cast<uint32_t>(from), static_cast<uint32_t>(to),
                             [&](uint32_t index, int64_t begin, int64_t duration, uint32_t, uint8_t flags) {
                                 add(index, begin, duration, flags, out);
                             });
            return;
        }
        auto chunk = static_cast<size_t>(std::upper_bound(places_.begin(), places_.end(), from) - places_.begin()) - 1;
        for (; from < to; ++chunk) {
            uint64_t place = places_[chunk];
            if (places_[chunk + 1] == place) continue;
            const auto first = static_cast<uint32_t>(chunk << MarkerRow::kChunkBits);
            markers_.forEach(first, std::min(markers_.size(), first + MarkerRow::kChunk),
                             [&](uint32_t index, int64_t begin, int64_t duration, uint32_t path, uint8_t flags) {
                                 if (!(*paths_)[path]) return;
                                 if (place >= from && place < to) add(index, begin, duration, flags, out);
                                 ++place;
                             });
            from = std::min(to, places_[chunk + 1]);
        }
    }

private:
    static constexpr uint64_t kFew = 256;
    int64_t timeOf(uint32_t index) const {
        return which_ == Which::Begins ? markers_.begin(index) : markers_.end(index);
    }
    void add(uint32_t index, int64_t begin, int64_t duration, uint8_t flags, std::vector<ListedEvent>& out) const {
        out.push_back(eventOf({lane_, row_, index}, begin, duration, flags, which_));
    }

    const MarkerRow& markers_;
    const uint32_t lane_, row_;
    const Which which_;
    const std::vector<uint8_t>* const paths_;
    std::vector<uint64_t> places_;  // of each chunk's first, and the end; where only some are wanted
    uint64_t count_ = 0;
};

/// Any list whose entries have a time each.
class ListSource : public EventSource {
public:
    using Time = std::function<int64_t(uint32_t)>;
    /// `order`: the entries that are wanted, sorted by time; none: the first `count`, which are.
    ListSource(uint32_t lane, Time time, std::function<ListedEvent(uint32_t)> event, size_t count,
               std::optional<std::vector<uint32_t>> order)
        : lane_(lane), time_(std::move(time)), event_(std::move(event)), count_(count), order_(std::move(order)) {}
    uint32_t lane() const override { return lane_; }
    uint64_t size() const override { return order_ ? order_->size() : count_; }
    uint64_t before(int64_t time, uint64_t from, uint64_t to) const override {
        return firstOf(from, to, [&](uint64_t place) { return time_(entry(place)) >= time; });
    }
    void read(uint64_t from, uint64_t to, std::vector<ListedEvent>& out) const override {
        for (; from < to; ++from) {
            out.push_back(event_(entry(from)));
            out.back().time = time_(entry(from));
        }
    }

private:
    uint32_t entry(uint64_t place) const { return order_ ? (*order_)[place] : static_cast<uint32_t>(place); }

    const uint32_t lane_;
    const Time time_;
    const std::function<ListedEvent(uint32_t)> event_;
    const size_t count_;
    const std::optional<std::vector<uint32_t>> order_;
};

/// What has no length ends after the others of its instant, since it must begin first.
bool comesLate(const ListedEvent& event) {
    return event.noLength && (event.what == EventWhat::MarkerEnds || event.what == EventWhat::WaitEnds);
}

}  // namespace

EventGroup groupOf(EventWhat what) {
    switch (what) {
        case EventWhat::MarkerEnds:
        case EventWhat::MarkerBegins: return EventGroup::Marker;
        case EventWhat::WaitEnds:
        case EventWhat::WaitBegins: return EventGroup::Wait;
        case EventWhat::FrameBegins:
        case EventWhat::FrameEnds: return EventGroup::Frame;
        case EventWhat::WorkBegins:
        case EventWhat::WaitReleased:
        case EventWhat::LinkGiven: return EventGroup::Link;
        case EventWhat::Input: return EventGroup::Input;
        case EventWhat::Point: return EventGroup::Point;
        case EventWhat::OperationBegins:
        case EventWhat::OperationStep:
        case EventWhat::OperationEnds: return EventGroup::Operation;
        case EventWhat::StateBegins: return EventGroup::State;
        case EventWhat::Counter: return EventGroup::Counter;
        case EventWhat::MemoryTaken:
        case EventWhat::MemoryReleased: return EventGroup::Memory;
        case EventWhat::Picture: return EventGroup::Picture;
        case EventWhat::EventsLost: return EventGroup::Lost;
    }
    return EventGroup::Marker;
}

/// Gathers the sources of a list.
class EventSources {
public:
    EventSources(EventList& list, const Scope& scope, const EventFilter& filter, const Progress& progress)
        : list_(list),
          r_(*list.recording_),
          scope_(scope),
          filter_(filter),
          letters_(filter.words),
          arguments_(r_, filter.words),
          progress_(progress) {
        toLook_ = r_.linkSources.size() + r_.points.size() + 2 * r_.operations.size() + r_.operationSteps.size() +
                  2 * r_.allocations.size() + 1;
        for (const Counter& counter : r_.counters) toLook_ += counter.times.size();
        for (const Lane& lane : r_.lanes) {
            toLook_ += lane.linkIns.size();
            for (const auto& arguments : lane.arguments) toLook_ += filter.words.empty() ? 0 : 2 * arguments.size();
        }
    }

    /// In the order in which events of one instant stand; false where it was cancelled.
    bool gather() {
        choosePaths();
        if (cancelled_) return false;
        for (uint32_t l = 0; l < r_.lanes.size(); ++l)
            for (auto row = static_cast<uint32_t>(r_.lanes[l].rows.size()); row--;)
                addMarkers(l, row, MarkerSource::Which::Ends);
        if (!filter_.category.empty()) return addBegins() && addOperations();
        addFrames(false);
        addStates();
        addFrames(true);
        addLinksIn();
        if (!addBegins()) return false;
        addLinksOut();
        addPoints();
        addOperations();
        addNumbers();
        addMemory();
        addPictures();
        addLost();
        return goesOn();
    }

private:
    using Wanted = std::function<bool(uint32_t)>;

    bool goesOn() {
        if (++looked_ % kLookedAtOnce == 0 && progress_ &&
            !progress_(std::min(0.95, static_cast<double>(looked_) / static_cast<double>(toLook_))))
            cancelled_ = true;
        return !cancelled_;
    }
    bool wordsIn(std::string_view text) const { return filter_.words.empty() || letters_.in(text); }
    bool hasCategory(const Site& site) const { return filter_.category.empty() || site.category == filter_.category; }
    bool fits(const Site& site) const {
        return hasCategory(site) && (wordsIn(site.name) || wordsIn(site.category) || wordsIn(site.file));
    }
    /// Of no lane, and asked for?
    bool hasLaneless(EventGroup kind) const { return filter_.has(kind) && scope_.lanes.empty(); }

    /// Some entries of a list, or all (no `wanted`).
    void add(uint32_t lane, size_t count, ListSource::Time time, std::function<ListedEvent(uint32_t)> event,
             const Wanted& wanted = nullptr) {
        std::optional<std::vector<uint32_t>> order;
        bool sorted = true;
        int64_t last = INT64_MIN;
        if (wanted) order.emplace();
        for (uint32_t i = 0; i < count && goesOn(); ++i) {
            if (wanted && !wanted(i)) continue;
            if (wanted) order->push_back(i);
            const int64_t at = time(i);
            sorted = sorted && at >= last;
            last = at;
        }
        if (!sorted) {
            if (!order) {
                order.emplace(count);
                std::iota(order->begin(), order->end(), 0u);
            }
            std::stable_sort(order->begin(), order->end(), [&](uint32_t a, uint32_t b) { return time(a) < time(b); });
        }
        if (order ? !order->empty() : count > 0)
            list_.sources_.push_back(
                std::make_unique<ListSource>(lane, std::move(time), std::move(event), count, std::move(order)));
    }

    /// Which paths of each lane's markers are wanted; where all are, none are listed. What waits somewhere counts as a
    /// wait everywhere.
    void choosePaths() {
        list_.paths_.resize(r_.lanes.size());
        const bool markers = filter_.has(EventGroup::Marker), waits = filter_.has(EventGroup::Wait);
        const bool all = markers && waits && filter_.category.empty() && filter_.words.empty();
        if (all || !(markers || waits)) return;
        possible_.resize(r_.lanes.size());
        for (uint32_t l = 0; l < r_.lanes.size() && goesOn(); ++l) {
            const Lane& lane = r_.lanes[l];
            if (!scope_.has(l)) continue;
            std::vector<uint8_t> wait(lane.paths.size());
            if (markers != waits)
                for (const Wait& one : lane.waits) wait[lane.rows[one.row].lanePath(one.index)] = 1;
            auto wanted = std::make_unique<std::vector<uint8_t>>(lane.paths.size());
            possible_[l].resize(lane.paths.size());
            for (size_t path = 0; path < wanted->size(); ++path) {
                const Site& site = r_.siteOf(lane.paths[path]);
                possible_[l][path] = (markers == waits || (wait[path] != 0) == waits) && hasCategory(site);
                (*wanted)[path] = possible_[l][path] && fits(site);
            }
            list_.paths_[l] = std::move(wanted);
        }
    }
    void addMarkers(uint32_t l, uint32_t row, MarkerSource::Which which) {
        if (!scope_.has(l) || !(filter_.has(EventGroup::Marker) || filter_.has(EventGroup::Wait))) return;
        const Lane& lane = r_.lanes[l];
        auto source = std::make_unique<MarkerSource>(r_, l, row, which, list_.paths_[l].get());
        if (source->size()) list_.sources_.push_back(std::move(source));
        if (filter_.words.empty() || row >= lane.arguments.size()) return;
        // Those whose names do not hold the words, but whose arguments do.
        const MarkerRow& markers = lane.rows[row];
        const std::vector<uint8_t>&named = *list_.paths_[l], &possible = possible_[l];
        std::vector<uint32_t> found;
        for (const Argument& argument : lane.arguments[row]) {
            if (!goesOn()) return;
            if (!found.empty() && found.back() == argument.index) continue;
            const uint32_t path = markers.lanePath(argument.index);
            if (possible[path] && !named[path] && arguments_.fits(argument)) found.push_back(argument.index);
        }
        if (found.empty()) return;
        const bool begins = which == MarkerSource::Which::Begins;
        list_.sources_.push_back(std::make_unique<ListSource>(
            l, [&markers, begins](uint32_t i) { return begins ? markers.begin(i) : markers.end(i); },
            [&markers, l, row, which](uint32_t i) {
                return MarkerSource::eventOf({l, row, i}, markers.begin(i), markers.duration(i), markers.flags(i),
                                             which);
            },
            found.size(), std::move(found)));
    }
    bool addBegins() {
        for (uint32_t l = 0; l < r_.lanes.size() && goesOn(); ++l)
            for (uint32_t row = 0; row < r_.lanes[l].rows.size(); ++row)
                addMarkers(l, row, MarkerSource::Which::Begins);
        return goesOn();
    }
    void addFrames(bool begins) {
        if (!filter_.has(EventGroup::Frame)) return;
        for (uint32_t s = 0; s < r_.series.size(); ++s) {
            const Column<Frame>& frames = r_.series[s].frames;
            if (!wordsIn(r_.series[s].name)) continue;
            add(
                kNone, frames.size(),
                [&frames, begins](uint32_t i) { return begins ? frames[i].begin : frames[i].end; },
                [&frames, begins, s](uint32_t i) {
                    return ListedEvent{0, begins ? EventWhat::FrameBegins : EventWhat::FrameEnds, frames[i].lane, {}, s,
                                       i};
                },
                allLanes([&frames](uint32_t i) { return frames[i].lane; }));
        }
    }
    /// None where all lanes are.
    Wanted allLanes(std::function<uint32_t(uint32_t)> laneOf) const {
        if (scope_.lanes.empty()) return nullptr;
        return [this, laneOf = std::move(laneOf)](uint32_t i) { return scope_.has(laneOf(i)); };
    }
    void addStates() {
        if (!hasLaneless(EventGroup::State)) return;
        for (uint32_t s = 0; s < r_.states.size(); ++s) {
            const State& state = r_.states[s];
            const bool named = wordsIn(state.name);
            add(
                kNone, state.spans.size(), [&state](uint32_t i) { return state.spans[i].begin; },
                [s](uint32_t i) { return ListedEvent{0, EventWhat::StateBegins, kNone, {}, s, i}; },
                named ? Wanted() : [&](uint32_t i) { return wordsIn(r_.text(state.spans[i].value)); });
        }
    }
    void addLinksIn() {
        if (!filter_.has(EventGroup::Link)) return;
        for (uint32_t l = 0; l < r_.lanes.size(); ++l) {
            const Column<LinkEnd>& links = r_.lanes[l].linkIns;
            if (!scope_.has(l)) continue;
            add(
                l, links.size(), [&links](uint32_t i) { return links[i].time; },
                [&links, l](uint32_t i) {
                    return ListedEvent{0, links[i].endsWait ? EventWhat::WaitReleased : EventWhat::WorkBegins, l, {}, 0,
                                       i};
                },
                filter_.words.empty() ? Wanted() : [&](uint32_t i) { return fits(r_.siteOf(links[i].path)); });
        }
    }
    void addLinksOut() {
        if (!filter_.has(EventGroup::Link)) return;
        const Column<Recording::LinkSource>& links = r_.linkSources;
        Wanted wanted = allLanes([&links](uint32_t i) { return links[i].lane; });
        if (!filter_.words.empty())
            wanted = [this, &links](uint32_t i) { return scope_.has(links[i].lane) && fits(r_.siteOf(links[i].path)); };
        add(
            kNone, links.size(), [&links](uint32_t i) { return links[i].time; },
            [&links](uint32_t i) { return ListedEvent{0, EventWhat::LinkGiven, links[i].lane, {}, 0, i}; }, wanted);
    }
    void addPoints() {
        const bool messages = filter_.has(EventGroup::Point), inputs = filter_.has(EventGroup::Input);
        if (!messages && !inputs) return;
        const Column<Point>& points = r_.points;
        Wanted wanted = allLanes([&points](uint32_t i) { return points[i].lane; });
        if (!filter_.words.empty() || filter_.least != Severity::Debug || messages != inputs)
            wanted = [this, &points, messages, inputs](uint32_t i) {
                return (points[i].input ? inputs : messages && points[i].severity >= filter_.least) &&
                       scope_.has(points[i].lane) && wordsIn(r_.text(points[i].text));
            };
        add(
            kNone, points.size(), [&points](uint32_t i) { return points[i].time; },
            [&points](uint32_t i) {
                return ListedEvent{0, points[i].input ? EventWhat::Input : EventWhat::Point, points[i].lane, {}, 0, i};
            },
            wanted);
    }
    bool addOperations() {
        if (!filter_.has(EventGroup::Operation)) return goesOn();
        const Column<Operation>& all = r_.operations;
        const bool plain = filter_.words.empty() && filter_.category.empty();
        const auto fitting = [this, &all](uint32_t i) { return fits(r_.sites[all[i].site]) || wordsInResult(all[i]); };
        Wanted begins = allLanes([&all](uint32_t i) { return all[i].beganOn; });
        if (!plain) begins = [&, fitting](uint32_t i) { return scope_.has(all[i].beganOn) && fitting(i); };
        add(
            kNone, all.size(), [&all](uint32_t i) { return all[i].begin; },
            [&all](uint32_t i) { return ListedEvent{0, EventWhat::OperationBegins, all[i].beganOn, {}, 0, i}; },
            begins);
        const Column<OperationStep>& steps = r_.operationSteps;
        add(
            kNone, steps.size(), [&steps](uint32_t i) { return steps[i].time; },
            [&steps](uint32_t i) { return ListedEvent{0, EventWhat::OperationStep, steps[i].lane, {}, 0, i}; },
            plain ? allLanes([&steps](uint32_t i) { return steps[i].lane; })
                  : [&](uint32_t i) { return scope_.has(steps[i].lane) && fits(r_.sites[steps[i].site]); });
        add(
            kNone, all.size(), [&all](uint32_t i) { return all[i].end; },
            [&all](uint32_t i) { return ListedEvent{0, EventWhat::OperationEnds, all[i].endedOn, {}, 0, i}; },
            [&, fitting](uint32_t i) {
                return all[i].endedOn != kNone && scope_.has(all[i].endedOn) && (plain || fitting(i));
            });
        return goesOn();
    }
    bool wordsInResult(const Operation& operation) const {
        return filter_.category.empty() && letters_.in(r_.text(operation.text));
    }
    void addNumbers() {
        if (!hasLaneless(EventGroup::Counter)) return;
        for (uint32_t c = 0; c < r_.counters.size(); ++c) {
            const Counter& counter = r_.counters[c];
            if (wordsIn(counter.name))
                add(
                    kNone, counter.times.size(), [&counter](uint32_t i) { return counter.times[i]; },
                    [c](uint32_t i) { return ListedEvent{0, EventWhat::Counter, kNone, {}, c, i}; });
        }
    }
    void addMemory() {
        if (!filter_.has(EventGroup::Memory)) return;
        const Column<Allocation>& all = r_.allocations;
        const auto fitting = [this, &all](uint32_t i) {
            return scope_.has(all[i].lane) &&
                   (filter_.words.empty() || wordsIn(r_.text(all[i].name)) || fits(r_.siteOf(all[i].path)) ||
                    (all[i].pool < r_.pools.size() && wordsIn(r_.pools[all[i].pool].name)));
        };
        const bool plain = filter_.words.empty() && scope_.lanes.empty();
        const auto event = [&all](EventWhat what) {
            return [&all, what](uint32_t i) { return ListedEvent{0, what, all[i].lane, {}, all[i].pool, i}; };
        };
        add(
            kNone, all.size(), [&all](uint32_t i) { return all[i].taken; }, event(EventWhat::MemoryTaken),
            plain ? Wanted() : Wanted(fitting));
        add(
            kNone, all.size(), [&all](uint32_t i) { return all[i].released; }, event(EventWhat::MemoryReleased),
            [&all, plain, fitting](uint32_t i) { return all[i].isReleased() && (plain || fitting(i)); });
    }
    void addPictures() {
        if (!hasLaneless(EventGroup::Picture) || !filter_.words.empty()) return;
        const Column<Picture>& pictures = r_.pictures;
        add(
            kNone, pictures.size(), [&pictures](uint32_t i) { return pictures[i].time; },
            [](uint32_t i) { return ListedEvent{0, EventWhat::Picture, kNone, {}, 0, i}; });
    }
    void addLost() {
        if (!filter_.has(EventGroup::Lost) || !filter_.words.empty()) return;
        for (uint32_t l = 0; l < r_.lanes.size(); ++l) {
            const Column<LostEvents>& lost = r_.lanes[l].lost;
            if (scope_.has(l))
                add(
                    l, lost.size(), [&lost](uint32_t i) { return lost[i].time; },
                    [l](uint32_t i) { return ListedEvent{0, EventWhat::EventsLost, l, {}, 0, i}; });
        }
    }

    static constexpr uint32_t kLookedAtOnce = 65536;
    EventList& list_;
    const Recording& r_;
    const Scope& scope_;
    const EventFilter& filter_;
    const Letters letters_;
    ArgumentLetters arguments_;
    const Progress& progress_;
    std::vector<std::vector<uint8_t>> possible_;  // by lane, its paths of the kind and category that are wanted
    uint64_t looked_ = 0, toLook_ = 1;            // at events, so far and about in all
    bool cancelled_ = false;
};

std::shared_ptr<const EventList> EventList::of(std::shared_ptr<const Recording> recording, const Scope& scope,
                                               const EventFilter& filter, const Progress& progress) {
    longWork("the events in a scope");
    auto made = std::make_shared<EventList>();
    made->recording_ = std::move(recording);
    if (!EventSources(*made, scope, filter, progress).gather()) return nullptr;
    size_t done = 0;
    for (const TimeRange& range : scope.stretches) {
        if (++done % 64 == 0 && progress &&
            !progress(0.95 + 0.05 * static_cast<double>(done) / static_cast<double>(scope.stretches.size())))
            return nullptr;
        const uint64_t first = made->before(range.begin), past = made->before(range.end);
        if (past == first) continue;
        made->stretches_.push_back({range, made->size_, first});
        made->size_ += past - first;
    }
    return made;
}

uint64_t EventList::before(int64_t time) const {
    uint64_t count = 0;
    for (const auto& source : sources_) count += source->before(time);
    return count;
}

uint64_t EventList::placeOf(int64_t time) const {
    const auto after = std::partition_point(stretches_.begin(), stretches_.end(),
                                            [&](const Stretch& stretch) { return stretch.range.begin < time; });
    if (after == stretches_.begin()) return 0;
    const Stretch& stretch = *std::prev(after);
    return stretch.place + before(std::min(time, stretch.range.end)) - stretch.before;
}

std::optional<uint64_t> EventList::placeOf(const MarkerRef& marker) const {
    constexpr size_t kReadAtOnce = 256;
    if (!holds(*recording_, marker)) return std::nullopt;
    const int64_t begin = recording_->lanes[marker.lane].rows[marker.row].begin(marker.index);
    for (uint64_t place = placeOf(begin);; place += kReadAtOnce) {
        const std::vector<ListedEvent> events = read(place, kReadAtOnce);
        for (size_t i = 0; i < events.size(); ++i) {
            if (events[i].time > begin) return std::nullopt;
            const bool begins = events[i].what == EventWhat::MarkerBegins || events[i].what == EventWhat::WaitBegins;
            if (begins && events[i].marker == marker) return place + i;
        }
        if (events.size() < kReadAtOnce) return std::nullopt;
    }
}

std::vector<ListedEvent> EventList::read(uint64_t first, size_t count) const {
    std::vector<ListedEvent> out;
    auto stretch = std::partition_point(stretches_.begin(), stretches_.end(),
                                        [&](const Stretch& one) { return one.place <= first; });
    if (stretch == stretches_.begin() || first >= size_) return out;
    --stretch;
    const uint64_t leftOut = first - stretch->place + stretch->before;
    const Place begin = lastBefore(stretch->range, leftOut);
    std::vector<uint64_t> from = begin.from;
    uint64_t skip = leftOut - begin.before;
    for (; stretch != stretches_.end() && out.size() < count; ++stretch, skip = 0) {
        if (stretch->range.begin > begin.time)
            for (size_t i = 0; i < sources_.size(); ++i) from[i] = sources_[i]->before(stretch->range.begin);
        merge(from, stretch->range.end, skip, count, out);
    }
    return out;
}

/// The last instant in a range before which no more than `most` lie.
EventList::Place EventList::lastBefore(const TimeRange& range, uint64_t most) const {
    Place begin{range.begin, 0, std::vector<uint64_t>(sources_.size())}, past = begin, middle = begin;
    const auto look = [&](Place& at, int64_t time, const Place* after, const Place* upTo) {
        at.time = time;
        at.before = 0;
        for (size_t i = 0; i < sources_.size(); ++i)
            at.before += at.from[i] =
                after ? sources_[i]->before(time, after->from[i], upTo->from[i]) : sources_[i]->before(time);
    };
    look(begin, range.begin, nullptr, nullptr);
    look(past, range.end, nullptr, nullptr);
    for (bool even = true; past.time - begin.time > 1; even = !even) {
        // Where it would lie if they were spread evenly, and in turns in the middle: so it is found soon in any case.
        const int64_t length = past.time - begin.time;
        const double part = even && past.before > begin.before ? static_cast<double>(most - begin.before) /
                                                                     static_cast<double>(past.before - begin.before)
                                                               : 0.5;
        const int64_t step =
            std::clamp<int64_t>(static_cast<int64_t>(part * static_cast<double>(length)), 1, length - 1);
        look(middle, begin.time + step, &begin, &past);
        std::swap(middle.before <= most ? begin : past, middle);
    }
    return begin;
}

/// Those from these places on that lie before `to`, in order, until there are `count`.
void EventList::merge(const std::vector<uint64_t>& from, int64_t to, uint64_t skip, size_t count,
                      std::vector<ListedEvent>& out) const {
    struct Read {
        std::vector<ListedEvent> events;
        size_t at = 0, next = kReadFirst;
        uint64_t place = 0;
    };
    std::vector<Read> reads(sources_.size());
    struct Head {
        int64_t time;
        bool late;
        uint32_t source;
        bool operator>(const Head& other) const {
            return std::tie(time, late, source) > std::tie(other.time, other.late, other.source);
        }
    };
    std::priority_queue<Head, std::vector<Head>, std::greater<>> heads;
    const auto push = [&](uint32_t i) {
        Read& read = reads[i];
        if (read.at == read.events.size()) {
            const uint64_t size = sources_[i]->size();
            if (read.place >= size) return;
            const uint64_t past = std::min<uint64_t>(size, read.place + read.next);
            read.events.clear();
            sources_[i]->read(read.place, past, read.events);
            read.place = past;
            read.at = 0;
            read.next *= 2;
        }
        const ListedEvent& event = read.events[read.at];
        if (event.time < to) heads.push({event.time, comesLate(event), i});
    };
    for (uint32_t i = 0; i < sources_.size(); ++i) {
        reads[i].place = from[i];
        push(i);
    }
    while (!heads.empty() && out.size() < count) {
        const uint32_t source = heads.top().source;
        heads.pop();
        Read& read = reads[source];
        if (skip)
            --skip;
        else
            out.push_back(read.events[read.at]);
        ++read.at;
        push(source);
    }
}

std::vector<ListedEvent> EventList::lastOf(uint32_t lane, size_t count) const {
    constexpr uint64_t kMostLooked = 65536;  // in what is of several lanes
    struct Last {
        ListedEvent event;
        size_t source;
        uint64_t place;
    };
    std::vector<Last> found;
    std::vector<ListedEvent> read;
    for (auto stretch = stretches_.rbegin(); stretch != stretches_.rend() && found.size() < count; ++stretch) {
        const size_t known = found.size();
        for (size_t i = 0; i < sources_.size(); ++i) {
            const EventSource& source = *sources_[i];
            if (source.lane() != kNone && source.lane() != lane) continue;
            const uint64_t first = source.before(stretch->range.begin);
            uint64_t past = source.before(stretch->range.end), looked = 0;
            for (size_t taken = 0; past > first && taken < count && looked < kMostLooked;) {
                const uint64_t from = past - std::min<uint64_t>(past - first, count);
                read.clear();
                source.read(from, past, read);
                for (size_t k = read.size(); k-- && taken < count;)
                    if (read[k].lane == lane) {
                        found.push_back({read[k], i, from + k});
                        ++taken;
                    }
                looked += past - from;
                past = from;
            }
        }
        // Of one stretch; those of an earlier one all lie before these.
        std::sort(found.begin() + static_cast<std::ptrdiff_t>(known), found.end(), [](const Last& a, const Last& b) {
            const auto key = [](const Last& f) {
                return std::tuple(f.event.time, comesLate(f.event), f.source, f.place);
            };
            return key(a) > key(b);
        });
    }
    found.resize(std::min(found.size(), count));
    std::vector<ListedEvent> out;
    for (size_t i = found.size(); i--;) out.push_back(found[i].event);
    return out;
}

}  // namespace fugato
