// SPDX-License-Identifier: MIT
//
// Finds the blocks of a .fugato file: by its index, or by walking over them. Shared by whoever reads
// recordings and by whoever makes unclosed ones whole. A `Source` has size() and
// read(offset, out, count), which returns how many bytes it could read. Reads at most the file once
// and takes memory in proportion to the blocks that are there. Throws std::bad_alloc only.
#pragma once

#include <algorithm>
#include <fugato_layout.hpp>
#include <functional>
#include <vector>

namespace fugato::layout {

struct FoundBlocks {
    std::vector<IndexEntry> blocks;
    bool indexed = false;
    uint64_t gaps = 0;  // ranges of bytes that are no block
    bool cancelled = false;
};

/// Asked now and then during a long search, with how far it is; returns false to end it. May be empty.
using GoOn = std::function<bool(uint64_t offset)>;

template <class T, class Source>
bool readStruct(Source& source, uint64_t offset, T& out) {
    return source.read(offset, reinterpret_cast<char*>(&out), sizeof out) == sizeof out;
}

template <class Source>
bool readBlockHeader(Source& source, uint64_t offset, BlockHeader& header) {
    return readStruct(source, offset, header) && header.magic == kBlockMagic &&
           header.checksum == checksum(&header, offsetof(BlockHeader, checksum));
}

inline uint64_t blockBytes(uint32_t payloadBytes) {
    return sizeof(BlockHeader) + uint64_t{payloadBytes} + padding(payloadBytes);
}

/// Reads the payload of the block at an entry. Returns false where it is cut or damaged.
template <class Source>
bool readPayload(Source& source, const IndexEntry& block, std::string& payload) {
    BlockHeader header;
    if (!readBlockHeader(source, block.offset, header)) return false;
    if (header.type != block.type || header.payloadBytes != block.payloadBytes || header.version != 1) return false;
    if (block.offset > source.size() || header.payloadBytes > source.size() - block.offset) return false;
    payload.resize(header.payloadBytes);
    if (source.read(block.offset + sizeof header, payload.data(), payload.size()) != payload.size()) return false;
    return checksum(payload.data(), payload.size()) == header.payloadChecksum;
}

inline IndexEntry entryOf(uint64_t at, const BlockHeader& header) {
    return {at,          header.firstTicks, header.lastTicks, header.sequence, header.payloadBytes,
            header.lane, header.count,      header.type};
}

/// The next offset from `from` on at which a block header stands, or the size where there is none or it was cancelled.
template <class Source>
uint64_t findNextBlock(Source& source, uint64_t from, const GoOn& goOn = {}) {
    std::string window(1 << 16, '\0');
    char magic[4];
    std::memcpy(magic, &kBlockMagic, 4);
    while (from < source.size() && (!goOn || goOn(from))) {
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

/// The index at the end of a closed file. It is believed only where its blocks follow each other within the
/// file, so that they never hold more than the file does.
template <class Source>
bool readIndex(Source& source, FoundBlocks& found) {
    Trailer trailer;
    BlockHeader header;
    if (source.size() < sizeof(FileHeader) + sizeof(Trailer)) return false;
    if (!readStruct(source, source.size() - sizeof trailer, trailer) || trailer.magic != kTrailerMagic) return false;
    if (trailer.checksum != checksum(&trailer.indexOffset, sizeof trailer.indexOffset)) return false;
    if (!readBlockHeader(source, trailer.indexOffset, header)) return false;
    if (header.type != static_cast<uint16_t>(BlockType::Index)) return false;
    std::string payload;
    if (!readPayload(source, entryOf(trailer.indexOffset, header), payload)) return false;
    std::vector<IndexEntry> blocks(payload.size() / sizeof(IndexEntry));
    if (!blocks.empty()) std::memcpy(blocks.data(), payload.data(), blocks.size() * sizeof(IndexEntry));
    uint64_t at = sizeof(FileHeader);
    for (const IndexEntry& block : blocks) {
        if (block.offset < at || block.offset > trailer.indexOffset ||
            blockBytes(block.payloadBytes) > trailer.indexOffset - block.offset)
            return false;
        at = block.offset + blockBytes(block.payloadBytes);
    }
    found.blocks = std::move(blocks);
    found.indexed = true;
    return true;
}

/// By the index, else by walking over the file.
template <class Source>
FoundBlocks findBlocks(Source& source, const GoOn& asked = {}) {
    FoundBlocks found;
    if (readIndex(source, found)) return found;
    const GoOn goOn = [&](uint64_t offset) {
        found.cancelled = found.cancelled || (asked && !asked(offset));
        return !found.cancelled;
    };
    for (uint64_t at = sizeof(FileHeader); at < source.size() && goOn(at);) {
        BlockHeader header;
        if (!readBlockHeader(source, at, header)) {
            const uint64_t next = findNextBlock(source, at + 1, goOn);
            Trailer trailer;  // the trailer of a closed file is no gap
            const bool isTrailer = source.size() - at == sizeof trailer && readStruct(source, at, trailer) &&
                                   trailer.magic == kTrailerMagic;
            if (!isTrailer) ++found.gaps;
            at = next;
            continue;
        }
        found.blocks.push_back(entryOf(at, header));
        at += blockBytes(header.payloadBytes);
    }
    return found;
}

/// Adds the blocks that lie whole behind `from` in a file that is still being written. Returns where they end.
template <class Source>
uint64_t findMoreBlocks(Source& source, uint64_t from, std::vector<IndexEntry>& blocks) {
    for (BlockHeader header;
         readBlockHeader(source, from, header) && header.type != static_cast<uint32_t>(BlockType::Index) &&
         blockBytes(header.payloadBytes) <= source.size() - from;
         from += blockBytes(header.payloadBytes))
        blocks.push_back(entryOf(from, header));
    return from;
}

}  // namespace fugato::layout
