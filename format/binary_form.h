// SPDX-License-Identifier: GPL-3.0-or-later
//
// The binary form: blocks in, blocks out. See docs/recording-format.md.
#pragma once

#include "recording_file.h"

namespace fugato {

/// What a Damage notes of a recording without its index.
inline constexpr const char* kNotClosed =
    "The recording was not closed (its index is missing); everything found in the file is shown. "
    "The last instants before it ended may be missing.";

bool looksBinary(ByteSource& source);
/// Appends the whole recording to `write`; returns false where a write failed or it was cancelled.
bool writeBinary(const EventStore& store, const std::function<bool(std::string_view)>& write, const Progress& progress);

/// Writes the same recording with its events packed; returns how many. The ticks stay as they are.
Result<uint64_t> packBinary(ByteSource& source, const std::string& name,
                            const std::function<bool(std::string_view)>& write, const Progress& progress);

/// Where each block of a file lies. Read from the index, or found by walking over the blocks.
struct BlockDirectory {
    std::vector<layout::IndexEntry> blocks;
    bool indexed = false;
    uint64_t gaps = 0;  // stretches of bytes that are no block
};
BlockDirectory findBlocks(ByteSource& source);
/// Adds the blocks that lie whole behind `from` in a file that is still being written. Returns where they end.
uint64_t findMoreBlocks(ByteSource& source, uint64_t from, std::vector<layout::IndexEntry>& blocks);
bool holdsEvents(uint32_t blockType);
/// Reads the payload of the block at an entry. Returns false where it is cut or damaged.
bool readPayload(ByteSource& source, const layout::IndexEntry& block, std::string& payload);

}  // namespace fugato
