// SPDX-License-Identifier: GPL-3.0-or-later
//
// A recording whose program still runs, read as it grows: each time only what came since. Use from one thread at a
// time; the recordings it hands out belong to whoever has them, and outlive it.
#pragma once

#include "open_recording.h"

namespace fugato {

class GrowingRecording {
public:
    /// Of any bytes of which more come; `name` is used in sentences. Nothing is read yet. What it reads lies in
    /// options.indexFolder, or in memory where there is none.
    GrowingRecording(std::unique_ptr<ByteSource> source, std::string name, const OpenOptions& options);
    /// Of a file.
    GrowingRecording(const std::string& path, const OpenOptions& options);
    ~GrowingRecording();

    /// The recording as it is now. The first time all of it is read. Null where there is nothing to go on with: its
    /// program no longer writes it, it became shorter, or it is no recording any more; then it is to be opened anew.
    std::shared_ptr<const Recording> read(const Progress& progress = {});

    /// Reads what has come and returns the frames of a series from `number` on: quicker than read(), which makes a
    /// recording that holds them. Null where read() has to tell first what has become of it.
    std::shared_ptr<const std::vector<NewFrame>> readFrames(size_t number, const std::string& series);

private:
    struct Reading;
    bool readOn(const Progress& progress);
    const std::unique_ptr<ByteSource> source_;  // null: the file could not be opened
    const std::string name_;
    OpenOptions options_;  // `before`: what was handed out last
    uint64_t bytes_ = 0;   // that have been looked at
    std::unique_ptr<Reading> reading_;
};

}  // namespace fugato
