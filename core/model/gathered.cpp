// SPDX-License-Identifier: GPL-3.0-or-later
#include "gathered.h"

#include <queue>
#include <unordered_map>

namespace fugato {

namespace {

constexpr auto byTime = [](const auto& x, const auto& y) { return x.time < y.time; };
constexpr auto byBegin = [](const auto& x, const auto& y) { return x.begin < y.begin; };
constexpr auto byEnd = [](const auto& x, const auto& y) { return x.end < y.end; };

template <class Place, class T>
Column<T> columnOf(Place& place, const std::vector<T>& values) {
    return Column<T>::of(place, values);
}

/// The list of a thing by its position.
template <class T>
T& at(std::vector<T>& lists, size_t position) {
    if (lists.size() <= position) lists.resize(position + 1);
    return lists[position];
}

}  // namespace

void Gathered::copyShown(const LaneFinds& finds) {
    for (const auto& found : finds.frames) at(frames_, found.series).add(found.frame);
    for (const auto& found : finds.states) at(states_, found.state).add({found.time, found.time, found.value});
    points_.add(finds.points);
}

void Gathered::take(uint32_t lane, LaneFinds& finds, const Column<PathId>& paths) {
    copyShown(finds);
    for (auto [object, hold] : finds.holds) {
        hold.path = paths[hold.path];
        at(holds_, object).add(hold);
    }
    for (const auto& found : finds.counts) at(counts_, found.counter).add({found.time, found.value});
    for (Recording::LinkSource source : finds.linkSources) {
        source.path = paths[source.path];
        links_.add(source);
    }
    for (StackSample sample : finds.samples) {
        sample.first += static_cast<uint32_t>(addresses_.size());
        samples_.add(sample);
    }
    addresses_.insert(addresses_.end(), finds.stackAddresses.begin(), finds.stackAddresses.end());
    for (const auto& [number, picture] : finds.pictures) pictures_.try_emplace(number, picture);
    for (LaneFinds::OperationEvent event : finds.operations) {
        event.path = paths[event.path];
        operations_.push_back({lane, event});
    }
    for (LaneFinds::MemoryChange change : finds.memory) {
        change.path = paths[change.path];
        memory_.add(change);
    }
    switches_.add(finds.switches);
    finds = {};
}

template <class Place>
void Gathered::fillShown(Recording& r, Place& place) {
    for (size_t i = 0; i < r.series.size(); ++i) r.series[i].frames = columnOf(place, at(frames_, i).sorted(byBegin));
    for (size_t i = 0; i < r.states.size(); ++i) {
        std::vector<StateSpan> spans = at(states_, i).sorted(byBegin);
        for (size_t k = 0; k < spans.size(); ++k) spans[k].end = k + 1 < spans.size() ? spans[k + 1].begin : r.end;
        r.states[i].spans = columnOf(place, spans);
    }
    const std::vector<Point>& points = points_.sorted(byTime);
    std::vector<uint8_t> severities;
    for (const Point& point : points) severities.push_back(static_cast<uint8_t>(point.severity));
    r.points = columnOf(place, points);
    r.pointSeverities = columnOf(place, extremesOf(severities));
    r.holds.resize(r.objects.size());
}

template <class Place>
void Gathered::fill(Recording& r, Place& place, const std::vector<LaneFinds::InObject>& held) {
    fillShown(r, place);
    fillHolds(r, place, held);
    fillCounters(r, place);
    const auto byLink = [](auto& x, auto& y) { return x.link < y.link; };
    links_.sorted(byLink);
    links_.unique([](auto& x, auto& y) { return x.link == y.link; });
    r.linkSources = columnOf(place, links_.all());
    r.samples = columnOf(place, samples_.sorted(byTime));
    r.stackAddresses = columnOf(place, addresses_);
    std::vector<Picture> pictures;
    for (const auto& [number, picture] : pictures_) pictures.push_back(picture);
    std::stable_sort(pictures.begin(), pictures.end(), byTime);
    r.pictures = columnOf(place, pictures);
    pairOperations(r, place);
    pairMemory(r, place);
    schedule(r, place);
}

template <class Place>
void Gathered::fillHolds(Recording& r, Place& place, const std::vector<LaneFinds::InObject>& held) {
    std::vector<std::vector<Hold>> heldOf(r.objects.size());
    for (const LaneFinds::InObject& it : held) heldOf[it.object].push_back(it.hold);
    for (size_t i = 0; i < r.objects.size(); ++i) {
        const std::vector<Hold>&list = at(holds_, i).sorted(byEnd), &now = heldOf[i];
        if (now.empty()) {
            r.holds[i] = columnOf(place, list);
            continue;
        }
        std::vector<Hold> all = list;
        all.insert(all.end(), now.begin(), now.end());
        std::stable_sort(all.begin(), all.end(), byEnd);
        r.holds[i] = columnOf(place, all);
    }
}

template <class Place>
void Gathered::fillCounters(Recording& r, Place& place) {
    for (size_t i = 0; i < r.counters.size(); ++i) {
        std::vector<int64_t> times;
        std::vector<double> values;
        for (const auto& [time, value] : at(counts_, i).sorted([](auto&x, auto&y) { return x.first < y.first; })) {
            times.push_back(time);
            values.push_back(value);
        }
        r.counters[i].times = columnOf(place, times);
        r.counters[i].values = columnOf(place, values);
        r.counters[i].extremes = columnOf(place, extremesOf(values));
    }
}

/// Puts operations in order of time and into rows in which they do not overlap.
template <class Place>
void Gathered::pairOperations(Recording& r, Place& place) {
    struct Open {
        Operation operation;
        std::vector<OperationStep> steps;
        bool began = false, ended = false;
    };
    std::unordered_map<uint64_t, Open> open;
    for (const auto& [lane, event] : operations_) {
        Open& it = open[event.number];
        if (event.kind == EventKind::OperationBegin) {
            it.operation.site = event.site;
            it.operation.begin = event.time;
            it.operation.beganOn = lane;
            it.operation.askedBy = event.path;
            it.began = true;
        } else if (event.kind == EventKind::OperationStep) {
            it.steps.push_back({event.time, event.site, lane});
        } else {
            it.operation.end = event.time;
            it.operation.endedOn = lane;
            it.operation.code = event.code;
            it.operation.text = event.text;
            it.ended = true;
        }
    }
    std::vector<Open*> order;
    for (auto& [number, it] : open) {
        if (!it.began) {
            ++r.repairs.endsWithoutBegin;
            continue;
        }
        if (!it.ended || it.operation.end < it.operation.begin) it.operation.end = std::max(r.end, it.operation.begin);
        std::stable_sort(it.steps.begin(), it.steps.end(), byTime);
        order.push_back(&it);
    }
    std::sort(order.begin(), order.end(), [](const Open* x, const Open* y) {
        return std::tie(x->operation.begin, x->operation.end, x->operation.beganOn) <
               std::tie(y->operation.begin, y->operation.end, y->operation.beganOn);
    });
    std::vector<Operation> operations;
    std::vector<OperationStep> steps;
    // Each in the first row that is free again when it begins.
    using Taken = std::pair<int64_t, size_t>;  // until when, which row
    std::priority_queue<Taken, std::vector<Taken>, std::greater<>> taken;
    std::priority_queue<size_t, std::vector<size_t>, std::greater<>> free;
    for (Open* it : order) {
        Operation& operation = it->operation;
        for (; !taken.empty() && taken.top().first <= operation.begin; taken.pop()) free.push(taken.top().second);
        size_t row = taken.size();
        if (!free.empty()) {
            row = free.top();
            free.pop();
        }
        taken.emplace(operation.end, row);
        operation.row = static_cast<uint32_t>(row);
        operation.firstStep = static_cast<uint32_t>(steps.size());
        operation.steps = static_cast<uint32_t>(it->steps.size());
        steps.insert(steps.end(), it->steps.begin(), it->steps.end());
        operations.push_back(operation);
    }
    r.operations = columnOf(place, operations);
    r.operationSteps = columnOf(place, steps);
}

/// Pairs what was taken with what was given back, over all lanes.
template <class Place>
void Gathered::pairMemory(Recording& r, Place& place) {
    struct Key {
        uint32_t pool;
        uint64_t address;
        bool operator==(const Key&) const = default;
    };
    struct Hash {
        size_t operator()(const Key& k) const { return (k.address ^ k.pool) * 0x9e3779b97f4a7c15ull >> 7; }
    };
    std::unordered_map<Key, size_t, Hash> open;
    std::vector<int64_t> inUse(r.pools.size());
    std::vector<Allocation> allocations;
    std::vector<std::vector<int64_t>> times(r.pools.size()), bytesInUse(r.pools.size());
    for (const LaneFinds::MemoryChange& change : memory_.sorted(byTime)) {
        const Key key{change.pool, change.address};
        const auto found = open.find(key);
        int64_t& bytes = inUse[change.pool];
        if (found != open.end()) {  // given back, or taken anew without that
            Allocation& allocation = allocations[found->second];
            allocation.given = change.time;
            allocation.givenBack = true;
            bytes -= bounded(allocation.bytes);
            open.erase(found);
        } else if (!change.taken) {
            continue;  // taken before the recording began
        }
        if (change.taken) {
            Allocation allocation;
            allocation.taken = change.time;
            allocation.given = r.end;
            allocation.pool = change.pool;
            allocation.lane = change.lane;
            allocation.address = change.address;
            allocation.bytes = change.bytes;
            allocation.path = change.path;
            allocation.name = change.name;
            bytes = bounded(bytes + bounded(allocation.bytes));
            open[key] = allocations.size();
            allocations.push_back(allocation);
        }
        times[change.pool].push_back(change.time);
        bytesInUse[change.pool].push_back(bytes);
    }
    r.allocations = columnOf(place, allocations);
    for (size_t i = 0; i < r.pools.size(); ++i) {
        r.pools[i].times = columnOf(place, times[i]);
        r.pools[i].bytesInUse = columnOf(place, bytesInUse[i]);
        r.pools[i].extremes = columnOf(place, extremesOf(bytesInUse[i]));
    }
}

/// From who had each core, what each recorded thread did.
template <class Place>
void Gathered::schedule(Recording& r, Place& place) {
    const std::vector<LaneFinds::CoreSwitch>& switches = switches_.sorted(byTime);
    if (switches.empty()) return;
    std::unordered_map<uint32_t, uint32_t> laneOf;  // by thread of the operating system
    for (uint32_t i = 0; i < r.lanes.size(); ++i)
        if (r.lanes[i].kind == LaneKind::Thread && r.lanes[i].osId) laneOf[static_cast<uint32_t>(r.lanes[i].osId)] = i;
    std::vector<std::vector<ScheduleSpan>> schedules(r.lanes.size());
    std::vector<std::vector<CoreSpan>> cores(r.lanes.size());
    const auto addSpan = [&](uint32_t thread, int64_t begin, int64_t end, ThreadState state, uint32_t core) {
        const auto lane = laneOf.find(thread);
        if (lane == laneOf.end() || end <= begin) return;
        auto& spans = schedules[lane->second];
        if (!spans.empty() && spans.back().end > begin) begin = spans.back().end;  // clocks of cores differ slightly
        if (end > begin) spans.push_back({begin, end, state, core});
    };
    struct Off {
        int64_t time;
        bool ready;
        uint32_t core;
    };
    std::unordered_map<uint32_t, Off> off;  // threads that have no core, since when
    for (const LaneFinds::CoreSwitch& change : switches) {
        auto& spans = cores[change.core];
        if (!spans.empty()) {
            CoreSpan& last = spans.back();
            last.end = change.time;
            addSpan(last.thread, last.begin, last.end, ThreadState::Running, change.core);
            off[last.thread] = {change.time, change.readyBefore, change.core};
        }
        if (const auto waited = off.find(change.thread); waited != off.end()) {
            addSpan(change.thread, waited->second.time, change.time,
                    waited->second.ready ? ThreadState::Ready : ThreadState::Blocked, waited->second.core);
            off.erase(waited);
        }
        spans.push_back({change.time, change.time, change.thread});
    }
    for (uint32_t i = 0; i < r.lanes.size(); ++i) {  // what lasts to the end
        if (cores[i].empty()) continue;
        CoreSpan& last = cores[i].back();
        last.end = std::max(last.begin, r.end);
        addSpan(last.thread, last.begin, last.end, ThreadState::Running, i);
    }
    for (const auto& [thread, since] : off)
        addSpan(thread, since.time, r.end, since.ready ? ThreadState::Ready : ThreadState::Blocked, since.core);
    for (uint32_t i = 0; i < r.lanes.size(); ++i) {
        r.lanes[i].schedule = columnOf(place, schedules[i]);
        r.lanes[i].coreSpans = columnOf(place, cores[i]);
    }
}

template void Gathered::fill(Recording&, Storage&, const std::vector<LaneFinds::InObject>&);
template void Gathered::fill(Recording&, Lease&, const std::vector<LaneFinds::InObject>&);
template void Gathered::fillShown(Recording&, Storage&);

}  // namespace fugato
