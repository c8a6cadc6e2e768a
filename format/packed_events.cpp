// SPDX-License-Identifier: GPL-3.0-or-later
#include "packed_events.h"

#include <zstd.h>

#include <algorithm>
#include <array>
#include <cstring>

namespace fugato {

using namespace layout;

namespace {

// The columns, in this order. Times are split by what the event is, since a marker's begin follows its
// predecessor closely while its end tells how long it took.
enum Column {
    Kinds,
    BeginIds,
    OtherIds,
    BeginTimes,
    BeginBits,
    EndTimes,
    EndBits,
    OtherTimes,
    OtherBits,
    Values,
    Texts,
    kColumns
};

constexpr size_t kBatch = 512;  // events handed on at once
/// What one event takes in each column at most: bytes of kinds and symbols, varints, bits that remain of a number.
constexpr uint64_t kMostEachTakes[kColumns] = {1, 10, 10, 1, 8, 1, 8, 1, 8, 20, 10};

/// Numbers as a symbol each (their size and leading bits) and the remaining bits: below 16 the number
/// itself; else 16 + 4 · (bits − 5) + the two bits after the leading one, and the others as they are.
struct BitWriter {
    std::string& symbols;
    std::string& bits;
    uint64_t held = 0;
    int count = 0;

    void number(uint64_t value) {
        if (value < 16) {
            symbols.push_back(static_cast<char>(value));
            return;
        }
        const int size = 64 - __builtin_clzll(value), rest = size - 3;
        symbols.push_back(static_cast<char>(16 + 4 * (size - 5) + static_cast<int>(value >> rest & 3)));
        raw(value & ((uint64_t{1} << rest) - 1), rest);
    }
    void raw(uint64_t value, int size) {
        for (; size > 0;) {
            const int part = std::min(size, 8 - count);
            held |= (value & ((uint64_t{1} << part) - 1)) << count;
            value >>= part;
            size -= part;
            count += part;
            if (count == 8) flush();
        }
    }
    void flush() {
        if (!count) return;
        bits.push_back(static_cast<char>(held));
        held = 0;
        count = 0;
    }
};

struct BitReader {
    std::string_view symbols, bits;
    size_t symbolAt = 0, bitAt = 0;

    bool number(uint64_t& value) {
        if (symbolAt >= symbols.size()) return false;
        const auto symbol = static_cast<unsigned char>(symbols[symbolAt++]);
        if (symbol < 16) {
            value = symbol;
            return true;
        }
        const int size = 5 + (symbol - 16) / 4, rest = size - 3;
        uint64_t low = 0;
        for (int done = 0; done < rest;) {
            if (bitAt / 8 >= bits.size()) return false;
            const int offset = static_cast<int>(bitAt % 8), part = std::min(rest - done, 8 - offset);
            const uint64_t byte = static_cast<unsigned char>(bits[bitAt / 8]);
            low |= (byte >> offset & ((uint64_t{1} << part) - 1)) << done;
            done += part;
            bitAt += static_cast<size_t>(part);
        }
        value = (uint64_t{4} | static_cast<uint64_t>((symbol - 16) & 3)) << rest | low;
        return true;
    }
};

int timesOf(Kind kind) {
    return kind == Kind::MarkBegin || kind == Kind::WaitBegin || kind == Kind::FrameBegin ? BeginTimes
           : kind == Kind::MarkEnd || kind == Kind::WaitEnd || kind == Kind::FrameEnd     ? EndTimes
                                                                                          : OtherTimes;
}

bool idIsZero(Kind kind) { return kind == Kind::MarkEnd || kind == Kind::WaitEnd || kind == Kind::LaneEnd; }

}  // namespace

std::optional<uint64_t> unpackedBytes(std::string_view payload, uint32_t count) {
    if (count > kMostPackedEvents) return std::nullopt;
    const auto* at = reinterpret_cast<const uint8_t*>(payload.data());
    const auto* end = at + payload.size();
    uint64_t sum = 0;
    for (int column = 0; column < kColumns; ++column) {
        uint64_t size = 0, packed = 0;
        if (!readVarint(at, end, size) || !readVarint(at, end, packed)) return std::nullopt;
        if (size > kMostEachTakes[column] * count + (column == Texts ? kMostTextBytes : 0)) return std::nullopt;
        const uint64_t stored = packed ? packed : size;
        if (stored > static_cast<uint64_t>(end - at)) return std::nullopt;
        at += stored;
        sum += size;
    }
    return sum;
}

std::vector<std::string> eventColumns(const std::vector<RawEvent>& events, uint64_t firstTicks) {
    std::vector<std::string> columns(kColumns);
    BitWriter times[3] = {{columns[BeginTimes], columns[BeginBits]},
                          {columns[EndTimes], columns[EndBits]},
                          {columns[OtherTimes], columns[OtherBits]}};
    uint64_t previous = firstTicks, lastA = 0;
    uint32_t lastId = 0;
    for (const RawEvent& event : events) {
        columns[Kinds].push_back(static_cast<char>(event.kind));
        times[(timesOf(event.kind) - BeginTimes) / 2].number(zigzag(static_cast<int64_t>(event.ticks - previous)));
        previous = event.ticks;
        if (event.kind == Kind::MarkBegin)
            appendVarint(columns[BeginIds], event.id);
        else if (!idIsZero(event.kind))
            appendVarint(columns[OtherIds], zigzag(static_cast<int64_t>(event.id) - lastId)), lastId = event.id;
        if (kindHasA(event.kind)) {  // links and addresses mostly rise a little
            appendVarint(columns[Values], zigzag(static_cast<int64_t>(event.a - lastA)));
            lastA = event.a;
        }
        if (kindHasB(event.kind)) appendVarint(columns[Values], event.b);
        if (kindHasText(event.kind)) appendText(columns[Texts], event.text);
    }
    for (BitWriter& writer : times) writer.flush();
    return columns;
}

std::string packEvents(const std::vector<RawEvent>& events, uint64_t firstTicks, int level) {
    std::string payload, compressed;
    for (const std::string& column : eventColumns(events, firstTicks)) {
        compressed.resize(ZSTD_compressBound(column.size()));
        const size_t size = ZSTD_compress(compressed.data(), compressed.size(), column.data(), column.size(), level);
        const bool packed = !ZSTD_isError(size) && size < column.size();
        appendVarint(payload, column.size());
        appendVarint(payload, packed ? size : 0);  // 0: as it is
        payload.append(packed ? compressed.data() : column.data(), packed ? size : column.size());
    }
    return payload;
}

bool unpackEvents(std::string_view payload, uint32_t count, uint64_t firstTicks,
                  const std::function<void(std::span<const RawEvent>)>& take) {
    if (!unpackedBytes(payload, count)) return false;
    std::array<std::string, kColumns> columns;
    const auto* at = reinterpret_cast<const uint8_t*>(payload.data());
    const auto* end = at + payload.size();
    for (std::string& column : columns) {
        uint64_t size = 0, packed = 0;
        if (!readVarint(at, end, size) || !readVarint(at, end, packed)) return false;
        const uint64_t stored = packed ? packed : size;
        if (!packed) {
            column.assign(reinterpret_cast<const char*>(at), size);
        } else {
            // No memory beyond what the frame itself says it holds.
            if (ZSTD_getFrameContentSize(at, packed) != size) return false;
            column.resize(size);
            const size_t got = ZSTD_decompress(column.data(), size, at, packed);
            if (ZSTD_isError(got) || got != size) return false;
        }
        at += stored;
    }
    if (columns[Kinds].size() != count) return false;
    BitReader times[3] = {{columns[BeginTimes], columns[BeginBits]},
                          {columns[EndTimes], columns[EndBits]},
                          {columns[OtherTimes], columns[OtherBits]}};
    struct Cursor {
        const uint8_t* at;
        const uint8_t* end;
        explicit Cursor(const std::string& column)
            : at(reinterpret_cast<const uint8_t*>(column.data())), end(at + column.size()) {}
    } beginIds(columns[BeginIds]), otherIds(columns[OtherIds]), values(columns[Values]), texts(columns[Texts]);
    uint64_t previous = firstTicks, lastA = 0, number = 0;
    uint32_t lastId = 0;
    RawEvent batch[kBatch];
    size_t filled = 0;
    const auto next = [&](char kind, RawEvent& event) {
        event = {};
        event.kind = static_cast<Kind>(kind);
        if (kind == 0) return false;
        if (!times[(timesOf(event.kind) - BeginTimes) / 2].number(number)) return false;
        event.ticks = previous += static_cast<uint64_t>(unzigzag(number));
        if (event.kind == Kind::MarkBegin) {
            if (!readVarint(beginIds.at, beginIds.end, number)) return false;
            event.id = static_cast<uint32_t>(number);
        } else if (!idIsZero(event.kind)) {
            if (!readVarint(otherIds.at, otherIds.end, number)) return false;
            event.id = lastId = static_cast<uint32_t>(lastId + unzigzag(number));
        }
        if (kindHasA(event.kind)) {
            if (!readVarint(values.at, values.end, number)) return false;
            event.a = lastA += static_cast<uint64_t>(unzigzag(number));
        }
        if (kindHasB(event.kind) && !readVarint(values.at, values.end, event.b)) return false;
        return !kindHasText(event.kind) || readText(texts.at, texts.end, event.text);
    };
    bool good = true;
    for (size_t i = 0; i < columns[Kinds].size() && good; ++i) {
        good = next(columns[Kinds][i], batch[filled]);
        if (good && ++filled == kBatch) {
            take({batch, filled});
            filled = 0;
        }
    }
    if (filled) take({batch, filled});
    return good;
}

}  // namespace fugato
