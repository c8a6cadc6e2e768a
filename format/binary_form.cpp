// SPDX-License-Identifier: GPL-3.0-or-later
#include "binary_form.h"

#include <algorithm>
#include <cstring>
#include <deque>

#include "binary_reader.h"
#include "packed_events.h"

namespace fugato {

using namespace layout;

bool holdsEvents(uint32_t type) {
    return type == static_cast<uint32_t>(BlockType::Events) || type == static_cast<uint32_t>(BlockType::PackedEvents);
}

layout::GoOn searchProgress(const Progress& progress, uint64_t bytes) {
    constexpr double kShare = 0.1;
    if (!progress) return {};
    return [&progress, bytes](uint64_t offset) {
        return progress(kShare * static_cast<double>(offset) / static_cast<double>(std::max<uint64_t>(1, bytes)));
    };
}

bool looksBinary(ByteSource& source) {
    unsigned char magic[8]{};
    BlockHeader header;
    return (readStruct(source, 0, magic) && std::memcmp(magic, kFileMagic, 8) == 0) ||
           readBlockHeader(source, sizeof(FileHeader), header);  // its first bytes are damaged, its blocks are whole
}

bool writeBinary(const EventStore& store, const std::function<bool(std::string_view)>& write,
                 const Progress& progress) {
    BlockFile file(write);
    FileHeader header{};
    header.clock = static_cast<uint32_t>(ClockKind::Nanoseconds);
    header.nsPerTick = 1;
    header.startedUnixNs = store.startedUnixNs;
    if (!file.writeHeader(header)) return false;

    std::string definitions;
    for (const Definition& definition : store.definitions)
        std::visit([&](const auto& d) { appendDefinition(definitions, d); }, definition);
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
            readPayload(source, block, payload) && !readEvents(block, payload, [&](std::span<const RawEvent> events) {
                for (RawEvent kept : events) {
                    if (!kept.text.empty()) {
                        gathered.textBytes += kept.text.size();
                        kept.text = gathered.texts.emplace_back(kept.text);
                    }
                    gathered.events.push_back(kept);
                }
            });
        if (!whole) return Failure{name + " is damaged; only whole recordings are packed. Convert it to mend it."};
        if (gathered.events.size() >= kMostPackedEvents / 2 || gathered.textBytes > (8u << 20))
            flush(block.lane, gathered);
    }
    for (auto& [lane, gathered] : lanes) flush(lane, gathered);
    good = good && file.writeIndex();
    if (!good) return Failure{"Cannot write the packed form of " + name + ".", false, true};
    return packed;
}

}  // namespace fugato
