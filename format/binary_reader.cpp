// SPDX-License-Identifier: GPL-3.0-or-later
#include "binary_reader.h"

#include <algorithm>
#include <cstring>
#include <deque>
#include <map>

#include "number_text.h"
#include "packed_events.h"

namespace fugato {

using namespace layout;

namespace {

constexpr size_t kBatch = 128;  // events handed on at once

/// A point where a clock's ticks and the time are both known.
struct ClockPoint {
    uint64_t ticks;
    int64_t ns;
};

/// Maps a clock's ticks to nanoseconds along its points: straight lines between them, the slope of the
/// nearest two (or the estimate, where there are fewer) outside.
class TickMap {
public:
    TickMap() = default;  // ticks are nanoseconds since time 0
    TickMap(uint64_t origin, double nsPerTick, std::vector<ClockPoint> points)
        : direct_(false),
          origin_(origin),
          estimate_(nsPerTick > 1e-6 && nsPerTick < 1e6 ? nsPerTick : 1.0),
          points_(std::move(points)) {
        std::sort(points_.begin(), points_.end(), [](auto& a, auto& b) { return a.ticks < b.ticks; });
    }
    static TickMap nanoseconds(uint64_t origin) {
        TickMap map;
        map.origin_ = origin;
        return map;
    }
    int64_t toNs(uint64_t ticks) {
        if (direct_) return static_cast<int64_t>(ticks - origin_);
        if (ticks - low_ >= span_) choose(ticks);
        const double away = static_cast<double>(static_cast<int64_t>(ticks - baseTicks_)) * slope_;
        // Beyond what a signed 64-bit number holds there is no time: keep it in range.
        return std::clamp(baseNs_, -kFarthest, kFarthest) + static_cast<int64_t>(std::clamp(away, -4.0e18, 4.0e18));
    }

private:
    static constexpr int64_t kFarthest = int64_t{1} << 61;

    void choose(uint64_t ticks) {
        low_ = 0;
        span_ = UINT64_MAX;
        baseTicks_ = origin_;
        baseNs_ = 0;
        slope_ = estimate_;
        if (points_.empty()) return;
        auto after =
            std::upper_bound(points_.begin(), points_.end(), ticks, [](uint64_t t, auto& p) { return t < p.ticks; });
        low_ = after == points_.begin() ? 0 : after[-1].ticks;
        span_ = (after == points_.end() ? UINT64_MAX : after->ticks) - low_;
        if (after == points_.begin()) ++after;
        const ClockPoint& base = after[-1];
        baseTicks_ = base.ticks;
        baseNs_ = base.ns;
        const bool lastPair = after == points_.end();
        if (lastPair && points_.size() < 2) return;
        const ClockPoint& a = lastPair ? after[-2] : after[-1];
        const ClockPoint& b = lastPair ? after[-1] : after[0];
        if (b.ticks > a.ticks && b.ns > a.ns)
            slope_ = static_cast<double>(static_cast<uint64_t>(b.ns) - static_cast<uint64_t>(a.ns)) /
                     static_cast<double>(b.ticks - a.ticks);
    }

    bool direct_ = true;
    uint64_t origin_ = 0;
    double estimate_ = 1;
    std::vector<ClockPoint> points_;
    uint64_t low_ = 0, span_ = 0, baseTicks_ = 0;
    int64_t baseNs_ = 0;
    double slope_ = 1;
};

/// The fields of one definition record, their texts made fit.
struct CleanFields {
    FieldReader in;
    uint64_t number() { return in.number(); }
    std::string text() { return cleanUtf8(in.text()); }
};

/// The definition among those of the variant that has the type. Others are for Clocks, or of a later version.
template <size_t at = 0>
void emitDefinition(DefinitionType type, FieldReader fields, EventSink& sink) {
    if constexpr (at < std::variant_size_v<Definition>) {
        using Told = std::variant_alternative_t<at, Definition>;
        if (type != Told::kType) return emitDefinition<at + 1>(type, fields, sink);
        auto told = getFields<Told>(CleanFields{fields});
        if constexpr (std::is_same_v<Told, LaneDefinition>) told.clock = kRecordingClock;  // from here on
        sink.define(told);
    }
}

template <class Clocks>
bool emitDefinitions(std::string_view payload, EventSink& sink, Clocks& clocks) {
    const auto* at = reinterpret_cast<const uint8_t*>(payload.data());
    const uint8_t* end = at + payload.size();
    while (at < end) {
        const auto type = static_cast<DefinitionType>(*at++);
        std::string_view fields;
        if (!readText(at, end, fields)) return false;
        clocks.define(type, FieldReader(fields));
        emitDefinition(type, FieldReader(fields), sink);
    }
    return true;
}

std::string seconds(int64_t ns) { return fixedText(static_cast<double>(ns) * 1e-9, 3) + " s"; }

}  // namespace

/// Which clock each lane's ticks are of, and how to make times of them.
class BinaryReader::Clocks {
public:
    explicit Clocks(const FileHeader& header) : header_(header) {}

    void addPair(const ClockPair& pair) { pairs_.push_back({pair.ticks, static_cast<int64_t>(pair.ns)}); }
    void define(DefinitionType type, FieldReader fields) {
        if (type == DefinitionType::Lane) {
            const auto lane = getFields<LaneFields<std::string_view>>(fields);
            clockOf_[lane.id] = lane.clock;
        } else if (type == DefinitionType::Clock) {
            const auto clock = getFields<ClockFields<std::string_view>>(fields);
            clocks_[clock.id].nsPerTick = clock.nsPerTick;
        } else if (type == DefinitionType::ClockSync) {
            const auto sync = getFields<ClockSyncFields<std::string_view>>(fields);
            clocks_[sync.clock].syncs.push_back({sync.deviceTicks, sync.hostTicks});
        }
    }
    /// After the last definition and pair that are known.
    void ready() {
        maps_[kRecordingClock] = header_.clock == static_cast<uint32_t>(ClockKind::Ticks)
                                     ? TickMap(header_.originTicks, header_.nsPerTick, pairs_)
                                     : TickMap::nanoseconds(header_.originTicks);
        maps_[kNanosecondClock] = TickMap();
        for (auto& [id, clock] : clocks_) {
            if (id < kFirstOwnClock) continue;
            std::vector<ClockPoint> points;
            for (const auto& [device, host] : clock.syncs)
                points.push_back({device, maps_[kRecordingClock].toNs(host)});
            maps_[id] = TickMap(0, clock.nsPerTick, std::move(points));
        }
    }
    /// A copy: it remembers where it was.
    TickMap of(uint32_t lane) const {
        const auto clock = clockOf_.find(lane);
        const auto map = maps_.find(clock == clockOf_.end() ? kRecordingClock : clock->second);
        return map == maps_.end() ? maps_.at(kRecordingClock) : map->second;
    }

private:
    struct Clock {
        double nsPerTick = 1;
        std::vector<std::pair<uint64_t, uint64_t>> syncs;
    };
    FileHeader header_;
    std::vector<ClockPoint> pairs_;
    std::map<uint32_t, uint32_t> clockOf_;
    std::map<uint32_t, Clock> clocks_;
    std::map<uint32_t, TickMap> maps_;
};

namespace {

/// Calls `take` with each event of a block that is not packed. Returns how many could not be read.
template <class Take>
uint32_t readPlainEvents(const IndexEntry& block, std::string_view payload, Take&& take) {
    const auto* at = reinterpret_cast<const uint8_t*>(payload.data());
    const uint8_t* end = at + payload.size();
    uint64_t previous = block.firstTicks;
    uint32_t read = 0;
    RawEvent event;
    for (; read < block.count && readEvent(at, end, event, previous); ++read) take(event);
    return block.count - read;
}

}  // namespace

uint32_t readEvents(const IndexEntry& block, std::string_view payload,
                    const std::function<void(std::span<const RawEvent>)>& take) {
    if (block.type != static_cast<uint32_t>(BlockType::PackedEvents))
        return readPlainEvents(block, payload, [&](const RawEvent& event) { take({&event, 1}); });
    uint32_t read = 0;
    unpackEvents(payload, block.count, block.firstTicks, [&](std::span<const RawEvent> events) {
        read += static_cast<uint32_t>(events.size());
        take(events);
    });
    return block.count - read;
}

BinaryReader::BinaryReader(ByteSource& source) : source_(&source) {}
BinaryReader::~BinaryReader() = default;

Result<std::unique_ptr<BinaryReader>> BinaryReader::open(ByteSource& source, const std::string& name, EventSink& sink,
                                                         bool growing, const Progress& progress) {
    FileHeader header;
    if (source.read(0, reinterpret_cast<char*>(&header), sizeof header) != sizeof header)
        return Failure{name + " is cut off inside its first 64 bytes, so nothing can be read from it. Record again."};
    const bool headerGood = header.checksum == checksum(&header, offsetof(FileHeader, checksum));
    if (headerGood && header.version > kFileVersion)
        return Failure{name + " was written by a newer version of Fugato (file version " +
                       std::to_string(header.version) + "). Update Fugato to open it."};
    std::unique_ptr<BinaryReader> reader(new BinaryReader(source));
    Damage& damage = reader->damage_;
    if (!headerGood) damage.note("The file's header is damaged: times may be off.");
    if (growing)
        reader->found_ = findMoreBlocks(source, sizeof header, reader->directory_.blocks);
    else
        reader->directory_ = findBlocks(source, searchProgress(progress, source.size()));
    if (reader->directory_.cancelled) return Failure{"Opening " + name + " was cancelled.", true};
    const BlockDirectory& directory = reader->directory_;
    if (!growing && directory.blocks.empty() && source.size() > sizeof header)
        return Failure{name + " holds no readable part: everything after its header is damaged. Record again."};
    damage.indexMissing = !directory.indexed;
    if (damage.indexMissing) damage.note(kNotClosed);
    damage.lostBlocks += directory.gaps;
    if (directory.gaps)
        damage.note(std::to_string(directory.gaps) +
                    (directory.gaps == 1 ? " range of bytes is" : " ranges of bytes are") +
                    " damaged or cut and could not be read.");
    sink.started(header.startedUnixNs);

    reader->clocks_ = std::make_unique<Clocks>(header);
    reader->sortBlocks(sink);
    return reader;
}

void BinaryReader::readOn(EventSink& sink) {
    directory_ = {};
    lanes_.clear();
    eventBytes_ = 0;
    found_ = findMoreBlocks(*source_, found_, directory_.blocks);
    sortBlocks(sink);
}

/// Which lanes the directory's blocks are of; those that hold no events are read.
void BinaryReader::sortBlocks(EventSink& sink) {
    std::string payload;
    std::map<uint32_t, size_t> laneAt;
    for (uint32_t i = 0; i < directory_.blocks.size(); ++i) {
        const IndexEntry& block = directory_.blocks[i];
        if (holdsEvents(block.type)) {
            const auto [at, isNew] = laneAt.try_emplace(block.lane, lanes_.size());
            if (isNew) lanes_.emplace_back().lane = block.lane;
            LaneBlocks& lane = lanes_[at->second];
            lane.events += block.count;
            lane.bytes += block.payloadBytes;
            lane.blocks.push_back(i);
            eventBytes_ += block.payloadBytes;
        } else if (block.type == static_cast<uint32_t>(BlockType::Definitions)) {
            if (readPayload(*source_, block, payload) && emitDefinitions(payload, sink, *clocks_)) continue;
            ++damage_.lostBlocks;
            damage_.note("A block of names is damaged: some lanes and markers are shown by number.");
        } else if (block.type == static_cast<uint32_t>(BlockType::Clock) && readPayload(*source_, block, payload)) {
            for (size_t at = 0; at + sizeof(ClockPair) <= payload.size(); at += sizeof(ClockPair)) {
                ClockPair pair;
                std::memcpy(&pair, payload.data() + at, sizeof pair);
                clocks_->addPair(pair);
            }
        }
    }
    clocks_->ready();
}

std::pair<int64_t, int64_t> BinaryReader::timesOf(const IndexEntry& block) const {
    TickMap clock = clocks_->of(block.lane);
    const int64_t first = clock.toNs(block.firstTicks);
    return {first, clock.toNs(block.lastTicks)};
}

bool BinaryReader::readLane(const LaneBlocks& lane, LaneSink& sink, Damage& damage,
                            const std::function<bool(uint64_t)>& each) const {
    TickMap clock = clocks_->of(lane.lane);
    std::string payload;
    std::vector<Event> batch(kBatch);
    std::deque<std::string> mended;  // texts of the batch that were not UTF-8
    size_t filled = 0;
    const auto flush = [&] {
        if (filled) sink.events({batch.data(), filled});
        filled = 0;
        mended.clear();
    };
    const auto add = [&](const RawEvent& raw) {
        if (!kindIsKnown(raw.kind)) return;  // of a later version
        Event& event = batch[filled];
        event = {clock.toNs(raw.ticks), raw.kind, raw.id, raw.a, raw.b, raw.text};
        const bool bytes = raw.kind == EventKind::Picture || raw.kind == EventKind::Sample;
        if (!raw.text.empty() && !bytes && !isUtf8(raw.text)) event.text = mended.emplace_back(cleanUtf8(raw.text));
        if (++filled == kBatch) flush();
    };
    for (const uint32_t number : lane.blocks) {
        const IndexEntry& block = directory_.blocks[number];
        uint32_t missing = block.count;
        if (readPayload(*source_, block, payload)) {
            if (block.type == static_cast<uint32_t>(BlockType::PackedEvents)) {
                uint32_t read = 0;
                const uint64_t takes = unpackedBytes(payload, block.count).value_or(UINT64_MAX / 2);
                if (unpacked_.fetch_add(takes) + takes > kUnpackedAnyway + kUnpackedTimes * source_->size())
                    unpacked_.fetch_sub(takes);
                else
                    unpackEvents(payload, block.count, block.firstTicks, [&](std::span<const RawEvent> events) {
                        for (const RawEvent& raw : events) add(raw);
                        read += static_cast<uint32_t>(events.size());
                        flush();  // their texts are gone afterwards
                    });
                missing = block.count - read;
            } else {
                missing = readPlainEvents(block, payload, add);
            }
            flush();
        }
        if (missing) {
            ++damage.lostBlocks;
            damage.lostEvents += missing;
            damage.note("Lane " + std::to_string(lane.lane) + ", " + seconds(clock.toNs(block.firstTicks)) + " to " +
                        seconds(clock.toNs(block.lastTicks)) + ": " + std::to_string(missing) +
                        " events are damaged and missing.");
            const Event lost{clock.toNs(block.lastTicks), EventKind::Lost, 0, missing, 1, {}};
            sink.events({&lost, 1});
        }
        if (each && !each(block.payloadBytes)) return false;
    }
    return true;
}

void addDamage(Damage& to, const Damage& from) {
    for (const std::string& note : from.notes) to.note(note);
    to.lostBlocks += from.lostBlocks;
    to.lostEvents += from.lostEvents;
    to.wrongLines += from.wrongLines;
    to.indexMissing = to.indexMissing || from.indexMissing;
}

Result<Damage> readBinary(ByteSource& source, const std::string& name, EventSink& sink, const Progress& progress) {
    auto reader = BinaryReader::open(source, name, sink, false, progress);
    if (!reader) return reader.failure();
    struct Forward final : LaneSink {
        EventSink& sink;
        uint32_t lane;
        Forward(EventSink& s, uint32_t l) : sink(s), lane(l) {}
        void events(std::span<const Event> events) override {
            for (const Event& event : events) sink.event(lane, event);
        }
    };
    Damage damage = (*reader)->damage();
    const auto whole = static_cast<double>(std::max<uint64_t>(1, (*reader)->eventBytes()));
    uint64_t read = 0;
    for (const LaneBlocks& lane : (*reader)->lanes()) {
        Forward forward(sink, lane.lane);
        const bool finished = (*reader)->readLane(lane, forward, damage, [&](uint64_t bytes) {
            read += bytes;
            return !progress || progress(static_cast<double>(read) / whole);
        });
        if (!finished) return Failure{"Opening " + name + " was cancelled.", true};
    }
    return damage;
}

}  // namespace fugato
