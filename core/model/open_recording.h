// SPDX-License-Identifier: GPL-3.0-or-later
//
// Opens recordings: reads a file of either form into a model, lanes side by side on all cores. Large
// recordings are built in an index file (recording_index.h), which opens at once the next time.
#pragma once

#include "model_builder.h"

namespace fugato {

inline constexpr uint64_t kUsualMemoryBytes = 1'500'000'000;

struct OpenOptions {
    unsigned threads = 0;                            // 0: as many as there are cores
    std::string indexFolder;                         // where indexes lie; empty: none is read or kept
    uint64_t indexFromBytes = 48u << 20;             // recordings of at least this size get one
    uint64_t indexFolderBytes = uint64_t{20} << 30;  // the indexes used longest ago make room
    uint64_t memoryBytes = kUsualMemoryBytes;        // what the process should not exceed, where an index is there
    std::string note;  // what was done to the file before (makeRecordingWhole), told before what is wrong in it
    /// The same recording as it was read before, while it grows: markers keep the numbers of their paths.
    std::shared_ptr<const Recording> before;
    /// Told, on the thread that opens, what can be shown already: lanes are missing, and nothing is known that needs
    /// all of them. Only for recordings that get an index.
    std::function<void(std::shared_ptr<const Recording>)> early;
};
/// A storage in the folder for indexes, or in memory where there is none.
std::shared_ptr<Storage> storageFor(const OpenOptions& options);
/// With indexes where they usually lie.
OpenOptions usualOpenOptions();

/// Reads a file of either form into a model.
Result<std::shared_ptr<const Recording>> openRecording(const std::string& path, const Progress& progress = {},
                                                       const OpenOptions& options = {});
/// The same from any bytes; `name` is used in sentences. Without an index.
Result<std::shared_ptr<const Recording>> openRecording(ByteSource& source, const std::string& name,
                                                       const Progress& progress = {}, const OpenOptions& options = {});

}  // namespace fugato
