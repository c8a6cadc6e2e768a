// SPDX-License-Identifier: GPL-3.0-or-later
#include "model_builder.h"

#include <algorithm>
#include <cstring>

namespace fugato {

namespace {

/// No time or duration lies beyond ± 73 years, so that differences and sums cannot overflow.
constexpr int64_t kFarthestNs = int64_t{1} << 61;
int64_t bounded(int64_t ns) { return std::clamp(ns, -kFarthestNs, kFarthestNs); }
int64_t bounded(uint64_t ns) { return static_cast<int64_t>(std::min(ns, static_cast<uint64_t>(kFarthestNs))); }

/// Maps the file's ids to positions in a vector, making a numbered stand-in for one never defined.
template <class Thing>
struct Register {
    std::vector<Thing>& things;
    std::unordered_map<uint32_t, uint32_t> positions;

    std::pair<uint32_t, bool> at(uint32_t id) {
        const auto [found, isNew] = positions.try_emplace(id, static_cast<uint32_t>(things.size()));
        if (isNew) things.emplace_back();
        return {found->second, isNew};
    }
};

struct OpenMarker {
    uint32_t index;
    bool wait;
};

struct OpenHold {
    uint32_t object;
    int64_t begin;
    PathId path;
};

struct OpenFrame {
    uint32_t series;
    int64_t begin, deadline;
    bool ticked;  // begun by a tick: only the next tick can end it
};

struct OpenOperation {
    Operation operation;
    bool began = false, ended = false;
};

struct MemoryChange {
    int64_t time;
    bool taken;
    uint32_t pool, lane;
    uint64_t address, bytes;
    PathId path;
    std::string name;
};

struct CoreSwitch {
    int64_t time;
    uint32_t core, thread;
    bool readyBefore;  // the thread that had the core is still ready to run
};

constexpr uint64_t kMostPicturePixels = 4u << 20;

struct LaneBuild {
    uint32_t position = 0;
    bool any = false;
    bool onlyCounts = true;
    std::vector<OpenMarker> open;
    std::vector<PathId> openPaths;
    std::vector<OpenHold> holds;
    std::vector<OpenFrame> frames;
    PathId path() const { return openPaths.empty() ? 0 : openPaths.back(); }
};

}  // namespace

struct ModelBuilder::Build {
    std::shared_ptr<Recording> recording = std::make_shared<Recording>();
    Recording& r = *recording;
    Register<Lane> lanes{r.lanes, {}};
    Register<Site> sites{r.sites, {}};
    Register<Series> series{r.series, {}};
    Register<std::string> objects{r.objects, {}};
    Register<Counter> counters{r.counters, {}};
    Register<State> states{r.states, {}};
    Register<std::string> keys{r.keys, {}};
    Register<Pool> pools{r.pools, {}};
    std::vector<LaneBuild> builds;
    std::unordered_map<uint64_t, OpenOperation> operations;
    std::vector<MemoryChange> memory;
    std::map<uint32_t, Picture> pictures;
    std::vector<CoreSwitch> switches;
    std::vector<int64_t> seriesDeadline;
    uint32_t lastLaneId = kNone, lastLane = 0;

    uint32_t lane(uint32_t id) {
        if (id == lastLaneId) return lastLane;
        const auto [position, isNew] = lanes.at(id);
        if (isNew) {
            r.lanes[position].id = id;
            builds.push_back({});
            builds.back().position = position;
        }
        lastLaneId = id;
        return lastLane = position;
    }
    /// The position of a thing used by an event; a stand-in name where its definition is missing.
    template <class Thing, class Name>
    uint32_t used(Register<Thing>& reg, uint32_t id, Name&& name) {
        const auto [position, isNew] = reg.at(id);
        if (isNew) {
            ++r.repairs.unknownNames;
            name(reg.things[position], std::to_string(id));
        }
        return position;
    }
    uint32_t site(uint32_t id) {
        return used(sites, id, [](Site& s, const std::string& n) { s.name = "marker " + n; });
    }
    uint32_t object(uint32_t id) {
        return used(objects, id, [](std::string& o, const std::string& n) { o = "object " + n; });
    }
    uint32_t seriesOf(uint32_t id) {
        const uint32_t position = used(series, id, [](Series& s, const std::string& n) { s.name = "series " + n; });
        if (seriesDeadline.size() <= position) seriesDeadline.resize(position + 1);
        return position;
    }

    void beginMarker(Lane& lane, LaneBuild& build, uint32_t sitePosition, int64_t time, bool wait) {
        const size_t depth = build.open.size();
        if (lane.rows.size() <= depth) lane.rows.resize(depth + 1);
        MarkerRow& row = lane.rows[depth];
        const PathId path = r.paths.child(build.path(), sitePosition);
        row.begin.push_back(time);
        row.end.push_back(time);
        row.path.push_back(path);
        row.parent.push_back(depth ? build.open.back().index : 0);
        const bool inside = depth && (build.open.back().wait ||
                                      (lane.rows[depth - 1].flags[build.open.back().index] & kMarkerInsideWait));
        row.flags.push_back(static_cast<uint8_t>((wait ? kMarkerWait : 0) | (inside ? kMarkerInsideWait : 0)));
        build.open.push_back({static_cast<uint32_t>(row.size() - 1), wait});
        build.openPaths.push_back(path);
    }

    void endMarker(Lane& lane, LaneBuild& build, int64_t time, bool repaired) {
        const OpenMarker marker = build.open.back();
        const auto depth = static_cast<uint32_t>(build.open.size() - 1);
        MarkerRow& row = lane.rows[depth];
        row.end[marker.index] = time;
        if (repaired) {
            row.flags[marker.index] |= kMarkerEndRepaired;
            ++r.repairs.beginsWithoutEnd;
        }
        if (marker.wait)
            for (auto wait = lane.waits.rbegin(); wait != lane.waits.rend(); ++wait)
                if (wait->row == depth && wait->index == marker.index) {
                    wait->end = time;
                    break;
                }
        build.open.pop_back();
        build.openPaths.pop_back();
    }

    void endOf(Lane& lane, LaneBuild& build, const Event& event, int64_t time) {
        const bool wait = event.kind == EventKind::WaitEnd;
        // A wait's end closes the innermost wait, a marker's end the innermost marker; what stands
        // between was never ended.
        size_t keep = build.open.size();
        while (keep > 0 && build.open[keep - 1].wait != wait) --keep;
        if (keep == 0) {
            ++r.repairs.endsWithoutBegin;
            return;
        }
        while (build.open.size() > keep) endMarker(lane, build, time, true);
        if (wait && event.a && !lane.waits.empty()) {
            for (auto at = lane.waits.rbegin(); at != lane.waits.rend(); ++at)
                if (at->row == keep - 1 && at->index == build.open.back().index) {
                    at->link = event.a;
                    break;
                }
            lane.linkIns.push_back({time, event.a, build.path()});
        }
        endMarker(lane, build, time, false);
    }

    void give(Lane& lane, LaneBuild& build, uint32_t objectPosition, int64_t time) {
        for (size_t i = build.holds.size(); i-- > 0;) {
            const OpenHold hold = build.holds[i];
            if (hold.object != objectPosition) continue;
            holdsOf(objectPosition)
                .push_back({hold.begin, time, static_cast<uint32_t>(&lane - r.lanes.data()),
                            r.paths.common(hold.path, build.path())});
            build.holds.erase(build.holds.begin() + static_cast<std::ptrdiff_t>(i));
            return;
        }
    }
    std::vector<Hold>& holdsOf(uint32_t objectPosition) {
        if (r.holds.size() <= objectPosition) r.holds.resize(objectPosition + 1);
        return r.holds[objectPosition];
    }

    uint32_t pool(uint32_t id) {
        return used(pools, id, [&](Pool& p, const std::string& n) {
            p.name = id ? "pool " + n : "heap";
            if (!id) --r.repairs.unknownNames;
        });
    }
    void beginFrame(LaneBuild& build, const Event& event, int64_t time, bool tick) {
        const uint32_t of = seriesOf(event.id);
        for (size_t i = 0; i < build.frames.size(); ++i)
            if (build.frames[i].series == of) {  // the one before ends here, whether it was ended or not
                if (!tick) ++r.repairs.framesWithoutEnd;
                endFrame(build, i, time);
                break;
            }
        const auto deadline = bounded(event.a);
        build.frames.push_back({of, time, deadline > 0 ? deadline : seriesDeadline[of], tick});
    }
    void argument(Lane& lane, const LaneBuild& build, const Event& event) {
        if (build.open.empty()) return;
        Argument argument;
        argument.row = static_cast<uint32_t>(build.open.size() - 1);
        argument.index = build.open.back().index;
        argument.key = used(keys, event.id, [](std::string& k, const std::string& n) { k = "argument " + n; });
        argument.type = event.b <= 2 ? static_cast<ArgumentType>(event.b) : ArgumentType::Text;
        if (argument.type == ArgumentType::Integer)
            argument.integer = layout::unzigzag(event.a);
        else if (argument.type == ArgumentType::Real)
            std::memcpy(&argument.real, &event.a, sizeof argument.real);
        else
            argument.text = event.text;
        lane.arguments.push_back(std::move(argument));
    }
    void operation(const LaneBuild& build, const Event& event, int64_t time) {
        OpenOperation& open = operations[event.a];
        Operation& operation = open.operation;
        if (event.kind == EventKind::OperationBegin) {
            operation.site = site(event.id);
            operation.begin = time;
            operation.beganOn = build.position;
            operation.askedBy = build.path();
            open.began = true;
        } else if (event.kind == EventKind::OperationStep) {
            operation.steps.push_back({time, site(event.id), build.position});
        } else {
            operation.end = time;
            operation.endedOn = build.position;
            operation.code = layout::unzigzag(event.b);
            operation.text = event.text;
            open.ended = true;
        }
    }
    void picturePiece(const Event& event, int64_t time) {
        const uint64_t width = event.a >> 32, height = event.a & 0xffffffff;
        if (!width || !height || width > kMostPicturePixels || width * height > kMostPicturePixels) return;
        Picture& picture = pictures[event.id];
        if (picture.pixels.empty()) {
            picture.time = time;
            picture.width = static_cast<uint32_t>(width);
            picture.height = static_cast<uint32_t>(height);
            picture.pixels.resize(width * height * 3);
        }
        const uint64_t from = std::min(event.b, height) * width * 3;
        if (width != picture.width || height != picture.height || from + event.text.size() > picture.pixels.size())
            return;
        std::memcpy(picture.pixels.data() + from, event.text.data(), event.text.size());
    }
    void sample(const LaneBuild& build, const Event& event, int64_t time) {
        const auto* at = reinterpret_cast<const uint8_t*>(event.text.data());
        const auto* end = at + event.text.size();
        StackSample sample{time, event.id, build.position, static_cast<uint32_t>(r.stackAddresses.size()), 0};
        uint64_t address = 0, change = 0;
        while (layout::readVarint(at, end, change)) {
            address += static_cast<uint64_t>(layout::unzigzag(change));
            r.stackAddresses.push_back(address);
            ++sample.count;
        }
        r.samples.push_back(sample);
    }

    void dropFrames(LaneBuild& build) {
        for (const OpenFrame& frame : build.frames) r.repairs.framesWithoutEnd += !frame.ticked;
        build.frames.clear();
    }
    void finishOperations();
    void finishMemory();
    void finishSchedule();

    void endFrame(LaneBuild& build, size_t at, int64_t time) {
        const OpenFrame frame = build.frames[at];
        r.series[frame.series].frames.push_back({frame.begin, time, frame.deadline, build.position});
        build.frames.erase(build.frames.begin() + static_cast<std::ptrdiff_t>(at));
    }
};

/// Puts operations in order of time and into rows in which they do not overlap.
void ModelBuilder::Build::finishOperations() {
    for (auto& [number, open] : operations) {
        if (!open.began) {
            ++r.repairs.endsWithoutBegin;
            continue;
        }
        Operation& operation = open.operation;
        if (!open.ended || operation.end < operation.begin) operation.end = std::max(r.end, operation.begin);
        std::stable_sort(operation.steps.begin(), operation.steps.end(),
                         [](auto& x, auto& y) { return x.time < y.time; });
        r.operations.push_back(std::move(operation));
    }
    std::sort(r.operations.begin(), r.operations.end(),
              [](auto& x, auto& y) { return x.begin != y.begin ? x.begin < y.begin : x.end < y.end; });
    std::vector<int64_t> rowEnds;
    for (Operation& operation : r.operations) {
        size_t row = 0;
        while (row < rowEnds.size() && rowEnds[row] > operation.begin) ++row;
        if (row == rowEnds.size()) rowEnds.push_back(0);
        rowEnds[row] = operation.end;
        operation.row = static_cast<uint32_t>(row);
    }
}

/// Pairs what was taken with what was given back, over all lanes.
void ModelBuilder::Build::finishMemory() {
    std::stable_sort(memory.begin(), memory.end(), [](auto& x, auto& y) { return x.time < y.time; });
    std::map<std::pair<uint32_t, uint64_t>, size_t> open;
    std::vector<int64_t> inUse(r.pools.size());
    for (MemoryChange& change : memory) {
        const auto key = std::pair(change.pool, change.address);
        const auto found = open.find(key);
        int64_t& bytes = inUse[change.pool];
        if (found != open.end()) {  // given back, or taken anew without that
            Allocation& allocation = r.allocations[found->second];
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
            allocation.name = std::move(change.name);
            bytes = bounded(bytes + bounded(allocation.bytes));
            open[key] = r.allocations.size();
            r.allocations.push_back(std::move(allocation));
        }
        r.pools[change.pool].times.push_back(change.time);
        r.pools[change.pool].bytesInUse.push_back(bytes);
    }
}

/// From who had each core, what each recorded thread did.
void ModelBuilder::Build::finishSchedule() {
    if (switches.empty()) return;
    std::stable_sort(switches.begin(), switches.end(), [](auto& x, auto& y) { return x.time < y.time; });
    std::unordered_map<uint32_t, uint32_t> laneOf;  // by thread of the operating system
    for (uint32_t i = 0; i < r.lanes.size(); ++i)
        if (r.lanes[i].kind == LaneKind::Thread && r.lanes[i].osId) laneOf[static_cast<uint32_t>(r.lanes[i].osId)] = i;
    const auto addSpan = [&](uint32_t thread, int64_t begin, int64_t end, ThreadState state, uint32_t core) {
        const auto lane = laneOf.find(thread);
        if (lane == laneOf.end() || end <= begin) return;
        auto& spans = r.lanes[lane->second].schedule;
        if (!spans.empty() && spans.back().end > begin) begin = spans.back().end;  // clocks of cores differ slightly
        if (end > begin) spans.push_back({begin, end, state, core});
    };
    struct Off {
        int64_t time;
        bool ready;
        uint32_t core;
    };
    std::unordered_map<uint32_t, Off> off;  // threads that have no core, since when
    for (const CoreSwitch& change : switches) {
        auto& spans = r.lanes[change.core].coreSpans;
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
        if (r.lanes[i].coreSpans.empty()) continue;
        CoreSpan& last = r.lanes[i].coreSpans.back();
        last.end = std::max(last.begin, r.end);
        addSpan(last.thread, last.begin, last.end, ThreadState::Running, i);
    }
    for (const auto& [thread, since] : off)
        addSpan(thread, since.time, r.end, since.ready ? ThreadState::Ready : ThreadState::Blocked, since.core);
}

ModelBuilder::ModelBuilder() : build_(std::make_unique<Build>()) {}
ModelBuilder::~ModelBuilder() = default;

void ModelBuilder::started(int64_t unixNs) { build_->r.startedUnixNs = unixNs; }

void ModelBuilder::define(const Definition& definition) {
    Build& b = *build_;
    struct Visitor {
        Build& b;
        void operator()(const LaneDefinition& d) const {
            Lane& lane = b.r.lanes[b.lane(d.id)];
            lane.kind = d.kind;
            lane.osId = d.osId;
            lane.name = d.name;
            lane.role = d.role;
        }
        void operator()(const SiteDefinition& d) const {
            b.r.sites[b.sites.at(d.id).first] = {d.name, d.category,           d.description, d.file,
                                                 d.line, bounded(d.longestNs), d.detail};
        }
        void operator()(const SeriesDefinition& d) const {
            const uint32_t position = b.series.at(d.id).first;
            b.r.series[position].name = d.name;
            if (b.seriesDeadline.size() <= position) b.seriesDeadline.resize(position + 1);
            b.seriesDeadline[position] = bounded(d.deadlineNs);
        }
        void operator()(const ObjectDefinition& d) const { b.r.objects[b.objects.at(d.id).first] = d.name; }
        void operator()(const CounterDefinition& d) const {
            Counter& counter = b.r.counters[b.counters.at(d.id).first];
            counter.name = d.name;
            counter.unit = d.unit;
            counter.threshold = d.threshold;
        }
        void operator()(const StateDefinition& d) const { b.r.states[b.states.at(d.id).first].name = d.name; }
        void operator()(const ContextDefinition& d) const {
            if (d.value.empty())
                b.r.context.erase(d.key);
            else
                b.r.context[d.key] = d.value;
        }
        void operator()(const KeyDefinition& d) const { b.r.keys[b.keys.at(d.id).first] = d.name; }
        void operator()(const PoolDefinition& d) const { b.r.pools[b.pools.at(d.id).first].name = d.name; }
        void operator()(const OsThreadDefinition& d) const { b.r.osThreads[d.id] = {d.process, d.name}; }
        void operator()(const ModuleDefinition& d) const {
            b.r.modules.push_back({d.address, d.bytes, d.offset, d.path, d.buildId});
        }
    };
    std::visit(Visitor{b}, definition);
}

void ModelBuilder::event(uint32_t laneId, const Event& event) {
    Build& b = *build_;
    Recording& r = b.r;
    const uint32_t position = b.lane(laneId);
    Lane& lane = r.lanes[position];
    LaneBuild& build = b.builds[position];
    int64_t time = bounded(event.time);
    if (!build.any) {
        lane.first = lane.last = time;
        build.any = true;
    } else if (time < lane.last) {
        ++r.repairs.timesBackwards;
        time = lane.last;
    }
    const int64_t before = lane.last;
    lane.last = time;
    build.onlyCounts = build.onlyCounts && (event.kind == EventKind::Count || event.kind == EventKind::LaneEnd);

    switch (event.kind) {
        case EventKind::MarkBegin: b.beginMarker(lane, build, b.site(event.id), time, false); break;
        case EventKind::WaitBegin: {
            b.beginMarker(lane, build, b.site(static_cast<uint32_t>(event.a)), time, true);
            const auto kind =
                event.b <= static_cast<uint64_t>(WaitKind::Pacing) ? static_cast<WaitKind>(event.b) : WaitKind::Other;
            lane.waits.push_back({time, time, b.object(event.id), kind, 0, static_cast<uint32_t>(build.open.size() - 1),
                                  build.open.back().index});
            break;
        }
        case EventKind::MarkEnd:
        case EventKind::WaitEnd: b.endOf(lane, build, event, time); break;
        case EventKind::FrameBegin:
        case EventKind::FrameTick: b.beginFrame(build, event, time, event.kind == EventKind::FrameTick); break;
        case EventKind::FrameEnd: {
            const uint32_t series = b.seriesOf(event.id);
            size_t at = 0;
            while (at < build.frames.size() && build.frames[at].series != series) ++at;
            if (at < build.frames.size())
                b.endFrame(build, at, time);
            else
                ++r.repairs.endsWithoutBegin;
            break;
        }
        case EventKind::Count: {
            Counter& counter = r.counters[b.used(b.counters, event.id,
                                                 [](Counter& c, const std::string& n) { c.name = "counter " + n; })];
            double value = 0;
            std::memcpy(&value, &event.a, sizeof value);
            counter.times.push_back(time);
            counter.values.push_back(value);
            break;
        }
        case EventKind::Point:
            r.points.push_back(
                {time, position, static_cast<Severity>(std::min(event.id, 3u)), std::string(event.text), std::nullopt});
            break;
        case EventKind::PointCode:
            r.points.push_back({time, position, static_cast<Severity>(std::min(event.id, 3u)), std::string(event.text),
                                layout::unzigzag(event.a)});
            break;
        case EventKind::Argument: b.argument(lane, build, event); break;
        case EventKind::Outcome:
            if (event.a == 1 && !build.open.empty())
                lane.rows[build.open.size() - 1].flags[build.open.back().index] |= kMarkerChangedNothing;
            break;
        case EventKind::OperationBegin:
        case EventKind::OperationStep:
        case EventKind::OperationEnd: b.operation(build, event, time); break;
        case EventKind::MemoryTaken:
        case EventKind::MemoryGiven:
            b.memory.push_back({time, event.kind == EventKind::MemoryTaken, b.pool(event.id), position, event.a,
                                event.b, build.path(), std::string(event.text)});
            break;
        case EventKind::Picture: b.picturePiece(event, time); break;
        case EventKind::Switch: b.switches.push_back({time, position, event.id, event.a == 1}); break;
        case EventKind::Sample: b.sample(build, event, time); break;
        case EventKind::Taken: build.holds.push_back({b.object(event.id), time, build.path()}); break;
        case EventKind::Given: b.give(lane, build, b.object(event.id), time); break;
        case EventKind::LinkOut:
            r.linkSources.try_emplace(event.a, Recording::LinkSource{position, time, build.path()});
            break;
        case EventKind::LinkIn: lane.linkIns.push_back({time, event.a, build.path()}); break;
        case EventKind::StateSet: {
            State& state =
                r.states[b.used(b.states, event.id, [](State& s, const std::string& n) { s.name = "state " + n; })];
            state.spans.push_back({time, time, std::string(event.text)});
            break;
        }
        case EventKind::Lost:
            if (event.b) {  // what is open may have ended in the gap: nothing reaches across it
                while (!build.open.empty()) b.endMarker(lane, build, before, true);
                while (!build.holds.empty()) b.give(lane, build, build.holds.back().object, before);
                b.dropFrames(build);
            }
            lane.lost.push_back({time, event.a});
            r.repairs.lostEvents += event.a;
            break;
        default: break;
    }
}

std::shared_ptr<const Recording> ModelBuilder::finish(Damage damage) {
    Build& b = *build_;
    Recording& r = b.r;
    r.damage = std::move(damage);
    bool any = false;
    for (LaneBuild& build : b.builds) {
        Lane& lane = r.lanes[build.position];
        while (!build.open.empty()) b.endMarker(lane, build, lane.last, true);
        while (!build.holds.empty()) b.give(lane, build, build.holds.back().object, lane.last);
        b.dropFrames(build);
        lane.onlyCounts = build.any && build.onlyCounts;
        std::stable_sort(lane.arguments.begin(), lane.arguments.end(),
                         [](auto& x, auto& y) { return x.row != y.row ? x.row < y.row : x.index < y.index; });
        if (lane.name.empty())
            lane.name = (lane.kind == LaneKind::Queue ? "queue " : "thread ") + std::to_string(lane.id) +
                        (lane.osId ? " (" + std::to_string(lane.osId) + ")" : "");
        for (MarkerRow& row : lane.rows) {
            row.busyUntil.resize(row.size());
            int64_t sum = 0;
            for (size_t i = 0; i < row.size(); ++i) row.busyUntil[i] = sum += row.end[i] - row.begin[i];
            if (std::none_of(row.flags.begin(), row.flags.end(), [](uint8_t f) { return f & kMarkerWait; })) continue;
            row.waitUntil.resize(row.size());
            sum = 0;
            for (size_t i = 0; i < row.size(); ++i)
                row.waitUntil[i] = sum += row.flags[i] & kMarkerWait ? row.end[i] - row.begin[i] : 0;
        }
        std::stable_sort(lane.waits.begin(), lane.waits.end(), [](auto& x, auto& y) { return x.begin < y.begin; });
        int64_t waited = 0;
        for (const Wait& wait : lane.waits)
            if (!(lane.rows[wait.row].flags[wait.index] & kMarkerInsideWait))
                lane.blocked.push_back({wait.begin, wait.end, waited += wait.end - wait.begin});
        if (!build.any) continue;
        r.begin = any ? std::min(r.begin, lane.first) : lane.first;
        r.end = any ? std::max(r.end, lane.last) : lane.last;
        any = true;
    }

    b.finishOperations();
    b.finishMemory();
    b.finishSchedule();
    for (auto& [id, picture] : b.pictures) r.pictures.push_back(std::move(picture));
    std::stable_sort(r.pictures.begin(), r.pictures.end(), [](auto& x, auto& y) { return x.time < y.time; });
    std::stable_sort(r.samples.begin(), r.samples.end(), [](auto& x, auto& y) { return x.time < y.time; });

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

    r.holds.resize(r.objects.size());
    for (auto& holds : r.holds)
        std::stable_sort(holds.begin(), holds.end(), [](auto& x, auto& y) { return x.end < y.end; });
    std::stable_sort(r.points.begin(), r.points.end(), [](auto& x, auto& y) { return x.time < y.time; });
    for (State& state : r.states) {
        std::stable_sort(state.spans.begin(), state.spans.end(), [](auto& x, auto& y) { return x.begin < y.begin; });
        for (size_t i = 0; i < state.spans.size(); ++i)
            state.spans[i].end = i + 1 < state.spans.size() ? state.spans[i + 1].begin : r.end;
    }
    for (Counter& counter : r.counters) {
        std::vector<size_t> order(counter.times.size());
        for (size_t i = 0; i < order.size(); ++i) order[i] = i;
        std::stable_sort(order.begin(), order.end(),
                         [&](size_t x, size_t y) { return counter.times[x] < counter.times[y]; });
        Counter sorted = counter;
        for (size_t i = 0; i < order.size(); ++i) {
            sorted.times[i] = counter.times[order[i]];
            sorted.values[i] = counter.values[order[i]];
        }
        counter = std::move(sorted);
    }
    for (Series& series : r.series)
        std::stable_sort(series.frames.begin(), series.frames.end(),
                         [](auto& x, auto& y) { return x.begin < y.begin; });
    std::stable_partition(r.series.begin(), r.series.end(), [](const Series& x) { return !x.frames.empty(); });
    for (uint32_t i = 0; i < r.lanes.size(); ++i)
        if (!r.lanes[i].onlyCounts) r.laneOrder.push_back(i);
    const uint32_t owner = r.series.empty() || r.series[0].frames.empty() ? kNone : r.series[0].frames[0].lane;
    const auto rank = [&](uint32_t lane) { return lane == owner ? 0 : 1 + static_cast<int>(r.lanes[lane].kind); };
    std::stable_sort(r.laneOrder.begin(), r.laneOrder.end(), [&](uint32_t x, uint32_t y) { return rank(x) < rank(y); });
    return b.recording;
}

Result<std::shared_ptr<const Recording>> openRecording(ByteSource& source, const std::string& name,
                                                       const Progress& progress) {
    ModelBuilder builder;
    auto damage = readRecording(source, name, builder, progress);
    if (!damage) return damage.failure();
    return builder.finish(std::move(*damage));
}

Result<std::shared_ptr<const Recording>> openRecording(const std::string& path, const Progress& progress) {
    ModelBuilder builder;
    auto damage = readRecordingFile(path, builder, progress);
    if (!damage) return damage.failure();
    return builder.finish(std::move(*damage));
}

}  // namespace fugato
