// SPDX-License-Identifier: GPL-3.0-or-later
#include "binary_form.h"

#include <algorithm>
#include <cstring>
#include <deque>

#include "packed_events.h"

namespace fugato {

using namespace layout;

namespace {

template <class T>
bool readStruct(ByteSource& source, uint64_t offset, T& out) {
    return source.read(offset, reinterpret_cast<char*>(&out), sizeof out) == sizeof out;
}

bool readBlockHeader(ByteSource& source, uint64_t offset, BlockHeader& header) {
    return readStruct(source, offset, header) && header.magic == kBlockMagic &&
           header.checksum == checksum(&header, offsetof(BlockHeader, checksum));
}

uint64_t blockBytes(const BlockHeader& header) {
    return sizeof(BlockHeader) + header.payloadBytes + padding(header.payloadBytes);
}

/// The next offset from `from` on at which a block header stands, or the size where there is none.
uint64_t findNextBlock(ByteSource& source, uint64_t from) {
    std::string window(1 << 16, '\0');
    char magic[4];
    std::memcpy(magic, &kBlockMagic, 4);
    while (from < source.size()) {
        const size_t count = source.read(from, window.data(), window.size());
        if (count < sizeof(BlockHeader)) break;
        for (size_t i = 0; i + 4 <= count; ++i) {
            const void* hit = std::memchr(window.data() + i, magic[0], count - i);
            if (!hit) break;
            i = static_cast<size_t>(static_cast<const char*>(hit) - window.data());
            BlockHeader header;
            if (i + 4 <= count && std::memcmp(window.data() + i, magic, 4) == 0 &&
                readBlockHeader(source, from + i, header))
                return from + i;
        }
        from += count - 3;
    }
    return source.size();
}

bool readIndex(ByteSource& source, BlockDirectory& directory) {
    Trailer trailer;
    BlockHeader header;
    if (source.size() < sizeof(FileHeader) + sizeof(Trailer)) return false;
    if (!readStruct(source, source.size() - sizeof trailer, trailer) || trailer.magic != kTrailerMagic) return false;
    if (trailer.checksum != checksum(&trailer.indexOffset, sizeof trailer.indexOffset)) return false;
    if (!readBlockHeader(source, trailer.indexOffset, header)) return false;
    if (header.type != static_cast<uint16_t>(BlockType::Index)) return false;
    std::string payload(std::min<uint64_t>(header.payloadBytes, source.size()), '\0');
    if (source.read(trailer.indexOffset + sizeof header, payload.data(), payload.size()) != header.payloadBytes)
        return false;
    if (checksum(payload.data(), payload.size()) != header.payloadChecksum) return false;
    directory.blocks.resize(payload.size() / sizeof(IndexEntry));
    std::memcpy(directory.blocks.data(), payload.data(), directory.blocks.size() * sizeof(IndexEntry));
    directory.indexed = true;
    return true;
}

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
            slope_ = static_cast<double>(b.ns - a.ns) / static_cast<double>(b.ticks - a.ticks);
    }

    bool direct_ = true;
    uint64_t origin_ = 0;
    double estimate_ = 1;
    std::vector<ClockPoint> points_;
    uint64_t low_ = 0, span_ = 0, baseTicks_ = 0;
    int64_t baseNs_ = 0;
    double slope_ = 1;
};

/// The fields of one definition record. Fields that are missing read as 0 or "".
class Fields {
public:
    explicit Fields(std::string_view bytes)
        : at_(reinterpret_cast<const uint8_t*>(bytes.data())), end_(at_ + bytes.size()) {}
    uint64_t number() {
        uint64_t value = 0;
        return readVarint(at_, end_, value) ? value : 0;
    }
    std::string text() {
        std::string_view value;
        return readText(at_, end_, value) ? cleanUtf8(value) : std::string();
    }

private:
    const uint8_t* at_;
    const uint8_t* end_;
};

uint32_t number32(Fields& fields) { return static_cast<uint32_t>(fields.number()); }

void emitDefinition(layout::DefinitionType type, Fields fields, EventSink& sink) {
    switch (type) {
        case layout::DefinitionType::Lane: {
            LaneDefinition lane;
            lane.id = number32(fields);
            lane.kind = static_cast<LaneKind>(std::min<uint64_t>(fields.number(), 2));
            lane.osId = fields.number();
            lane.name = fields.text();
            lane.role = fields.text();
            return sink.define(lane);
        }
        case layout::DefinitionType::Site: {
            SiteDefinition site;
            site.id = number32(fields);
            site.line = number32(fields);
            site.longestNs = fields.number();
            site.name = fields.text();
            site.category = fields.text();
            site.description = fields.text();
            site.file = fields.text();
            site.detail = number32(fields);
            return sink.define(site);
        }
        case layout::DefinitionType::Series: {
            SeriesDefinition series;
            series.id = number32(fields);
            series.deadlineNs = fields.number();
            series.name = fields.text();
            return sink.define(series);
        }
        case layout::DefinitionType::Object: {
            const uint32_t id = number32(fields);
            return sink.define(ObjectDefinition{id, fields.text()});
        }
        case layout::DefinitionType::Counter: {
            CounterDefinition counter;
            counter.id = number32(fields);
            const bool has = fields.number() == 1;
            const uint64_t bits = fields.number();
            double threshold = 0;
            std::memcpy(&threshold, &bits, sizeof threshold);
            if (has) counter.threshold = threshold;
            counter.name = fields.text();
            counter.unit = fields.text();
            return sink.define(counter);
        }
        case layout::DefinitionType::State: {
            const uint32_t id = number32(fields);
            return sink.define(StateDefinition{id, fields.text()});
        }
        case layout::DefinitionType::Context: {
            std::string key = fields.text();
            return sink.define(ContextDefinition{std::move(key), fields.text()});
        }
        case layout::DefinitionType::Key: {
            const uint32_t id = number32(fields);
            return sink.define(KeyDefinition{id, fields.text()});
        }
        case layout::DefinitionType::Pool: {
            const uint32_t id = number32(fields);
            return sink.define(PoolDefinition{id, fields.text()});
        }
        case layout::DefinitionType::OsThread: {
            OsThreadDefinition thread;
            thread.id = number32(fields);
            thread.process = number32(fields);
            thread.name = fields.text();
            return sink.define(thread);
        }
        case layout::DefinitionType::Module: {
            ModuleDefinition module;
            module.address = fields.number();
            module.bytes = fields.number();
            module.offset = fields.number();
            module.path = fields.text();
            module.buildId = fields.text();
            return sink.define(module);
        }
        case layout::DefinitionType::Clock:
        case layout::DefinitionType::ClockSync: return;  // for LaneClocks
    }                                                    // a record type of a later version: skipped
}

/// Which clock each lane's ticks are of, and how to make times of them.
class LaneClocks {
public:
    explicit LaneClocks(const FileHeader& header) : header_(header) {}

    void addPair(const ClockPair& pair) { pairs_.push_back({pair.ticks, static_cast<int64_t>(pair.ns)}); }
    void define(layout::DefinitionType type, Fields fields) {
        if (type == layout::DefinitionType::Lane) {
            const uint32_t lane = number32(fields);
            fields.number();
            fields.number();
            fields.text();
            fields.text();
            clockOf_[lane] = number32(fields);
        } else if (type == layout::DefinitionType::Clock) {
            const uint32_t clock = number32(fields);
            const uint64_t bits = fields.number();
            std::memcpy(&clocks_[clock].nsPerTick, &bits, sizeof bits);
        } else if (type == layout::DefinitionType::ClockSync) {
            const uint32_t clock = number32(fields);
            const uint64_t device = fields.number();
            clocks_[clock].syncs.push_back({device, fields.number()});
        }
    }
    /// After the last definition and pair.
    void ready() {
        maps_[kRecordingClock] = header_.clock == static_cast<uint32_t>(ClockKind::Ticks)
                                     ? TickMap(header_.originTicks, header_.nsPerTick, std::move(pairs_))
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
    TickMap& of(uint32_t lane) {
        const auto clock = clockOf_.find(lane);
        const auto map = maps_.find(clock == clockOf_.end() ? kRecordingClock : clock->second);
        return map == maps_.end() ? maps_[kRecordingClock] : map->second;
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

bool emitDefinitions(std::string_view payload, EventSink& sink, LaneClocks& clocks) {
    const auto* at = reinterpret_cast<const uint8_t*>(payload.data());
    const uint8_t* end = at + payload.size();
    while (at < end) {
        const auto type = static_cast<layout::DefinitionType>(*at++);
        std::string_view fields;
        if (!readText(at, end, fields)) return false;
        clocks.define(type, Fields(fields));
        emitDefinition(type, Fields(fields), sink);
    }
    return true;
}

bool holdsEvents(uint32_t type) {
    return type == static_cast<uint32_t>(BlockType::Events) || type == static_cast<uint32_t>(BlockType::PackedEvents);
}

/// Calls `take` with each event of a block of either kind. Returns how many could not be read.
uint32_t readEvents(const IndexEntry& block, std::string_view payload,
                    const std::function<void(const RawEvent&)>& take) {
    uint32_t read = 0;
    if (block.type == static_cast<uint32_t>(BlockType::PackedEvents)) {
        unpackEvents(payload, block.count, block.firstTicks, [&](const RawEvent& event) {
            ++read;
            take(event);
        });
        return block.count - read;
    }
    const auto* at = reinterpret_cast<const uint8_t*>(payload.data());
    const uint8_t* end = at + payload.size();
    uint64_t previous = block.firstTicks;
    RawEvent event;
    for (; read < block.count && readEvent(at, end, event, previous); ++read) take(event);
    return block.count - read;
}

/// Returns how many of the events could not be read.
uint32_t emitEvents(const IndexEntry& block, std::string_view payload, TickMap& clock, EventSink& sink) {
    std::string clean;
    return readEvents(block, payload, [&](const RawEvent& raw) {
        if (!kindIsKnown(raw.kind)) return;  // of a later version
        Event event{clock.toNs(raw.ticks), raw.kind, raw.id, raw.a, raw.b, raw.text};
        const bool bytes = raw.kind == EventKind::Picture || raw.kind == EventKind::Sample;
        if (!raw.text.empty() && !bytes) event.text = clean = cleanUtf8(raw.text);
        sink.event(block.lane, event);
    });
}

std::string seconds(int64_t ns) {
    char text[40];
    std::snprintf(text, sizeof text, "%.3f s", static_cast<double>(ns) * 1e-9);
    return text;
}

}  // namespace

bool readPayload(ByteSource& source, const IndexEntry& block, std::string& payload) {
    BlockHeader header;
    if (!readBlockHeader(source, block.offset, header)) return false;
    if (header.type != block.type || header.payloadBytes != block.payloadBytes || header.version != 1) return false;
    if (header.payloadBytes > source.size()) return false;
    payload.resize(header.payloadBytes);
    if (source.read(block.offset + sizeof header, payload.data(), payload.size()) != payload.size()) return false;
    return checksum(payload.data(), payload.size()) == header.payloadChecksum;
}

bool looksBinary(ByteSource& source) {
    unsigned char magic[8]{};
    return readStruct(source, 0, magic) && std::memcmp(magic, kFileMagic, 8) == 0;
}

BlockDirectory findBlocks(ByteSource& source) {
    BlockDirectory directory;
    if (readIndex(source, directory)) return directory;
    for (uint64_t at = sizeof(FileHeader); at < source.size();) {
        BlockHeader header;
        if (!readBlockHeader(source, at, header)) {
            const uint64_t next = findNextBlock(source, at + 1);
            Trailer trailer;  // the trailer of a closed file is no gap
            const bool isTrailer = source.size() - at == sizeof trailer && readStruct(source, at, trailer) &&
                                   trailer.magic == kTrailerMagic;
            if (!isTrailer) ++directory.gaps;
            at = next;
            continue;
        }
        directory.blocks.push_back({at, header.firstTicks, header.lastTicks, header.sequence, header.payloadBytes,
                                    header.lane, header.count, header.type});
        at += blockBytes(header);
    }
    return directory;
}

Result<Damage> readBinary(ByteSource& source, const std::string& name, EventSink& sink, const Progress& progress) {
    FileHeader header;
    const bool haveHeader = readStruct(source, 0, header);
    if (!haveHeader)
        return Failure{name + " is cut off inside its first 64 bytes, so nothing can be read from it. Record again."};
    const bool headerGood = header.checksum == checksum(&header, offsetof(FileHeader, checksum));
    if (headerGood && header.version > kFileVersion)
        return Failure{name + " was written by a newer version of Fugato (file version " +
                       std::to_string(header.version) + "). Update Fugato to open it."};
    Damage damage;
    if (!headerGood) damage.note("The file's header is damaged: times may be off.");
    BlockDirectory directory = findBlocks(source);
    damage.indexMissing = !directory.indexed;
    if (damage.indexMissing) damage.note(kNotClosed);
    damage.lostBlocks += directory.gaps;
    if (directory.gaps)
        damage.note(std::to_string(directory.gaps) +
                    (directory.gaps == 1 ? " stretch of bytes is" : " stretches of bytes are") +
                    " damaged or cut and could not be read.");
    sink.started(header.startedUnixNs);

    std::string payload;
    LaneClocks clocks(header);
    for (const IndexEntry& block : directory.blocks) {  // names and clocks first: they may stand anywhere
        if (block.type == static_cast<uint32_t>(BlockType::Definitions)) {
            if (readPayload(source, block, payload) && emitDefinitions(payload, sink, clocks)) continue;
            ++damage.lostBlocks;
            damage.note("A block of names is damaged: some lanes and markers are shown by number.");
        } else if (block.type == static_cast<uint32_t>(BlockType::Clock) && readPayload(source, block, payload)) {
            for (size_t at = 0; at + sizeof(ClockPair) <= payload.size(); at += sizeof(ClockPair)) {
                ClockPair pair;
                std::memcpy(&pair, payload.data() + at, sizeof pair);
                clocks.addPair(pair);
            }
        }
    }
    clocks.ready();

    uint64_t read = 0;
    for (size_t i = 0; i < directory.blocks.size(); ++i) {
        const IndexEntry& block = directory.blocks[i];
        if (progress && i % 64 == 0 &&
            !progress(static_cast<double>(block.offset) / static_cast<double>(source.size())))
            return Failure{"Opening " + name + " was cancelled.", true};
        if (!holdsEvents(block.type)) continue;
        TickMap& clock = clocks.of(block.lane);
        const bool good = readPayload(source, block, payload);
        const uint32_t missing = good ? emitEvents(block, payload, clock, sink) : block.count;
        read += block.count - missing;
        if (!missing) continue;
        ++damage.lostBlocks;
        damage.lostEvents += missing;
        damage.note("Lane " + std::to_string(block.lane) + ", " + seconds(clock.toNs(block.firstTicks)) + " to " +
                    seconds(clock.toNs(block.lastTicks)) + ": " + std::to_string(missing) +
                    " events are damaged and missing.");
        const Event lost{clock.toNs(block.lastTicks), EventKind::Lost, 0, missing, 1, {}};
        sink.event(block.lane, lost);
    }
    if (!read && directory.blocks.empty() && source.size() > sizeof header)
        return Failure{name + " holds no readable part: everything after its header is damaged. Record again."};
    return damage;
}

namespace {

std::string definitionFields(const LaneDefinition& lane) {
    std::string out;
    appendVarint(out, lane.id);
    appendVarint(out, static_cast<uint64_t>(lane.kind));
    appendVarint(out, lane.osId);
    appendText(out, lane.name);
    appendText(out, lane.role);
    return out;
}
std::string definitionFields(const SiteDefinition& site) {
    std::string out;
    appendVarint(out, site.id);
    appendVarint(out, site.line);
    appendVarint(out, site.longestNs);
    for (const auto* text : {&site.name, &site.category, &site.description, &site.file}) appendText(out, *text);
    appendVarint(out, site.detail);
    return out;
}
std::string definitionFields(const SeriesDefinition& series) {
    std::string out;
    appendVarint(out, series.id);
    appendVarint(out, series.deadlineNs);
    appendText(out, series.name);
    return out;
}
std::string definitionFields(const ObjectDefinition& object) {
    std::string out;
    appendVarint(out, object.id);
    appendText(out, object.name);
    return out;
}
std::string definitionFields(const CounterDefinition& counter) {
    std::string out;
    uint64_t bits = 0;
    const double threshold = counter.threshold.value_or(0);
    if (counter.threshold) std::memcpy(&bits, &threshold, sizeof bits);
    appendVarint(out, counter.id);
    appendVarint(out, counter.threshold ? 1 : 0);
    appendVarint(out, bits);
    appendText(out, counter.name);
    appendText(out, counter.unit);
    return out;
}
std::string definitionFields(const StateDefinition& state) {
    std::string out;
    appendVarint(out, state.id);
    appendText(out, state.name);
    return out;
}
std::string definitionFields(const ContextDefinition& context) {
    std::string out;
    appendText(out, context.key);
    appendText(out, context.value);
    return out;
}

std::string definitionFields(const KeyDefinition& key) {
    std::string out;
    appendVarint(out, key.id);
    appendText(out, key.name);
    return out;
}
std::string definitionFields(const PoolDefinition& pool) {
    std::string out;
    appendVarint(out, pool.id);
    appendText(out, pool.name);
    return out;
}
std::string definitionFields(const OsThreadDefinition& thread) {
    std::string out;
    appendVarint(out, thread.id);
    appendVarint(out, thread.process);
    appendText(out, thread.name);
    return out;
}
std::string definitionFields(const ModuleDefinition& module) {
    std::string out;
    for (const uint64_t number : {module.address, module.bytes, module.offset}) appendVarint(out, number);
    appendText(out, module.path);
    appendText(out, module.buildId);
    return out;
}

constexpr size_t kBlockBytes = 64 * 1024;

}  // namespace

bool writeBinary(const EventStore& store, const std::function<bool(std::string_view)>& write,
                 const Progress& progress) {
    BlockFile file(write);
    FileHeader header{};
    header.clock = static_cast<uint32_t>(ClockKind::Nanoseconds);
    header.nsPerTick = 1;
    header.startedUnixNs = store.startedUnixNs;
    if (!file.writeHeader(header)) return false;

    std::string definitions;
    for (const fugato::Definition& definition : store.definitions)  // the variant's order is the record types' order
        appendDefinition(definitions, static_cast<layout::DefinitionType>(definition.index() + 1),
                         std::visit([](const auto& d) { return definitionFields(d); }, definition));
    if (!file.writeBlock(BlockType::Definitions, 0, static_cast<uint32_t>(store.definitions.size()), 0, 0, definitions))
        return false;

    struct Pending {
        std::string payload;
        uint32_t count = 0;
        uint64_t first = 0, last = 0;
    };
    std::map<uint32_t, Pending> pending;
    const auto flush = [&](uint32_t lane, Pending& block) {
        const bool good = !block.count ||
                          file.writeBlock(BlockType::Events, lane, block.count, block.first, block.last, block.payload);
        block = {};
        return good;
    };
    bool good = true;
    size_t done = 0;
    const size_t total = store.eventCount();
    store.inTimeOrder([&](uint32_t lane, const Event& event) {
        Pending& block = pending[lane];
        const auto ticks = static_cast<uint64_t>(event.time);
        if (!block.count) block.first = block.last = ticks;
        appendEvent(block.payload, {ticks, event.kind, event.id, event.a, event.b, event.text}, block.last);
        ++block.count;
        if (block.payload.size() >= kBlockBytes) good = flush(lane, block);
        if (++done % 65536 == 0 && progress)
            good = good && progress(static_cast<double>(done) / static_cast<double>(total));
        return good;
    });
    for (auto& [lane, block] : pending) good = good && flush(lane, block);
    return good && file.writeIndex();
}

Result<uint64_t> packBinary(ByteSource& source, const std::string& name,
                            const std::function<bool(std::string_view)>& write, const Progress& progress) {
    FileHeader header;
    if (!looksBinary(source) || !readStruct(source, 0, header))
        return Failure{name + " is not a recording in binary form. Convert it to .fugato first."};
    const BlockDirectory directory = findBlocks(source);
    if (!directory.indexed)
        return Failure{name + " was not closed; only whole recordings are packed. Open it once, or convert it."};
    BlockFile file(write);
    bool good = file.writeHeader(header);
    std::string payload, definitions, pairs;
    uint32_t definitionCount = 0;
    for (const IndexEntry& block : directory.blocks) {
        const auto type = static_cast<BlockType>(block.type);
        if (type != BlockType::Definitions && type != BlockType::Clock) continue;
        if (!readPayload(source, block, payload))
            return Failure{name + " is damaged; only whole recordings are packed. Convert it to mend it."};
        (type == BlockType::Clock ? pairs : definitions) += payload;
        if (type == BlockType::Definitions) definitionCount += block.count;
    }
    if (!pairs.empty())
        good = good && file.writeBlock(BlockType::Clock, 0, static_cast<uint32_t>(pairs.size() / sizeof(ClockPair)), 0,
                                       0, pairs);
    good = good && file.writeBlock(BlockType::Definitions, 0, definitionCount, 0, 0, definitions);

    struct Gathered {
        std::vector<RawEvent> events;
        std::deque<std::string> texts;
        size_t textBytes = 0;
    };
    std::map<uint32_t, Gathered> lanes;
    uint64_t packed = 0;
    const auto flush = [&](uint32_t lane, Gathered& gathered) {
        if (gathered.events.empty()) return;
        const uint64_t first = gathered.events.front().ticks, last = gathered.events.back().ticks;
        good = good && file.writeBlock(BlockType::PackedEvents, lane, static_cast<uint32_t>(gathered.events.size()),
                                       first, last, packEvents(gathered.events, first));
        packed += gathered.events.size();
        gathered = {};
    };
    for (size_t i = 0; i < directory.blocks.size() && good; ++i) {
        const IndexEntry& block = directory.blocks[i];
        if (progress && i % 16 == 0 &&
            !progress(static_cast<double>(block.offset) / static_cast<double>(source.size())))
            return Failure{"Packing " + name + " was cancelled.", true};
        if (!holdsEvents(block.type)) continue;
        Gathered& gathered = lanes[block.lane];
        const bool whole =
            readPayload(source, block, payload) && !readEvents(block, payload, [&](const RawEvent& event) {
                RawEvent kept = event;
                if (!event.text.empty()) {
                    kept.text = gathered.texts.emplace_back(event.text);
                    gathered.textBytes += event.text.size();
                }
                gathered.events.push_back(kept);
            });
        if (!whole) return Failure{name + " is damaged; only whole recordings are packed. Convert it to mend it."};
        if (gathered.events.size() >= kMostPackedEvents / 2 || gathered.textBytes > (8u << 20))
            flush(block.lane, gathered);
    }
    for (auto& [lane, gathered] : lanes) flush(lane, gathered);
    good = good && file.writeIndex();
    if (!good) return Failure{"Cannot write the packed form of " + name + "."};
    return packed;
}

}  // namespace fugato
