// SPDX-License-Identifier: GPL-3.0-or-later
#include "model_builder.h"

#include <algorithm>
#include <unordered_map>

namespace fugato {

namespace {

void add(Repairs& to, const Repairs& from) {
    to.endsWithoutBegin += from.endsWithoutBegin;
    to.beginsWithoutEnd += from.beginsWithoutEnd;
    to.timesBackwards += from.timesBackwards;
    to.framesWithoutEnd += from.framesWithoutEnd;
    to.unknownNames += from.unknownNames;
    to.lostEvents += from.lostEvents;
}

constexpr auto byTime = [](const auto& x, const auto& y) { return x.time < y.time; };

}  // namespace

namespace {

/// Makes a recording from lanes that are closed.
struct Gathering {
    Recording& r;
    std::vector<LaneBuilder*> lanes;  // by position; null where there is nothing to be gathered

    template <class T>
    Column<T> keep(const std::vector<T>& values) {
        return Column<T>::of(*r.storage, values);
    }
    template <class Visit>
    void eachFinds(Visit&& visit) {
        for (LaneBuilder* built : lanes)
            if (built) visit(built->finds());
    }

    void fillLanes();
    void joinPaths();
    void settlePaths();
    void sortFrames();
    void sortStates();
    void sortPoints();
    void sortShared();
    void pairOperations();
    void pairMemory();
    void schedule();
    void group();
};

}  // namespace

struct ModelBuilder::Build {
    std::shared_ptr<Recording> recording = std::make_shared<Recording>();
    Recording& r = *recording;
    Names names{r};
    PathTable pathsBefore;
    std::vector<std::string> sitesBefore;
    std::vector<std::unique_ptr<LaneBuilder>> lanes;  // by position; null where no event was told
    std::unordered_map<uint32_t, LaneBuilder*> byId;
    uint32_t lastId = kNone;
    LaneBuilder* last = nullptr;

    LaneBuilder& lane(uint32_t id) {
        if (last && id == lastId) return *last;
        LaneBuilder*& found = byId[id];
        if (!found) {
            const uint32_t position = names.lane(id);
            if (lanes.size() <= position) lanes.resize(position + 1);
            lanes[position] = std::make_unique<LaneBuilder>(names, *r.storage, position);
            found = lanes[position].get();
        }
        lastId = id;
        last = found;
        return *found;
    }
};

void Gathering::fillLanes() {
    bool any = false;
    for (uint32_t i = 0; i < lanes.size(); ++i) {
        if (!lanes[i]) continue;
        Lane& lane = r.lanes[i];
        lanes[i]->fill(lane);
        add(r.repairs, lanes[i]->repairs());
        if (!lanes[i]->any()) continue;
        r.begin = any ? std::min(r.begin, lane.first) : lane.first;
        r.end = any ? std::max(r.end, lane.last) : lane.last;
        any = true;
    }
    for (Lane& lane : r.lanes)
        if (lane.name.empty())
            lane.name = (lane.kind == LaneKind::Queue ? "queue " : "thread ") + std::to_string(lane.id) +
                        (lane.osId ? " (" + std::to_string(lane.osId) + ")" : "");
}

/// One table of paths from those of the lanes, in the order of the lanes.
void Gathering::joinPaths() {
    for (uint32_t i = 0; i < lanes.size(); ++i) {
        if (!lanes[i]) continue;
        const auto& nodes = lanes[i]->paths().nodes();
        std::vector<PathId> joined(nodes.size());
        for (size_t n = 1; n < nodes.size(); ++n) joined[n] = r.paths.child(joined[nodes[n].parent], nodes[n].site);
        Lane& lane = r.lanes[i];
        lane.paths = keep(joined);
        for (MarkerRow& row : lane.rows) row.setPaths(lane.paths.data());
    }
}

/// Puts the joined paths in the place of the lanes' own, for good.
void Gathering::settlePaths() {
    for (uint32_t i = 0; i < lanes.size(); ++i) {
        if (!lanes[i]) continue;
        const Column<PathId>& joined = r.lanes[i].paths;
        const Column<LinkEnd>& linkIns = r.lanes[i].linkIns;
        for (size_t k = 0; k < linkIns.size(); ++k) linkIns.writable()[k].path = joined[linkIns[k].path];
        LaneFinds& finds = lanes[i]->finds();
        for (auto& hold : finds.holds) hold.hold.path = joined[hold.hold.path];
        for (auto& source : finds.linkSources) source.path = joined[source.path];
        for (auto& operation : finds.operations) operation.path = joined[operation.path];
        for (auto& change : finds.memory) change.path = joined[change.path];
    }
}

void Gathering::sortFrames() {
    std::vector<std::vector<Frame>> frames(r.series.size());
    eachFinds([&](LaneFinds& finds) {
        for (const auto& found : finds.frames) frames[found.series].push_back(found.frame);
    });
    for (size_t i = 0; i < frames.size(); ++i) {
        std::stable_sort(frames[i].begin(), frames[i].end(), [](auto& x, auto& y) { return x.begin < y.begin; });
        r.series[i].frames = keep(frames[i]);
    }
}

void Gathering::sortStates() {
    std::vector<std::vector<StateSpan>> spans(r.states.size());
    eachFinds([&](LaneFinds& finds) {
        for (const auto& found : finds.states) spans[found.state].push_back({found.time, found.time, found.value});
    });
    for (size_t i = 0; i < spans.size(); ++i) {
        auto& list = spans[i];
        std::stable_sort(list.begin(), list.end(), [](auto& x, auto& y) { return x.begin < y.begin; });
        for (size_t k = 0; k < list.size(); ++k) list[k].end = k + 1 < list.size() ? list[k + 1].begin : r.end;
        r.states[i].spans = keep(list);
    }
}

void Gathering::sortPoints() {
    std::vector<Point> points;
    eachFinds([&](LaneFinds& finds) { points.insert(points.end(), finds.points.begin(), finds.points.end()); });
    std::stable_sort(points.begin(), points.end(), byTime);
    r.points = keep(points);
}

/// What else is only sorted: locks held, counters, links, pictures, call stacks. What is copied is not
/// kept in the lanes' finds.
void Gathering::sortShared() {
    std::vector<std::vector<Hold>> holds(r.objects.size());
    std::vector<std::vector<std::pair<int64_t, double>>> counts(r.counters.size());
    std::vector<Recording::LinkSource> links;
    std::vector<StackSample> samples;
    std::vector<uint64_t> addresses;
    std::map<uint32_t, Picture> pictures;
    eachFinds([&](LaneFinds& finds) {
        for (const auto& found : finds.holds) holds[found.object].push_back(found.hold);
        for (const auto& found : finds.counts) counts[found.counter].emplace_back(found.time, found.value);
        links.insert(links.end(), finds.linkSources.begin(), finds.linkSources.end());
        for (StackSample sample : finds.samples) {
            sample.first += static_cast<uint32_t>(addresses.size());
            samples.push_back(sample);
        }
        addresses.insert(addresses.end(), finds.stackAddresses.begin(), finds.stackAddresses.end());
        for (const auto& [number, picture] : finds.pictures) pictures.try_emplace(number, picture);
        finds.holds = {};
        finds.counts = {};
        finds.linkSources = {};
        finds.samples = {};
        finds.stackAddresses = {};
    });
    for (auto& list : holds) {
        std::stable_sort(list.begin(), list.end(), [](auto& x, auto& y) { return x.end < y.end; });
        r.holds.push_back(keep(list));
        list = {};
    }
    for (size_t i = 0; i < counts.size(); ++i) {
        std::stable_sort(counts[i].begin(), counts[i].end(), [](auto& x, auto& y) { return x.first < y.first; });
        std::vector<int64_t> times;
        std::vector<double> values;
        for (const auto& [time, value] : counts[i]) {
            times.push_back(time);
            values.push_back(value);
        }
        counts[i] = {};
        r.counters[i].times = keep(times);
        r.counters[i].values = keep(values);
    }
    std::stable_sort(links.begin(), links.end(), [](auto& x, auto& y) { return x.link < y.link; });
    links.erase(std::unique(links.begin(), links.end(), [](auto& x, auto& y) { return x.link == y.link; }),
                links.end());
    r.linkSources = keep(links);
    std::stable_sort(samples.begin(), samples.end(), byTime);
    r.samples = keep(samples);
    r.stackAddresses = keep(addresses);
    std::vector<Picture> inTime;
    for (const auto& [number, picture] : pictures) inTime.push_back(picture);
    std::stable_sort(inTime.begin(), inTime.end(), byTime);
    r.pictures = keep(inTime);
}

/// Puts operations in order of time and into rows in which they do not overlap.
void Gathering::pairOperations() {
    struct Open {
        Operation operation;
        std::vector<OperationStep> steps;
        bool began = false, ended = false;
    };
    std::unordered_map<uint64_t, Open> open;
    for (uint32_t lane = 0; lane < lanes.size(); ++lane) {
        if (!lanes[lane]) continue;
        for (const LaneFinds::OperationEvent& event : lanes[lane]->finds().operations) {
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
    std::vector<int64_t> rowEnds;
    for (Open* it : order) {
        Operation& operation = it->operation;
        size_t row = 0;
        while (row < rowEnds.size() && rowEnds[row] > operation.begin) ++row;
        if (row == rowEnds.size()) rowEnds.push_back(0);
        rowEnds[row] = operation.end;
        operation.row = static_cast<uint32_t>(row);
        operation.firstStep = static_cast<uint32_t>(steps.size());
        operation.steps = static_cast<uint32_t>(it->steps.size());
        steps.insert(steps.end(), it->steps.begin(), it->steps.end());
        operations.push_back(operation);
    }
    r.operations = keep(operations);
    r.operationSteps = keep(steps);
}

/// Pairs what was taken with what was given back, over all lanes.
void Gathering::pairMemory() {
    std::vector<LaneFinds::MemoryChange> memory;
    eachFinds([&](LaneFinds& finds) { memory.insert(memory.end(), finds.memory.begin(), finds.memory.end()); });
    std::stable_sort(memory.begin(), memory.end(), byTime);
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
    for (const LaneFinds::MemoryChange& change : memory) {
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
    r.allocations = keep(allocations);
    for (size_t i = 0; i < r.pools.size(); ++i) {
        r.pools[i].times = keep(times[i]);
        r.pools[i].bytesInUse = keep(bytesInUse[i]);
    }
}

/// From who had each core, what each recorded thread did.
void Gathering::schedule() {
    std::vector<LaneFinds::CoreSwitch> switches;
    eachFinds([&](LaneFinds& finds) { switches.insert(switches.end(), finds.switches.begin(), finds.switches.end()); });
    if (switches.empty()) return;
    std::stable_sort(switches.begin(), switches.end(), byTime);
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
        r.lanes[i].schedule = keep(schedules[i]);
        r.lanes[i].coreSpans = keep(cores[i]);
    }
}

/// Which lanes do the same work, and the order in which they are shown.
void Gathering::group() {
    std::map<std::pair<int, std::string>, uint32_t> groupOf;
    for (uint32_t i = 0; i < r.lanes.size(); ++i) {
        Lane& lane = r.lanes[i];
        const std::string key = lane.role.empty() ? "lane " + std::to_string(i) : lane.role;
        const auto [at, isNew] =
            groupOf.try_emplace({static_cast<int>(lane.kind), key}, static_cast<uint32_t>(r.groups.size()));
        if (isNew)
            r.groups.push_back({lane.name, {}});
        else
            r.groups[at->second].name = lane.role;
        r.groups[at->second].lanes.push_back(i);
        lane.group = at->second;
    }
    std::stable_partition(r.series.begin(), r.series.end(), [](const Series& x) { return !x.frames.empty(); });
    for (uint32_t i = 0; i < r.lanes.size(); ++i)
        if (!r.lanes[i].onlyCounts) r.laneOrder.push_back(i);
    const uint32_t owner = r.series.empty() || r.series[0].frames.empty() ? kNone : r.series[0].frames[0].lane;
    const auto rank = [&](uint32_t lane) { return lane == owner ? 0 : 1 + static_cast<int>(r.lanes[lane].kind); };
    std::stable_sort(r.laneOrder.begin(), r.laneOrder.end(), [&](uint32_t x, uint32_t y) { return rank(x) < rank(y); });
}

ModelBuilder::ModelBuilder(std::shared_ptr<Storage> storage) : build_(std::make_unique<Build>()) {
    build_->r.storage = std::move(storage);
}
ModelBuilder::~ModelBuilder() = default;

void ModelBuilder::started(int64_t unixNs) { build_->r.startedUnixNs = unixNs; }
void ModelBuilder::define(const Definition& definition) { build_->names.define(definition); }
void ModelBuilder::event(uint32_t lane, const Event& event) { build_->lane(lane).event(event); }
LaneBuilder& ModelBuilder::lane(uint32_t id) { return build_->lane(id); }

std::shared_ptr<const Recording> ModelBuilder::soFar(
    const std::vector<std::pair<uint32_t, std::vector<Lane::Unread>>>& unread) {
    Build& b = *build_;
    auto made = std::make_shared<Recording>();
    {
        const auto lock = b.names.hold();
        *made = b.r;
    }
    made->whole = false;
    Gathering gathering{*made, {}};
    for (const auto& lane : b.lanes) gathering.lanes.push_back(lane.get());
    for (const auto& [id, blocks] : unread) {
        const uint32_t position = b.names.lane(id);
        made->lanes[position].unread = blocks;
        gathering.lanes[position] = nullptr;
    }
    gathering.fillLanes();
    bool any = std::any_of(gathering.lanes.begin(), gathering.lanes.end(), [](auto* l) { return l && l->any(); });
    for (const auto& [id, blocks] : unread)
        for (const Lane::Unread& block : blocks) {
            made->begin = any ? std::min(made->begin, block.begin) : block.begin;
            made->end = any ? std::max(made->end, block.end) : block.end;
            any = true;
        }
    gathering.joinPaths();
    gathering.sortFrames();
    gathering.sortStates();
    gathering.sortPoints();
    made->holds.resize(made->objects.size());
    for (Lane& lane : made->lanes) lane.linkIns = {};  // their paths are not joined yet
    gathering.group();
    return made;
}

void ModelBuilder::keepPathsOf(const Recording& before) {
    build_->pathsBefore = before.paths;
    for (const Site& site : before.sites) build_->sitesBefore.push_back(site.name);
}

std::shared_ptr<Recording> ModelBuilder::finish(Damage damage) {
    Build& b = *build_;
    if (b.r.sites.size() >= b.sitesBefore.size() &&
        std::equal(b.sitesBefore.begin(), b.sitesBefore.end(), b.r.sites.begin(),
                   [](const std::string& name, const Site& site) { return name == site.name; }))
        b.r.paths = b.pathsBefore;
    b.r.damage = std::move(damage);
    Gathering gathering{b.r, {}};
    for (const auto& lane : b.lanes) {
        if (lane) lane->close();
        gathering.lanes.push_back(lane.get());
    }
    gathering.fillLanes();
    gathering.joinPaths();
    gathering.settlePaths();
    gathering.sortFrames();
    gathering.sortStates();
    gathering.sortPoints();
    gathering.sortShared();
    gathering.pairOperations();
    gathering.pairMemory();
    gathering.schedule();
    gathering.group();
    return b.recording;
}

}  // namespace fugato
