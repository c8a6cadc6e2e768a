// SPDX-License-Identifier: MIT
//
// The layout of a .fugato file as constants and small functions, shared by the recorder (which
// writes) and format/ (which reads and writes). docs/recording-format.md describes it byte by byte;
// change both together. All numbers are little-endian. No function here throws or allocates, except
// for the appending ones, which grow the string they are given.
#pragma once

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <string>
#include <string_view>

#define XXH_INLINE_ALL
#include <xxhash.h>

namespace fugato::layout {

inline constexpr unsigned char kFileMagic[8] = {0x89, 'F', 'U', 'G', '\r', '\n', 0x1a, '\n'};
inline constexpr uint32_t kFileVersion = 1;
inline constexpr uint32_t kBlockMagic = 0x4b4c4246;            // "FBLK"
inline constexpr uint64_t kTrailerMagic = 0x444e454f54414755;  // "UGATOEND"

enum class ClockKind : uint32_t { Nanoseconds = 1, Ticks = 2 };

struct FileHeader {  // 64 bytes at offset 0
    unsigned char magic[8];
    uint32_t version;
    uint32_t headerBytes;
    uint32_t clock;  // ClockKind
    uint32_t reserved;
    uint64_t originTicks;   // the clock at time 0
    double nsPerTick;       // estimate; refined by clock blocks
    int64_t startedUnixNs;  // wall clock at time 0, 0: not told
    uint64_t reserved2;
    uint64_t checksum;  // of the 56 bytes before
};
static_assert(sizeof(FileHeader) == 64);

enum class BlockType : uint16_t { Definitions = 1, Events = 2, Clock = 3, Index = 4 };

struct BlockHeader {  // 64 bytes, then payloadBytes bytes, then zeros up to a multiple of 8
    uint32_t magic;
    uint16_t type;     // BlockType; unknown ones are skipped
    uint16_t version;  // of this block type; 1
    uint32_t lane;     // Events: the lane; else 0
    uint32_t payloadBytes;
    uint32_t count;  // records in the payload
    uint32_t flags;  // 0
    uint64_t firstTicks;
    uint64_t lastTicks;
    uint64_t sequence;         // 0, 1, 2… in the order written
    uint64_t payloadChecksum;  // of the payload
    uint64_t checksum;         // of the 56 bytes before
};
static_assert(sizeof(BlockHeader) == 64);

struct IndexEntry {  // 48 bytes; payload of the index block
    uint64_t offset;
    uint64_t firstTicks;
    uint64_t lastTicks;
    uint64_t sequence;
    uint32_t payloadBytes;
    uint32_t lane;
    uint32_t count;
    uint32_t type;
};
static_assert(sizeof(IndexEntry) == 48);

struct Trailer {  // the last 24 bytes of a recording that was closed
    uint64_t indexOffset;
    uint64_t checksum;  // of the 8 bytes before
    uint64_t magic;
};
static_assert(sizeof(Trailer) == 24);

struct ClockPair {  // payload of a clock block
    uint64_t ticks;
    uint64_t ns;  // since time 0
};

inline uint64_t checksum(const void* data, size_t size) { return XXH3_64bits(data, size); }
inline size_t padding(size_t size) { return (8 - size % 8) % 8; }

/// What an event says; also the low 8 bits of a slot's word in the recorder's buffers.
enum class Kind : uint8_t {
    MarkBegin = 1,   // id: site
    MarkEnd = 2,     //
    FrameBegin = 3,  // id: series, a: deadline ns (0: the series' own)
    FrameEnd = 4,    // id: series
    Count = 5,       // id: counter, a: bits of a double
    Point = 6,       // id: severity, text
    WaitBegin = 7,   // id: object, a: site, b: wait kind
    WaitEnd = 8,     // a: link that ended it, 0: not known
    Taken = 9,       // id: object
    Given = 10,      // id: object
    LinkOut = 11,    // a: link
    LinkIn = 12,     // a: link
    StateSet = 13,   // id: state, text
    Lost = 14,       // a: number of events missing before this one, b: 1 where ends may be among them
    LaneEnd = 15,    //
    // 16 to 31: reserved; followed by a byte count, so that readers can skip them
};

enum class DefinitionType : uint8_t {
    Lane = 1,     // id, kind, os id, name, role
    Site = 2,     // id, line, longest ns, name, category, description, file
    Series = 3,   // id, deadline ns, name
    Object = 4,   // id, name
    Counter = 5,  // id, has threshold, bits of the threshold, name, unit
    State = 6,    // id, name
    Context = 7,  // key, value
};

/// One event as stored: ticks are raw, the meaning of id, a, b and text depends on the kind.
struct RawEvent {
    uint64_t ticks = 0;
    Kind kind{};
    uint32_t id = 0;
    uint64_t a = 0;
    uint64_t b = 0;
    std::string_view text;
};

inline void appendVarint(std::string& out, uint64_t value) {
    while (value >= 0x80) {
        out.push_back(static_cast<char>(value | 0x80));
        value >>= 7;
    }
    out.push_back(static_cast<char>(value));
}

/// Reads a varint; returns false (and leaves `value` alone) where the bytes end or never finish.
inline bool readVarint(const uint8_t*& at, const uint8_t* end, uint64_t& value) {
    uint64_t result = 0;
    for (int shift = 0; shift < 64 && at < end; shift += 7) {
        const uint8_t byte = *at++;
        result |= static_cast<uint64_t>(byte & 0x7f) << shift;
        if (!(byte & 0x80)) {
            value = result;
            return true;
        }
    }
    return false;
}

inline uint64_t zigzag(int64_t value) {
    return (static_cast<uint64_t>(value) << 1) ^ static_cast<uint64_t>(value >> 63);
}
inline int64_t unzigzag(uint64_t value) { return static_cast<int64_t>(value >> 1) ^ -static_cast<int64_t>(value & 1); }

inline void appendText(std::string& out, std::string_view text) {
    appendVarint(out, text.size());
    out.append(text);
}
inline bool readText(const uint8_t*& at, const uint8_t* end, std::string_view& text) {
    uint64_t size = 0;
    if (!readVarint(at, end, size) || size > static_cast<uint64_t>(end - at)) return false;
    text = {reinterpret_cast<const char*>(at), static_cast<size_t>(size)};
    at += size;
    return true;
}

inline bool kindHasA(Kind kind) {
    switch (kind) {
        case Kind::FrameBegin:
        case Kind::Count:
        case Kind::WaitBegin:
        case Kind::WaitEnd:
        case Kind::LinkOut:
        case Kind::LinkIn:
        case Kind::Lost: return true;
        default: return false;
    }
}
inline bool kindHasB(Kind kind) { return kind == Kind::WaitBegin || kind == Kind::Lost; }
inline bool kindHasText(Kind kind) { return kind == Kind::Point || kind == Kind::StateSet; }

/// Appends one event; `previousTicks` is the time of the event before it in this block (the
/// block's firstTicks for the first) and is moved on.
inline void appendEvent(std::string& out, const RawEvent& event, uint64_t& previousTicks) {
    appendVarint(out, static_cast<uint64_t>(event.id) << 5 | static_cast<uint8_t>(event.kind));
    appendVarint(out, zigzag(static_cast<int64_t>(event.ticks - previousTicks)));
    previousTicks = event.ticks;
    if (event.kind == Kind::Count) {  // doubles keep their 8 bytes
        char bytes[8];
        std::memcpy(bytes, &event.a, 8);
        out.append(bytes, 8);
    } else if (kindHasA(event.kind)) {
        appendVarint(out, event.a);
    }
    if (kindHasB(event.kind)) appendVarint(out, event.b);
    if (kindHasText(event.kind)) appendText(out, event.text);
}

/// Reads one event; returns false where the bytes do not hold one. Events of a reserved kind come
/// back with their kind and nothing else.
inline bool readEvent(const uint8_t*& at, const uint8_t* end, RawEvent& event, uint64_t& previousTicks) {
    uint64_t head = 0, delta = 0;
    if (!readVarint(at, end, head) || !readVarint(at, end, delta)) return false;
    if (head >> 37) return false;
    event.kind = static_cast<Kind>(head & 31);
    event.id = static_cast<uint32_t>(head >> 5);
    event.ticks = previousTicks + static_cast<uint64_t>(unzigzag(delta));
    previousTicks = event.ticks;
    event.a = event.b = 0;
    event.text = {};
    const auto kind = static_cast<uint8_t>(event.kind);
    if (kind == 0) return false;
    if (kind >= 16) return readText(at, end, event.text);
    if (event.kind == Kind::Count) {
        if (end - at < 8) return false;
        std::memcpy(&event.a, at, 8);
        at += 8;
    } else if (kindHasA(event.kind) && !readVarint(at, end, event.a)) {
        return false;
    }
    if (kindHasB(event.kind) && !readVarint(at, end, event.b)) return false;
    return !kindHasText(event.kind) || readText(at, end, event.text);
}

/// Fills magic, version, payload size and both checksums of a header whose other fields are set.
inline void sealBlock(BlockHeader& header, std::string_view payload) {
    header.magic = kBlockMagic;
    header.version = 1;
    header.payloadBytes = static_cast<uint32_t>(payload.size());
    header.payloadChecksum = checksum(payload.data(), payload.size());
    header.checksum = checksum(&header, offsetof(BlockHeader, checksum));
}

inline void sealFileHeader(FileHeader& header) {
    std::memcpy(header.magic, kFileMagic, sizeof kFileMagic);
    header.version = kFileVersion;
    header.headerBytes = sizeof(FileHeader);
    header.checksum = checksum(&header, offsetof(FileHeader, checksum));
}

inline Trailer makeTrailer(uint64_t indexOffset) {
    return {indexOffset, checksum(&indexOffset, sizeof indexOffset), kTrailerMagic};
}

/// Appends a definition record: its type, its size, its fields (already encoded).
inline void appendDefinition(std::string& out, DefinitionType type, std::string_view fields) {
    out.push_back(static_cast<char>(type));
    appendText(out, fields);
}

/// Collects blocks into a file image: fills in sequence numbers and the index. `Sink` is called
/// with bytes to append and returns false where they could not be written.
template <class Sink>
class BlockFile {
public:
    explicit BlockFile(Sink sink) : sink_(std::move(sink)) {}

    bool writeHeader(FileHeader header) {
        sealFileHeader(header);
        return put({reinterpret_cast<const char*>(&header), sizeof header});
    }
    bool writeBlock(BlockType type, uint32_t lane, uint32_t count, uint64_t firstTicks, uint64_t lastTicks,
                    std::string_view payload) {
        BlockHeader header{};
        header.type = static_cast<uint16_t>(type);
        header.lane = lane;
        header.count = count;
        header.firstTicks = firstTicks;
        header.lastTicks = lastTicks;
        header.sequence = sequence_++;
        sealBlock(header, payload);
        const IndexEntry entry{offset_, firstTicks, lastTicks,  header.sequence, header.payloadBytes,
                               lane,    count,      header.type};
        index_.append(reinterpret_cast<const char*>(&entry), sizeof entry);
        scratch_.assign(reinterpret_cast<const char*>(&header), sizeof header);
        scratch_.append(payload);
        scratch_.append(padding(payload.size()), '\0');
        return put(scratch_);
    }
    bool writeIndex() {
        const uint64_t at = offset_;
        const std::string entries = std::move(index_);
        if (!writeBlock(BlockType::Index, 0, static_cast<uint32_t>(entries.size() / sizeof(IndexEntry)), 0, 0, entries))
            return false;
        const Trailer trailer = makeTrailer(at);
        return put({reinterpret_cast<const char*>(&trailer), sizeof trailer});
    }

private:
    bool put(std::string_view bytes) {
        offset_ += bytes.size();
        return sink_(bytes);
    }
    Sink sink_;
    std::string index_, scratch_;
    uint64_t offset_ = 0, sequence_ = 0;
};

}  // namespace fugato::layout
