// SPDX-License-Identifier: GPL-3.0-or-later
//
// Opens recordings that were never closed. What a killed program had published but not yet written
// still lies in its buffers (docs/recording-format.md, "The file of buffers"); it is put behind the
// blocks the recording has, which is then closed for good. Where the file may not be written, the
// same bytes are read from memory and the buffers are left alone.
#pragma once

#include "byte_source.h"
#include "events.h"

namespace fugato {

struct OpenedRecording {
    std::unique_ptr<ByteSource> source;
    std::string note;  // one sentence for the person; empty where nothing was special
    uint64_t rescuedEvents = 0;
    bool beingWritten = false;  // by a program that still runs
};

Result<OpenedRecording> openRecordingSource(const std::string& path);
/// The process that still writes a recording, or 0.
long writerOf(const std::string& path);
/// Says so, in the place of what is then no damage.
void noteBeingWritten(Damage& damage, long writer);
/// Puts what was special about opening before what was wrong in the file.
void noteOpening(Damage& damage, const OpenedRecording& opened);

}  // namespace fugato
