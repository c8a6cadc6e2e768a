// SPDX-License-Identifier: GPL-3.0-or-later
#include "model_builder.h"

#include <algorithm>
#include <unordered_map>

#include "likely_enders.h"
#include "streams/streams.h"

namespace fugato {

namespace {

void add(Repairs& to, const Repairs& from) {
    to.endsWithoutBegin += from.endsWithoutBegin;
    to.beginsWithoutEnd += from.beginsWithoutEnd;
    to.timesBackwards += from.timesBackwards;
    to.framesWithoutEnd += from.framesWithoutEnd;
    to.unknownNames += from.unknownNames;
    to.lostEvents += from.lostEvents;
    to.tooDeep += from.tooDeep;
}

/// Of a lane that tells no name: what the system calls its thread; new threads are called as the one that made them.
std::string nameFor(const Recording& r, const Lane& lane) {
    if (lane.kind != LaneKind::Queue && lane.osId && lane.osId == r.process()) return "main thread";
    const auto thread = r.osThreads.find(static_cast<uint32_t>(lane.osId)), main = r.osThreads.find(r.process());
    const std::string number = lane.osId ? " (" + std::to_string(lane.osId) + ")" : "";
    if (lane.kind == LaneKind::Thread && thread != r.osThreads.end() && main != r.osThreads.end() &&
        !thread->second.name.empty() && thread->second.name != main->second.name)
        return thread->second.name + number;
    return (lane.kind == LaneKind::Queue ? "queue " : "thread ") + std::to_string(lane.id) + number;
}

/// After the lanes are filled: when the recording begins and ends, what had to be mended, names for all.
void finishLanes(Recording& r, const std::vector<const LaneBuilder*>& lanes) {
    bool any = false;
    std::map<uint32_t, uint64_t> neverEnded;  // by site
    for (uint32_t i = 0; i < lanes.size(); ++i) {
        if (!lanes[i]) continue;
        const Lane& lane = r.lanes[i];
        add(r.repairs, lanes[i]->repairs());
        for (const auto& [site, count] : lanes[i]->neverEnded()) neverEnded[site] += count;
        if (!lanes[i]->any()) continue;
        r.begin = any ? std::min(r.begin, lane.first) : lane.first;
        r.end = any ? std::max(r.end, lane.last) : lane.last;
        any = true;
    }
    const auto most = std::max_element(neverEnded.begin(), neverEnded.end(),
                                       [](const auto& x, const auto& y) { return x.second < y.second; });
    if (most != neverEnded.end()) r.repairs.mostOftenNeverEnded = r.sites[most->first].name;
    for (Lane& lane : r.lanes)
        if (lane.name.empty()) lane.name = nameFor(r, lane);
}

/// One table of paths from those of the lanes, in the order of the lanes.
template <class Place>
void joinPaths(Recording& r, const std::vector<const LaneBuilder*>& lanes, Place& place) {
    for (uint32_t i = 0; i < lanes.size(); ++i) {
        if (!lanes[i]) continue;
        const auto& nodes = lanes[i]->paths().nodes();
        std::vector<PathId> joined(nodes.size());
        for (size_t n = 1; n < nodes.size(); ++n) joined[n] = r.paths.child(joined[nodes[n].parent], nodes[n].site);
        Lane& lane = r.lanes[i];
        lane.paths = Column<PathId>::of(place, joined);
        for (MarkerRow& row : lane.rows) row.setPaths(lane.paths.data());
    }
}

/// Which lanes do the same work.
void group(Recording& r) {
    std::map<std::tuple<LaneKind, std::string, std::string>, uint32_t> groupOf;
    for (uint32_t i = 0; i < r.lanes.size(); ++i) {
        Lane& lane = r.lanes[i];
        const std::string key = lane.role.empty() ? "lane " + std::to_string(i) : lane.role;
        const auto [at, isNew] =
            groupOf.try_emplace({lane.kind, lane.program, key}, static_cast<uint32_t>(r.groups.size()));
        if (isNew)
            r.groups.push_back({lane.name, {}});
        else
            r.groups[at->second].name = lane.role;
        r.groups[at->second].lanes.push_back(i);
        lane.group = at->second;
    }
    std::stable_partition(r.series.begin(), r.series.end(), [](const Series& x) { return !x.frames.empty(); });
}

}  // namespace

struct ModelBuilder::Build {
    std::shared_ptr<Recording> recording = std::make_shared<Recording>();
    Recording& r = *recording;
    Names names{r};
    PathTable pathsBefore;
    std::vector<std::string> sitesBefore;
    bool pathsAreOwn = false;                         // of an earlier moment of this recording
    std::vector<std::unique_ptr<LaneBuilder>> lanes;  // by position; null where no event was told
    std::unordered_map<uint32_t, LaneBuilder*> byId;
    uint32_t lastId = kNone;
    LaneBuilder* last = nullptr;
    Streams streams;
    std::shared_ptr<ArenaPool> room;  // of asItIs()

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
    std::vector<const LaneBuilder*> each() const {
        std::vector<const LaneBuilder*> out;
        for (const auto& lane : lanes) out.push_back(lane.get());
        return out;
    }
    /// Paths that are known keep their numbers, where markers do.
    PathTable knownPaths() const {
        const bool same =
            pathsAreOwn || (r.sites.size() >= sitesBefore.size() &&
                            std::equal(sitesBefore.begin(), sitesBefore.end(), r.sites.begin(),
                                       [](const std::string& name, const Site& site) { return name == site.name; }));
        return same ? pathsBefore : PathTable();
    }
    /// What lanes told whose paths had their own numbers until these were joined.
    template <class Place>
    bool fillStreams(Recording& to, Place& place, const std::vector<LaneFinds::InObject>& held,
                     const Progress& progress) {
        std::vector<FoundInLane> found;
        for (uint32_t i = 0; i < lanes.size(); ++i) {
            if (!lanes[i]) continue;
            to.lanes[i].linkIns = lanes[i]->linkIns(to.lanes[i].paths, place);
            found.push_back({i, lanes[i]->finds(), to.lanes[i].paths});
        }
        return streams.fill(found, to, place, held, progress);
    }
};

ModelBuilder::ModelBuilder(std::shared_ptr<Storage> storage) : build_(std::make_unique<Build>()) {
    build_->r.storage = std::move(storage);
}
ModelBuilder::~ModelBuilder() = default;

void ModelBuilder::started(int64_t unixNs) { build_->r.startedUnixNs = unixNs; }
void ModelBuilder::define(const Definition& definition) { build_->names.define(definition); }
void ModelBuilder::event(uint32_t lane, const Event& event) { build_->lane(lane).events({&event, 1}); }
LaneBuilder& ModelBuilder::lane(uint32_t id) { return build_->lane(id); }

std::shared_ptr<const Recording> ModelBuilder::soFar(
    const std::vector<std::pair<uint32_t, std::vector<Lane::Unread>>>& unread) {
    Build& b = *build_;
    auto made = std::make_shared<Recording>();
    {
        const Lock lock(b.names.mutex());
        *made = b.r;
    }
    std::vector<const LaneBuilder*> lanes = b.each();
    Streams shown;
    for (const auto& [id, blocks] : unread) {
        const uint32_t position = b.names.lane(id);
        made->lanes[position].unread = blocks;
        lanes[position] = nullptr;
    }
    for (uint32_t i = 0; i < lanes.size(); ++i) {
        if (!lanes[i]) continue;
        lanes[i]->fill(made->lanes[i]);
        shown.copyShown(lanes[i]->finds());
    }
    finishLanes(*made, lanes);
    bool any = std::any_of(lanes.begin(), lanes.end(), [](auto* l) { return l && l->any(); });
    for (const auto& [id, blocks] : unread)
        for (const Lane::Unread& block : blocks) {
            made->begin = any ? std::min(made->begin, block.begin) : block.begin;
            made->end = any ? std::max(made->end, block.end) : block.end;
            any = true;
        }
    joinPaths(*made, lanes, *made->storage);
    shown.fillShown(*made, *made->storage);
    group(*made);
    return made;
}

void ModelBuilder::keepPathsOf(const Recording& before) {
    build_->pathsBefore = before.paths;
    build_->sitesBefore.clear();
    for (const Site& site : before.sites) build_->sitesBefore.push_back(site.name);
}

std::shared_ptr<Recording> ModelBuilder::asItIs(Damage damage) {
    Build& b = *build_;
    if (!b.room) b.room = std::make_shared<ArenaPool>(b.r.storage);
    b.names.addSystemLanes();
    auto made = std::make_shared<Recording>(b.r);
    made->arena = std::make_shared<Arena>(b.room);
    made->paths = b.knownPaths();
    made->damage = std::move(damage);
    const std::vector<const LaneBuilder*> lanes = b.each();
    for (uint32_t i = 0; i < lanes.size(); ++i)
        if (lanes[i]) b.lanes[i]->fillAsItIs(made->lanes[i], *made->arena);
    finishLanes(*made, lanes);
    joinPaths(*made, lanes, *made->arena);
    b.pathsBefore = made->paths;
    b.pathsAreOwn = true;
    std::vector<LaneFinds::InObject> held;
    for (uint32_t i = 0; i < lanes.size(); ++i)
        if (lanes[i])
            for (LaneFinds::InObject it : lanes[i]->heldNow()) {
                it.hold.path = made->lanes[i].paths[it.hold.path];
                held.push_back(it);
            }
    b.fillStreams(*made, *made->arena, held, {});
    group(*made);
    return made;
}

std::vector<NewFrame> ModelBuilder::framesFrom(size_t number, const std::string& name) {
    Build& b = *build_;
    const auto named =
        std::find_if(b.r.series.begin(), b.r.series.end(), [&](const Series& s) { return s.name == name; });
    if (named == b.r.series.end()) return {};
    const auto series = static_cast<uint32_t>(named - b.r.series.begin());
    const GrowingList<Frame>& taken = b.streams.frames(series);
    std::vector<NewFrame> frames;
    for (size_t i = number; i < taken.size(); ++i) frames.push_back({taken[i]});
    for (const auto& lane : b.lanes)
        for (size_t i = 0; lane && i < lane->finds().frames.size(); ++i)
            if (const auto& found = lane->finds().frames[i]; found.series == series) frames.push_back({found.frame});
    std::stable_sort(frames.begin(), frames.end(),
                     [](const NewFrame& x, const NewFrame& y) { return x.frame.begin < y.frame.begin; });
    for (NewFrame& it : frames) it.pacing = b.lanes[it.frame.lane]->pacingIn(it.frame.begin, it.frame.end);
    return frames;
}

std::shared_ptr<Recording> ModelBuilder::finish(Damage damage, const Progress& progress) {
    Build& b = *build_;
    b.names.addSystemLanes();
    b.r.paths = b.knownPaths();
    b.r.damage = std::move(damage);
    const std::vector<const LaneBuilder*> lanes = b.each();
    for (uint32_t i = 0; i < lanes.size(); ++i) {
        if (!lanes[i]) continue;
        b.lanes[i]->close();
        lanes[i]->fill(b.r.lanes[i]);
    }
    finishLanes(b.r, lanes);
    joinPaths(b.r, lanes, *b.r.storage);
    if (!b.fillStreams(b.r, *b.r.storage, {}, progress)) return nullptr;
    group(b.r);
    b.r.likelyEnders = likelyEnders(b.r);
    return b.recording;
}

}  // namespace fugato
