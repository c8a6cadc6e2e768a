// SPDX-License-Identifier: MIT
//
// The layout of a .fugato file as constants and small functions, shared by the recorder (which
// writes) and format/ (which reads and writes). docs/recording-format.md describes it byte by byte;
// change both together. All numbers are little-endian. No function here throws or allocates, except
// for the appending ones, which grow the string they are given.
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <string>
#include <string_view>
#include <utility>

#include "fugato_schema.hpp"

#define XXH_INLINE_ALL
#include <xxhash.h>

namespace fugato::layout {

inline constexpr unsigned char kFileMagic[8] = {0x89, 'F', 'U', 'G', '\r', '\n', 0x1a, '\n'};
inline constexpr uint32_t kFileVersion = 2;                    // readers take lower ones too
inline constexpr size_t kBlockBytes = 64 * 1024;               // a writer ends a lane's block when it holds so much
inline constexpr uint32_t kBlockMagic = 0x4b4c4246;            // "FBLK"
inline constexpr uint64_t kTrailerMagic = 0x444e454f54414755;  // "UGATOEND"

/// The context that holds a recording's own id, a UUID (RFC 9562): it stays with copies, packed and converted ones.
inline constexpr char kRecordingIdKey[] = "recording id";

/// 128 bits as the text of a UUID. `version`: 4 for bits that chance made, 8 for others.
inline std::string uuidText(uint64_t high, uint64_t low, unsigned version) {
    high = (high & ~uint64_t{0xf000}) | uint64_t{version} << 12;
    low = (low & ~(uint64_t{3} << 62)) | uint64_t{2} << 62;
    static constexpr char kDigits[] = "0123456789abcdef";
    std::string text;
    for (int at = 0; at < 32; ++at) {
        if (at == 8 || at == 12 || at == 16 || at == 20) text += '-';
        text += kDigits[(at < 16 ? high >> (60 - 4 * at) : low >> (124 - 4 * at)) & 15];
    }
    return text;
}

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

enum class BlockType : uint16_t { Definitions = 1, Events = 2, Clock = 3, Index = 4, PackedEvents = 5 };

struct BlockHeader {  // 64 bytes, then payloadBytes bytes, then zeros up to a multiple of 8
    uint32_t magic;
    uint16_t type;     // BlockType; unknown ones are skipped
    uint16_t version;  // of this block type; 1
    uint32_t lane;     // Events: the lane; else 0
    uint32_t payloadBytes;
    uint32_t count;     // records in the payload
    uint32_t position;  // Events: slots of the lane's buffer written so far, modulo 2^32; else 0
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

// ---- the file of buffers beside a recording that is being made -----------------------------------
//
// A page of header, a table of entries, then the rings. It lives in memory that outlasts the
// program (docs/recording-format.md tells where), so that what was published but not yet written
// can be rescued after a kill.

inline constexpr unsigned char kBuffersMagic[8] = {0x89, 'F', 'U', 'G', 'B', 'U', 'F', '\n'};
inline constexpr uint32_t kBuffersVersion = 3;
inline constexpr uint32_t kBufferEntries = 4096;
inline constexpr uint64_t kBufferTableAt = 4096;

/// A process, told apart from one that later gets the same number.
struct ProcessIdentity {
    uint64_t id;     // in its own space of process numbers…
    uint64_t space;  // which is this (the inode of /proc/self/ns/pid); 0: not known
    uint64_t start;  // field 22 of /proc/self/stat
    uint64_t boot;   // checksum of the machine's boot id
};

struct BuffersHeader {
    unsigned char magic[8];
    uint32_t version;
    uint32_t recording;    // 1 while a recording is being made from these buffers
    uint64_t originTicks;  // of that recording's header…
    int64_t startedUnixNs;
    ProcessIdentity process;
    uint64_t device, inode;  // of the recording's file
    uint32_t pathBytes;
    char path[3072];  // of the recording, absolute; pathBytes of it
};
static_assert(sizeof(BuffersHeader) <= kBufferTableAt);

/// A live writer holds a write lock (of the open file description) on these bytes of its recording and of
/// its file of buffers; whoever makes a recording whole holds the second only. So nobody takes a recording
/// for finished that is not, and only one makes it whole.
inline constexpr int64_t kWriterLockAt = 0, kWholeLockAt = 1;

struct BufferSlot {
    uint64_t ticks;
    uint64_t word;  // kind (8 bits), further slots (8), text bytes (16), id (32)
};

/// A buffer: a ring with one writer (the thread) and one reader (the background thread).
struct BufferEntry {
    uint64_t address;  // of the ring in the program; means nothing outside it
    uint64_t mask;     // slots - 1; a power of two
    uint64_t head;     // slots written so far
    uint64_t beginLimit;
    uint64_t endLimit;
    uint64_t lost;    // events dropped since the last Lost event
    uint64_t offset;  // of the ring in this file
    uint32_t lane;    // 0: free
    uint32_t reserved;
    uint64_t tail;  // slots that are in the recording
    uint64_t padding[7];
};
static_assert(sizeof(BufferEntry) == 128);
inline constexpr uint64_t kBufferRingsAt = kBufferTableAt + uint64_t{kBufferEntries} * sizeof(BufferEntry);

/// Definitions stand in the buffers too: kind 192 + their type, the fields as the text. Those of sites
/// begin with the 8 bytes of the site's address, for the recorder's own use.
inline constexpr uint8_t kSlotDefinition = 192;
/// Where they began in files of buffers of version 2.
inline constexpr uint32_t kBuffersVersionBefore = 2;
inline constexpr uint8_t kSlotDefinitionBefore = 64;
inline constexpr size_t kMostSlotText = 255 * sizeof(BufferSlot) - sizeof(BufferSlot);

inline uint64_t makeWord(Kind kind, uint32_t id, uint64_t furtherSlots = 0, size_t textBytes = 0) {
    return static_cast<uint64_t>(kind) | (furtherSlots & 0xff) << 8 | (textBytes & 0xffff) << 16 |
           static_cast<uint64_t>(id) << 32;
}
/// One event as stored: ticks are raw, the meaning of id, a, b and text depends on the kind.
struct RawEvent {
    uint64_t ticks = 0;
    Kind kind{};
    uint32_t id = 0;
    uint64_t a = 0;
    uint64_t b = 0;
    std::string_view text;
};

/// Writes a varint of at most 10 bytes; returns where it ends.
inline char* putVarint(char* out, uint64_t value) {
    while (value >= 0x80) {
        *out++ = static_cast<char>(value | 0x80);
        value >>= 7;
    }
    *out++ = static_cast<char>(value);
    return out;
}
inline void appendVarint(std::string& out, uint64_t value) {
    char bytes[10];
    out.append(bytes, static_cast<size_t>(putVarint(bytes, value) - bytes));
}

/// Reads a varint; returns false (and leaves `value` alone) where the bytes end or never finish.
/// A number that was read, and where it ends: null where there is none.
struct Varint {
    const uint8_t* end;
    uint64_t value;
};

/// Numbers of any length, byte after byte.
[[gnu::noinline]] inline Varint varintByBytes(const uint8_t* at, const uint8_t* end) {
    uint64_t value = 0;
    for (int shift = 0; shift < 64 && at < end; shift += 7) {
        const uint8_t byte = *at++;
        value |= static_cast<uint64_t>(byte & 0x7f) << shift;
        if (!(byte & 0x80)) return {at, value};
    }
    return {nullptr, 0};
}

inline constexpr uint64_t kTopBits = 0x8080808080808080;  // of 8 bytes; those of a varint's last byte are 0

/// The number that the lower 7 bits of each byte make, the first byte lowest.
[[gnu::always_inline]] inline uint64_t joinSevenBits(uint64_t bytes) {
    bytes &= ~kTopBits;
    bytes = (bytes & 0x007f007f007f007f) | (bytes & 0x7f007f007f007f00) >> 1;
    bytes = (bytes & 0x00003fff00003fff) | (bytes & 0x3fff00003fff0000) >> 2;
    return (bytes & 0x0fffffff) | (bytes & 0x0fffffff00000000) >> 4;
}

/// Numbers of up to 8 bytes without a branch that depends on how long they are, where 8 bytes may be read.
[[gnu::always_inline]] inline Varint varintAt(const uint8_t* at, const uint8_t* end) {
    uint64_t bytes = 0;
    if (end - at < static_cast<ptrdiff_t>(sizeof bytes)) return varintByBytes(at, end);
    std::memcpy(&bytes, at, sizeof bytes);
    const uint64_t last = ~bytes & kTopBits;  // its lowest bit: the top of the number's last byte
    if (!last) return varintByBytes(at, end);
    return {at + (__builtin_ctzll(last) >> 3) + 1, joinSevenBits(bytes & (last ^ (last - 1)))};
}

/// The number at `at`, and in `next` the one behind it; both at once where they lie within 8 bytes.
[[gnu::always_inline]] inline Varint twoVarintsAt(const uint8_t* at, const uint8_t* end, uint64_t& next) {
    uint64_t bytes = 0;
    if (end - at >= static_cast<ptrdiff_t>(sizeof bytes)) {
        std::memcpy(&bytes, at, sizeof bytes);
        const uint64_t first = ~bytes & kTopBits, second = first & (first - 1);
        if (second) {
            next = joinSevenBits((bytes & (second ^ (second - 1))) >> (__builtin_ctzll(first) + 1));
            return {at + (__builtin_ctzll(second) >> 3) + 1, joinSevenBits(bytes & (first ^ (first - 1)))};
        }
    }
    const Varint one = varintAt(at, end);
    if (!one.end) return one;
    const Varint two = varintAt(one.end, end);
    next = two.value;
    return {two.end, one.value};
}

/// The same, and moves `at` behind it; returns false, and changes nothing, where there is none.
inline bool readVarint(const uint8_t*& at, const uint8_t* end, uint64_t& value) {
    const Varint read = varintAt(at, end);
    if (!read.end) return false;
    at = read.end;
    value = read.value;
    return true;
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

/// Whether the first further slot holds a and b; texts follow it.
inline bool slotHasPair(uint8_t kind, uint8_t firstDefinition) {
    return kind < firstDefinition && kindHasA(static_cast<Kind>(kind));
}

/// A kind from here on does not fit beside the id: this stands there, and the kind in a byte after the time.
inline constexpr uint8_t kFurtherKinds = 31;

/// What an event may take at most, apart from its text.
inline constexpr size_t kMostEventBytes = 64;

/// Writes one event and returns where it ends; `previousTicks` is the time of the event before it in
/// this block (the block's firstTicks for the first) and is moved on.
inline char* putEvent(char* out, const RawEvent& event, uint64_t& previousTicks) {
    const auto bytes = [&](const void* from, size_t count) {
        if (count) std::memcpy(out, from, count);
        out += count;
    };
    const auto kind = static_cast<uint8_t>(event.kind);
    out = putVarint(out, static_cast<uint64_t>(event.id) << 5 | std::min(kind, kFurtherKinds));
    out = putVarint(out, zigzag(static_cast<int64_t>(event.ticks - previousTicks)));
    previousTicks = event.ticks;
    if (kindIsCounted(event.kind)) {
        if (kind >= kFurtherKinds) *out++ = static_cast<char>(kind);
        char numbers[20];
        const auto size = static_cast<size_t>(putVarint(putVarint(numbers, event.a), event.b) - numbers);
        out = putVarint(out, size + event.text.size());
        bytes(numbers, size);
        bytes(event.text.data(), event.text.size());
        return out;
    }
    if (kindHasReal(event.kind))
        bytes(&event.a, 8);
    else if (kindHasA(event.kind))
        out = putVarint(out, event.a);
    if (kindHasB(event.kind)) out = putVarint(out, event.b);
    if (kindHasText(event.kind)) {
        out = putVarint(out, event.text.size());
        bytes(event.text.data(), event.text.size());
    }
    return out;
}
inline void appendEvent(std::string& out, const RawEvent& event, uint64_t& previousTicks) {
    const size_t before = out.size();
    out.resize(before + kMostEventBytes + event.text.size());
    out.resize(static_cast<size_t>(putEvent(out.data() + before, event, previousTicks) - out.data()));
}

/// The values of an event, after its kind. Returns where they end, null where there is not what the kind has.
inline const uint8_t* readValues(const uint8_t* at, const uint8_t* end, RawEvent& event) {
    if (kindIsCounted(event.kind)) {
        std::string_view counted;
        if (!readText(at, end, counted)) return nullptr;
        const auto* from = reinterpret_cast<const uint8_t*>(counted.data());
        const auto* to = from + counted.size();
        if (!readVarint(from, to, event.a) || !readVarint(from, to, event.b)) event.a = event.b = 0;
        event.text = {reinterpret_cast<const char*>(from), static_cast<size_t>(to - from)};
        return at;
    }
    if (kindHasReal(event.kind)) {
        if (end - at < 8) return nullptr;
        std::memcpy(&event.a, at, 8);
        at += 8;
    } else if (kindHasA(event.kind) && !readVarint(at, end, event.a)) {
        return nullptr;
    }
    if (kindHasB(event.kind) && !readVarint(at, end, event.b)) return nullptr;
    return !kindHasText(event.kind) || readText(at, end, event.text) ? at : nullptr;
}

/// Reads one event; returns false where the bytes do not hold one. Events of a reserved kind come
/// back too; callers leave them out (kindIsKnown).
[[gnu::always_inline]] inline bool readEvent(const uint8_t*& at, const uint8_t* end, RawEvent& event,
                                             uint64_t& previousTicks) {
    uint64_t delta = 0;
    const Varint head = twoVarintsAt(at, end, delta);
    if (!head.end || head.value >> 37) return false;
    at = head.end;
    event.kind = static_cast<Kind>(head.value & 31);
    event.id = static_cast<uint32_t>(head.value >> 5);
    event.ticks = previousTicks += static_cast<uint64_t>(unzigzag(delta));
    event.a = event.b = 0;
    event.text = {};
    if (kindIsBare(event.kind)) return true;
    if (event.kind == Kind{}) return false;
    if (static_cast<uint8_t>(event.kind) == kFurtherKinds) {
        if (at >= end || *at < kFurtherKinds) return false;
        event.kind = static_cast<Kind>(*at++);
    }
    const uint8_t* const past = readValues(at, end, event);
    if (past) at = past;
    return past != nullptr;
}

/// Reads the record at `at` out of a ring; `text` needs room for kMostSlotText bytes + 16. Returns the
/// number of slots it takes, 0 where it is no record that fits before `head`.
inline uint64_t readSlots(const BufferSlot* ring, uint64_t mask, uint64_t at, uint64_t head, char* text, uint8_t& kind,
                          RawEvent& event, uint8_t firstDefinition = kSlotDefinition) {
    const BufferSlot slot = ring[at & mask];
    kind = static_cast<uint8_t>(slot.word & 0xff);
    const uint64_t further = slot.word >> 8 & 0xff;
    const size_t bytes = slot.word >> 16 & 0xffff;
    event.ticks = slot.ticks;
    event.kind = static_cast<Kind>(kind);
    event.id = static_cast<uint32_t>(slot.word >> 32);
    event.a = event.b = 0;
    event.text = {};
    if (1 + further > head - at) return 0;
    uint64_t used = 1;
    if (further && slotHasPair(kind, firstDefinition)) {
        event.a = ring[(at + 1) & mask].ticks;
        event.b = ring[(at + 1) & mask].word;
        used = 2;
    }
    if (bytes) {
        if (bytes > (1 + further - used) * sizeof(BufferSlot)) return 0;
        for (uint64_t i = used; i <= further; ++i)
            std::memcpy(text + (i - used) * sizeof(BufferSlot), &ring[(at + i) & mask], sizeof(BufferSlot));
        event.text = {text, bytes};
    }
    return 1 + further;
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

/// The fields of a definition (one of fugato_schema.hpp), encoded.
template <class Definition>
std::string fieldsOf(const Definition& definition) {
    struct {
        std::string bytes;
        void number(uint64_t value) { appendVarint(bytes, value); }
        void text(std::string_view value) { appendText(bytes, value); }
    } out;
    putFields(out, definition);
    return std::move(out.bytes);
}
template <class Definition>
void appendDefinition(std::string& out, const Definition& definition) {
    appendDefinition(out, Definition::kType, fieldsOf(definition));
}
inline void appendFact(std::string& out, std::string_view key, std::string_view value) {
    appendDefinition(out, ContextFields<std::string_view>{key, value});
}

/// Reads encoded fields; those that are missing are 0 or "".
class FieldReader {
public:
    explicit FieldReader(std::string_view bytes)
        : at_(reinterpret_cast<const uint8_t*>(bytes.data())), end_(at_ + bytes.size()) {}
    uint64_t number() {
        uint64_t value = 0;
        return readVarint(at_, end_, value) ? value : 0;
    }
    std::string_view text() {
        std::string_view value;
        return readText(at_, end_, value) ? value : std::string_view();
    }

private:
    const uint8_t* at_;
    const uint8_t* end_;
};

/// Collects blocks into a file image: fills in sequence numbers and the index. `Sink` is called
/// with bytes to append and returns false where they could not be written.
template <class Sink>
class BlockFile {
public:
    explicit BlockFile(Sink sink) : sink_(std::move(sink)) {}
    /// Goes on behind the blocks a file already has.
    BlockFile(Sink sink, uint64_t offset, std::string index)
        : sink_(std::move(sink)),
          index_(std::move(index)),
          offset_(offset),
          sequence_(index_.size() / sizeof(IndexEntry)) {}

    bool writeHeader(FileHeader header) {
        sealFileHeader(header);
        return put({reinterpret_cast<const char*>(&header), sizeof header});
    }
    bool writeBlock(BlockType type, uint32_t lane, uint32_t count, uint64_t firstTicks, uint64_t lastTicks,
                    std::string_view payload, uint32_t position = 0) {
        BlockHeader header{};
        header.position = position;
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
        const std::string entries = index_;
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
