// SPDX-License-Identifier: GPL-3.0-or-later
//
// Recordings as files: the binary form (docs/recording-format.md) and the text form
// (docs/text-form.md). Functions here may run on any thread; they share nothing.
#pragma once

#include <string>

#include "byte_source.h"
#include "events.h"
#include "result.h"

namespace fugato {

/// Reads a recording of either form from `source` into `sink`. `name` is used in sentences. Fails
/// where nothing at all could be read; otherwise what is missing is told in the Damage.
Result<Damage> readRecording(ByteSource& source, const std::string& name, EventSink& sink,
                             const Progress& progress = {});

/// The same, from a file; with what a killed program left in its buffers (opening.h).
Result<Damage> readRecordingFile(const std::string& path, EventSink& sink, const Progress& progress = {});

/// Writes by the extension of `path`: .fugato binary, .jsonl text.
Result<std::monostate> writeRecordingFile(const std::string& path, const EventStore& store,
                                          const Progress& progress = {});

/// Packs a binary recording into `out` (which may be the same path). Returns the bytes it then has.
Result<uint64_t> packRecordingFile(const std::string& path, const std::string& out, const Progress& progress = {});

/// The file's own parts, for `fugato-cli info`.
struct FileFacts {
    bool binary = false;
    uint64_t bytes = 0;
    uint64_t blocks = 0;
    bool indexed = false;
};
FileFacts lookAtFile(ByteSource& source);

}  // namespace fugato
