// SPDX-License-Identifier: GPL-3.0-or-later
#include "lane_builder.h"

#include <algorithm>
#include <cstring>

#include "format/shown_text.h"

namespace fugato {

namespace {
constexpr uint64_t kMostPicturePixels = 4u << 20;
constexpr size_t kFirstKnown = 256;
constexpr uint32_t kFirstSystemLane = 0x8000'0000;  // ids of lanes that no program gives out
constexpr size_t kFewestKnownParts = 4;             // one in so many places of a table of ids must be used
}  // namespace

// ---- names ---------------------------------------------------------------------------------------

std::pair<uint32_t, bool> Names::at(Kind kind, uint32_t id) {
    auto& positions = positions_[kind];
    const auto put = [&](auto& things) {
        const auto [found, isNew] = positions.try_emplace(id, static_cast<uint32_t>(things.size()));
        if (isNew) things.emplace_back();
        return std::pair(found->second, isNew);
    };
    switch (kind) {
        case Sites: return put(r_.sites);
        case Objects: return put(r_.objects);
        case SeriesKind: {
            const auto found = put(r_.series);
            deadlines_.resize(r_.series.size());
            return found;
        }
        case Counters: return put(r_.counters);
        case States: return put(r_.states);
        case Keys: return put(r_.keys);
        default: return put(r_.pools);
    }
}

void Names::nameIsKnown(Kind kind, uint32_t id) { r_.repairs.unknownNames -= standIns_.erase({kind, id}); }

uint32_t Names::used(Kind kind, uint32_t id) {
    const Lock lock(mutex_);
    const auto [position, isNew] = at(kind, id);
    if (!isNew) return position;
    ++r_.repairs.unknownNames;
    standIns_.insert({kind, id});
    const std::string number = std::to_string(id);
    switch (kind) {
        case Sites: r_.sites[position].name = "marker " + number; break;
        case Objects: r_.objects[position] = "object " + number; break;
        case SeriesKind: r_.series[position].name = "series " + number; break;
        case Counters: r_.counters[position].name = "counter " + number; break;
        case States: r_.states[position].name = "state " + number; break;
        case Keys: r_.keys[position] = "argument " + number; break;
        default:
            r_.pools[position].name = id ? "pool " + number : "heap";
            if (!id) nameIsKnown(kind, id);  // the program's heap needs no definition
    }
    return position;
}

uint32_t Names::defined(Kind kind, uint32_t id) {
    nameIsKnown(kind, id);
    return at(kind, id).first;
}

uint32_t Names::lane(uint32_t id) {
    const Lock lock(mutex_);
    const auto [found, isNew] = lanes_.try_emplace(id, static_cast<uint32_t>(r_.lanes.size()));
    if (isNew) r_.lanes.emplace_back().id = id;
    return found->second;
}

void Names::addSystemLanes() {
    const auto own = r_.ownProcesses();
    const bool cores = std::any_of(r_.lanes.begin(), r_.lanes.end(), [](auto& l) { return l.kind == LaneKind::Core; });
    if (own.empty() || !cores) return;
    std::set<uint64_t> known;  // threads
    for (const Lane& lane : r_.lanes)
        if (lane.kind != LaneKind::Core) known.insert(lane.osId);  // of a core it is the core's number
    for (const auto& [id, thread] : r_.osThreads) {
        const auto process = own.find(thread.process);
        if (process == own.end() || known.count(id)) continue;
        Lane& made = r_.lanes[lane(kFirstSystemLane | id)];
        made.osId = id;
        made.name = thread.name.empty() ? "thread " + std::to_string(id) : thread.name;
        made.role = made.name;
        made.program = process->second;
        made.fromSystem = true;
    }
}

int64_t Names::samplePeriod() {
    const Lock lock(mutex_);
    return r_.samplesInSystem() ? r_.samplePeriod() : 0;
}

int64_t Names::deadlineOf(uint32_t series) {
    const Lock lock(mutex_);
    return deadlines_[series];
}

void Names::define(const Definition& definition) {
    if (const auto* d = std::get_if<LaneDefinition>(&definition)) {
        Lane& made = r_.lanes[lane(d->id)];
        made.kind = d->kind;
        made.osId = d->osId;
        made.name = shownText(d->name);
        made.role = shownText(d->role);
        made.program = shownText(d->program);
        return;
    }
    const Lock lock(mutex_);
    struct Visitor {
        Names& names;
        Recording& r;
        void operator()(const LaneDefinition&) const {}
        void operator()(const SiteDefinition& d) const FUGATO_NEEDS(names.mutex_) {
            r.sites[names.defined(Sites, d.id)] = {shownText(d.name),
                                                   shownText(d.category),
                                                   shownText(d.description),
                                                   shownText(d.file),
                                                   d.line,
                                                   bounded(d.longestNs),
                                                   d.detail};
        }
        void operator()(const SeriesDefinition& d) const FUGATO_NEEDS(names.mutex_) {
            const uint32_t position = names.defined(SeriesKind, d.id);
            r.series[position].name = shownText(d.name);
            names.deadlines_[position] = bounded(d.deadlineNs);
        }
        void operator()(const ObjectDefinition& d) const FUGATO_NEEDS(names.mutex_) {
            r.objects[names.defined(Objects, d.id)] = shownText(d.name);
        }
        void operator()(const CounterDefinition& d) const FUGATO_NEEDS(names.mutex_) {
            Counter& counter = r.counters[names.defined(Counters, d.id)];
            counter.name = shownText(d.name);
            counter.unit = shownText(d.unit);
            counter.threshold = d.threshold;
        }
        void operator()(const StateDefinition& d) const FUGATO_NEEDS(names.mutex_) {
            r.states[names.defined(States, d.id)].name = shownText(d.name);
        }
        void operator()(const ContextDefinition& d) const {
            if (d.value.empty())
                r.context.erase(shownText(d.key));
            else
                r.context[shownText(d.key)] = shownText(d.value);
        }
        void operator()(const KeyDefinition& d) const FUGATO_NEEDS(names.mutex_) {
            r.keys[names.defined(Keys, d.id)] = shownText(d.name);
        }
        void operator()(const PoolDefinition& d) const FUGATO_NEEDS(names.mutex_) {
            r.pools[names.defined(Pools, d.id)].name = shownText(d.name);
        }
        void operator()(const OsThreadDefinition& d) const {
            r.osThreads[d.id] = {d.process, shownText(d.name), d.system == 1};
        }
        void operator()(const ModuleDefinition& d) const {
            r.modules.push_back({d.address, d.bytes, d.offset, shownText(d.path), shownText(d.buildId)});
        }
    };
    std::visit(Visitor{*this, r_}, definition);
}

// ---- one lane ------------------------------------------------------------------------------------

TextRef LaneBuilder::shown(std::string_view text) {
    return isShownText(text) ? texts_.add(text) : texts_.add(shownText(text));
}

LaneBuilder::LaneBuilder(Names& names, Storage& storage, uint32_t position)
    : names_(names), storage_(storage), texts_(storage), position_(position) {}

uint32_t LaneBuilder::lookUp(Names::Kind kind, uint32_t id) {
    const uint32_t position = names_.used(kind, id);
    // A table grows with what was looked up, not with the ids that somebody chose: others are looked up every time.
    auto& [known, lookedUp] = known_[kind];
    if (id >= kFewestKnownParts * (kFirstKnown + ++lookedUp)) return position;
    if (id >= known.size()) known.resize(std::max<size_t>(id + 1, known.size() * 2), kNone);
    return known[id] = position;
}

void LaneBuilder::closeLeftOpen() {
    leftOpen_.any = false;
    for (; open_.size() > leftOpen_.depth; ++lateEnds_) endUntold(leftOpen_.time);
}

/// Where there is no row of its own for the next marker.
void LaneBuilder::makeRow(int64_t time) {
    if (open_.size() < kMostDepth) return rows_.resize(open_.size() + 1);
    ++repairs_.tooDeep;  // it lies beside the one that it lies in
    Open& outer = open_.back();
    if (!outer.cut) {
        rows_.back().endLast(time);
        if (outer.wait != kNone) waits_.change(outer.wait).end = time;
    }
    outer.cut = true;
}

inline void LaneBuilder::beginMarker(uint32_t site, int64_t time, uint32_t wait) {
    if (leftOpen_.any) closeLeftOpen();
    if (open_.size() >= rows_.size()) makeRow(time);
    const size_t depth = rowAt(open_.size());
    Open made{0, 0, wait, false};
    uint32_t parent = 0;
    if (depth) {
        const Open& outer = open_[depth - 1];
        made.path = outer.path;
        made.insideWait = open_.back().wait != kNone || open_.back().insideWait;
        parent = outer.index;
    }
    made.path = paths_.child(made.path, site);
    const auto flags =
        static_cast<uint8_t>((wait != kNone ? kMarkerWait : 0) | (made.insideWait ? kMarkerInsideWait : 0));
    made.index = rows_[depth].add(storage_, time, made.path, parent, flags);
    open_.push_back(made);
}

/// Ends the innermost one.
inline void LaneBuilder::endMarker(int64_t time) {
    const Open& open = open_.back();
    if (!open.cut) {
        rows_[rowAt(open_.size() - 1)].endLast(time);
        if (open.wait != kNone) waits_.change(open.wait).end = time;
    }
    open_.pop_back();
}

/// The same, of one whose end was not told.
void LaneBuilder::endUntold(int64_t time) {
    const Open& open = open_.back();
    ++repairs_.beginsWithoutEnd;
    ++neverEnded_[paths_.nodes()[open.path].site];
    if (!open.cut) rows_[rowAt(open_.size() - 1)].lastFlags() |= kMarkerEndRepaired;
    endMarker(time);
}

void LaneBuilder::endOf(const Event& event, int64_t time) {
    const bool wait = event.kind == EventKind::WaitEnd;
    if (lateEnds_ && !frames_.empty() && open_.size() == frameDepth_) {  // of what was closed with its frame
        --lateEnds_;
        return;
    }
    // A wait's end closes the innermost wait, a marker's end the innermost marker; what stands between
    // was never ended.
    size_t keep = open_.size();
    while (keep > 0 && (open_[keep - 1].wait != kNone) != wait) --keep;
    if (keep == 0) {
        repairs_.endsWithoutBegin += !afterGap_;
        return;
    }
    while (open_.size() > keep) endUntold(time);
    leftOpen_.time = time;  // what holds this ended no earlier
    if (wait && event.a) {
        waits_.change(open_.back().wait).link = event.a;
        linkIns_.add({time, event.a, path(), 1});
    }
    endMarker(time);
}

void LaneBuilder::give(uint32_t object, int64_t time) {
    const auto found = holds_.find(object);
    if (found == holds_.end()) return;
    const OpenHold hold = found->second.back();
    finds_.holds.push_back({object, {hold.begin, time, position_, paths_.common(hold.path, path())}});
    found->second.pop_back();
    if (found->second.empty()) holds_.erase(found);
}

void LaneBuilder::giveAll(int64_t time) {
    while (!holds_.empty()) give(holds_.begin()->first, time);
}

void LaneBuilder::beginFrame(const Event& event, int64_t time, bool tick) {
    const uint32_t of = used(Names::SeriesKind, event.id);
    if (leftOpen_.any) closeLeftOpen();
    if (frames_.count(of)) {  // the one before ends here, whether it was ended or not
        if (!tick) ++repairs_.framesWithoutEnd;
        endFrame(of, time);
    }
    const auto deadline = bounded(event.a);
    framesMet_.insert(of);
    frames_[of] = {time, deadline > 0 ? deadline : names_.deadlineOf(of), tick, open_.size()};
    frameDepth_ = open_.size();
}

void LaneBuilder::endFrame(uint32_t series, int64_t time) {
    const auto found = frames_.find(series);
    const OpenFrame frame = found->second;
    finds_.frames.push_back({series, {frame.begin, time, frame.deadline, position_}});
    frames_.erase(found);
}

int64_t LaneBuilder::pacingIn(int64_t begin, int64_t end) const {
    int64_t pacing = 0;
    for (size_t i = waits_.size(); i-- > 0 && waits_[i].begin >= begin;)
        if (waits_[i].kind == WaitKind::Pacing && waits_[i].end <= end && !waitInside_[i])
            pacing += waits_[i].end - waits_[i].begin;
    return pacing;
}

void LaneBuilder::dropFrames() {
    for (const auto& [series, frame] : frames_) repairs_.framesWithoutEnd += !frame.ticked;
    frames_.clear();
}

void LaneBuilder::argument(const Event& event) {
    if (open_.empty() || open_.back().cut) return;
    Argument argument;
    argument.index = open_.back().index;
    argument.key = used(Names::Keys, event.id);
    argument.type = event.b <= 2 ? static_cast<ArgumentType>(event.b) : ArgumentType::Text;
    argument.value = argument.type == ArgumentType::Integer ? static_cast<uint64_t>(layout::unzigzag(event.a))
                     : argument.type == ArgumentType::Real  ? event.a
                                                            : shown(event.text);
    // In a row they come in the order of its markers.
    const size_t row = rowAt(open_.size() - 1);
    if (arguments_.size() <= row) arguments_.resize(row + 1);
    arguments_[row].add(argument);
}

void LaneBuilder::picturePiece(const Event& event, int64_t time) {
    const uint64_t width = event.a >> 32, height = event.a & 0xffffffff;
    if (!width || !height || width > kMostPicturePixels || width * height > kMostPicturePixels) return;
    PicturePieces& pieces = pictures_[event.id];
    auto& [picture, pixels] = pieces;
    if (pixels.empty()) {
        picture.time = time;
        picture.width = static_cast<uint32_t>(width);
        picture.height = static_cast<uint32_t>(height);
    }
    const uint64_t from = std::min(event.b, height) * width * 3, whole = width * height * 3;
    if (width != picture.width || height != picture.height || from + event.text.size() > whole) return;
    // Room is taken for what is told, and for a gap of lost pieces no longer than that.
    if (from > 2 * (pixels.size() + event.text.size())) return;
    if (pixels.size() < from + event.text.size()) pixels.resize(from + event.text.size());
    std::memcpy(pixels.data() + from, event.text.data(), event.text.size());
    if (pixels.size() < whole) return;
    settle(event.id, pieces);
    pictures_.erase(event.id);
}

/// Of one that was not told to its end the rows that are there.
void LaneBuilder::settle(uint32_t number, PicturePieces& pieces) {
    const size_t row = size_t{pieces.picture.width} * 3;
    pieces.picture.height = static_cast<uint32_t>(pieces.pixels.size() / row);
    if (!pieces.picture.height) return;
    pieces.pixels.resize(pieces.picture.height * row);
    pieces.picture.pixels = texts_.addBytes(pieces.pixels);
    finds_.pictures.emplace_back(number, pieces.picture);
}

/// While a thread runs, its call stack is taken again and again; where that was not done for several times as long, the
/// machine did not run. Told as if somebody else had had the core.
void LaneBuilder::onCoreUntil(int64_t time) {
    constexpr int64_t kPeriods = 4, kShortest = 3'000'000;  // ns
    const int64_t since = std::exchange(onCore_.ran, time);
    if (time - since < kShortest || !onCore_.sampled.count(onCore_.thread)) return;
    const int64_t period = names_.samplePeriod();
    if (!period || time - since < kPeriods * period) return;
    finds_.coreEvents.push_back({since + period, position_, kStoppedMachine, true});
    finds_.coreEvents.push_back({time, position_, onCore_.thread, true});
}

void LaneBuilder::sample(const Event& event, int64_t time) {
    if (event.id == onCore_.thread && !event.a) {
        onCore_.sampled.insert(event.id);
        onCoreUntil(time);
    }
    const auto* at = reinterpret_cast<const uint8_t*>(event.text.data());
    const auto* end = at + event.text.size();
    stack_.clear();
    uint64_t address = 0, change = 0;
    while (layout::readVarint(at, end, change))
        stack_.push_back(address += static_cast<uint64_t>(layout::unzigzag(change)));
    std::vector<uint64_t>& all = finds_.stackAddresses;
    const uint32_t first = finds_.stackPlaces.placeOf(stack_, all);
    if (first == all.size()) all.insert(all.end(), stack_.begin(), stack_.end());
    (event.a ? finds_.stops : finds_.samples)
        .push_back({time, event.id, position_, first, static_cast<uint32_t>(stack_.size())});
}

void LaneBuilder::events(std::span<const Event> events) {
    for (const Event& event : events) this->event(event);
}

inline void LaneBuilder::event(const Event& event) {
    int64_t time = bounded(event.time);
    if (!any_) {
        first_ = last_ = time;
        any_ = true;
    } else if (time < last_) {
        repairs_.timesBackwards += last_ > refined_;
        time = last_;
    }
    const int64_t before = last_;
    last_ = time;
    if (event.kind == EventKind::MarkBegin) {
        onlyCounts_ = false;
        beginMarker(used(Names::Sites, event.id), time, kNone);
    } else if (event.kind == EventKind::MarkEnd) {
        onlyCounts_ = false;
        if (!lateEnds_ && !open_.empty() && open_.back().wait == kNone) {  // as nearly always
            leftOpen_.time = time;
            endMarker(time);
        } else {
            endOf(event, time);
        }
    } else {
        take(event, time, before);
    }
}

/// Of a lane that is a core.
void LaneBuilder::takeOfCore(const Event& event, int64_t time) {
    if (event.kind == EventKind::Sample) return sample(event, time);
    onCoreUntil(time);  // the machine was at work
    if (event.kind == EventKind::Switch) {
        finds_.coreEvents.push_back({time, position_, event.id, event.a == 1});
        onCore_.thread = event.id;
        onCore_.ran = time;
    } else if (event.kind == EventKind::WakeUp) {
        finds_.coreEvents.push_back({time, position_, event.id, false,
                                     static_cast<uint32_t>(std::min<uint64_t>(event.a, LaneFinds::kNoWaker - 1))});
    } else {
        finds_.coreEvents.push_back({time, position_, event.id, false, LaneFinds::kNoWaker, true});
        if (onCore_.thread == event.id) onCore_.thread = layout::kUnknownThread;
    }
}

void LaneBuilder::lose(const Event& event, int64_t time, int64_t before) {
    onCore_.thread = layout::kUnknownThread;
    if (event.b) {  // what is open may have ended in the gap: nothing reaches across it
        afterGap_ = true;
        leftOpen_.any = false;
        while (!open_.empty()) endUntold(before);
        giveAll(before);
        dropFrames();
    }
    if (event.a) lost_.add({time, event.a});
    repairs_.lostEvents += event.a;
}

void LaneBuilder::take(const Event& event, int64_t time, int64_t before) {
    onlyCounts_ = onlyCounts_ && (event.kind == EventKind::Count || event.kind == EventKind::LaneEnd);
    switch (event.kind) {
        case EventKind::WaitBegin: {
            const auto kind =
                event.b <= static_cast<uint64_t>(WaitKind::Pacing) ? static_cast<WaitKind>(event.b) : WaitKind::Other;
            const auto wait = static_cast<uint32_t>(waits_.size());
            beginMarker(used(Names::Sites, static_cast<uint32_t>(event.a)), time, wait);
            const uint32_t object = event.id ? used(Names::Objects, event.id) : kNone;
            waits_.add(
                {time, time, object, kind, 0, static_cast<uint32_t>(rowAt(open_.size() - 1)), open_.back().index});
            waitInside_.push_back(open_.back().insideWait);
            break;
        }
        case EventKind::WaitEnd: endOf(event, time); break;
        case EventKind::FrameBegin:
        case EventKind::FrameTick: beginFrame(event, time, event.kind == EventKind::FrameTick); break;
        case EventKind::FrameEnd: {
            const uint32_t series = used(Names::SeriesKind, event.id);
            if (const auto frame = frames_.find(series); frame != frames_.end()) {
                if (leftOpen_.any) closeLeftOpen();
                lateEnds_ = 0;
                leftOpen_ = {open_.size() > frame->second.depth, frame->second.depth, time};
                endFrame(series, time);
            } else
                // The first one may have begun before it was recorded.
                repairs_.endsWithoutBegin += !afterGap_ && framesMet_.count(series);
            break;
        }
        case EventKind::Count: {
            double value = 0;
            std::memcpy(&value, &event.a, sizeof value);
            finds_.counts.push_back({used(Names::Counters, event.id), time, value});
            break;
        }
        case EventKind::Point:
        case EventKind::PointCode:
            finds_.points.push_back(
                {time, position_, static_cast<Severity>(std::min(event.id, 3u)), shown(event.text),
                 event.kind == EventKind::PointCode ? std::optional(layout::unzigzag(event.a)) : std::nullopt});
            break;
        case EventKind::Input:
            finds_.points.push_back({time, position_, Severity::Info, shown(event.text), {}, true});
            break;
        case EventKind::Argument: argument(event); break;
        case EventKind::Outcome:
            if (event.a == 1 && !open_.empty() && !open_.back().cut)
                rows_[rowAt(open_.size() - 1)].lastFlags() |= kMarkerChangedNothing;
            break;
        case EventKind::OperationBegin:
        case EventKind::OperationStep:
            finds_.operations.push_back({event.kind, used(Names::Sites, event.id), event.a, time, 0, path(), 0});
            break;
        case EventKind::OperationEnd:
            finds_.operations.push_back(
                {event.kind, 0, event.a, time, layout::unzigzag(event.b), path(), shown(event.text)});
            break;
        case EventKind::MemoryTaken:
        case EventKind::MemoryGiven:
            finds_.memory.push_back({time, event.kind == EventKind::MemoryTaken, used(Names::Pools, event.id),
                                     position_, event.a, event.b, path(), shown(event.text)});
            break;
        case EventKind::Picture: picturePiece(event, time); break;
        case EventKind::Switch:
        case EventKind::WakeUp:
        case EventKind::ThreadEnd:
        case EventKind::Sample: takeOfCore(event, time); break;
        case EventKind::Taken: holds_[used(Names::Objects, event.id)].push_back({time, path()}); break;
        case EventKind::Given: give(used(Names::Objects, event.id), time); break;
        case EventKind::LinkOut: finds_.linkSources.push_back({event.a, time, position_, path()}); break;
        case EventKind::LinkIn: linkIns_.add({time, event.a, path(), 0}); break;
        case EventKind::StateSet:
            finds_.states.push_back({used(Names::States, event.id), time, shown(event.text)});
            break;
        case EventKind::Lost: lose(event, time, before); break;
        default: break;
    }
}

void LaneBuilder::close() {
    if (isClosed_) return;
    isClosed_ = true;
    giveAll(last_);
    while (!open_.empty()) endUntold(last_);
    dropFrames();
    for (MarkerRowBuilder& row : rows_) closed_.rows.push_back(row.finish(storage_));
    putLists(closed_, storage_, waits_.size());
    for (auto& [number, pieces] : pictures_) settle(number, pieces);
    rows_.clear();
    waits_ = {};
    waitInside_ = {};
    blocked_ = {};
    lost_ = {};
    arguments_.clear();
    pictures_ = {};
}

template <class Place>
void LaneBuilder::putLists(Closed& closed, Place& place, size_t settledWaits) {
    blocked_.tail().clear();
    int64_t waited = blocked_.empty() ? 0 : blocked_.back().until;
    size_t settled = blocked_.size();
    for (size_t i = blockedOf_; i < waits_.size(); ++i) {
        if (waitInside_[i]) continue;
        const Wait& wait = waits_[i];
        blocked_.add({wait.begin, wait.end, waited += wait.end - wait.begin});
        if (i < settledWaits) settled = blocked_.size();
    }
    blockedOf_ = settledWaits;
    closed.blocked = blocked_.column(place, settled);
    closed.waits = waits_.column(place, settledWaits);
    closed.lost = lost_.column(place, lost_.size());
    for (GrowingList<Argument>& ofRow : arguments_) closed.arguments.push_back(ofRow.column(place, ofRow.size()));
}

std::vector<LaneFinds::InObject> LaneBuilder::heldNow() const {
    std::vector<LaneFinds::InObject> held;
    for (const auto& [object, holds] : holds_)
        for (auto hold = holds.rbegin(); hold != holds.rend(); ++hold)
            held.push_back({object, {hold->begin, last_, position_, paths_.common(hold->path, path())}});
    return held;
}

void LaneBuilder::fillAsItIs(Lane& lane, Arena& arena) {
    Closed now;
    for (size_t row = 0; row < rows_.size(); ++row)
        now.rows.push_back(rows_[row].asItIs(
            arena, row < open_.size() && !(row + 1 == kMostDepth && open_.back().cut) ? &last_ : nullptr));
    size_t settled = waits_.size();
    std::vector<std::pair<uint32_t, int64_t>> ends;  // of waits that are open: for now they last to the last event
    for (const Open& open : open_) {
        if (open.wait == kNone) continue;
        settled = std::min<size_t>(settled, open.wait);
        if (open.cut) continue;
        ends.emplace_back(open.wait, waits_[open.wait].end);
        waits_.change(open.wait).end = last_;
    }
    putLists(now, arena, settled);
    for (const auto& [wait, end] : ends) waits_.change(wait).end = end;
    fill(lane, now);
}

void LaneBuilder::fill(Lane& lane, const Closed& closed) const {
    lane.first = first_;
    lane.last = last_;
    lane.onlyCounts = any_ && onlyCounts_;
    for (const MarkerRow::Parts& parts : closed.rows) lane.rows.emplace_back(storage_, parts);
    lane.waits = closed.waits;
    lane.blocked = closed.blocked;
    lane.lost = closed.lost;
    lane.arguments = closed.arguments;
}

}  // namespace fugato
