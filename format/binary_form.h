// SPDX-License-Identifier: GPL-3.0-or-later
//
// The binary form: blocks in, blocks out. See docs/recording-format.md.
#pragma once

#include <fugato_blocks.hpp>

#include "recording_file.h"

namespace fugato {

/// What a Damage notes of a recording without its index.
inline constexpr const char* kNotClosed =
    "The recording was not closed (its index is missing); everything found in the file is shown. "
    "The last instants before it ended may be missing.";

/// By its first bytes, or, where they are damaged, by its first block.
bool looksBinary(ByteSource& source);
/// Appends the whole recording to `write`; returns false where a write failed or it was cancelled.
bool writeBinary(const EventStore& store, const std::function<bool(std::string_view)>& write, const Progress& progress);

/// Writes the same recording with its events packed; returns how many. The ticks stay as they are.
Result<uint64_t> packBinary(ByteSource& source, const std::string& name,
                            const std::function<bool(std::string_view)>& write, const Progress& progress);

/// Where each block of a file lies. Read from the index, or found by walking over the blocks (fugato_blocks.hpp).
using BlockDirectory = layout::FoundBlocks;
using layout::findBlocks;
/// Tells how far a search for blocks is: the first tenth of opening.
layout::GoOn searchProgress(const Progress& progress, uint64_t bytes);
using layout::findMoreBlocks;
using layout::readPayload;
bool holdsEvents(uint32_t blockType);

}  // namespace fugato
