// SPDX-License-Identifier: GPL-3.0-or-later
//
// Opens recordings as sources of bytes, closed or not, and never writes. What a killed program had published but
// not yet written still lies in its buffers (docs/recording-format.md, "The file of buffers"): it is read as if it
// stood in the file. Putting it there is a step of its own.
#pragma once

#include "byte_source.h"
#include "events.h"

namespace fugato {

/// The note on a recording whose program still runs.
inline constexpr const char* kBeingMade = "The recording is still being made; what is in the file so far is shown.";

struct OpenedRecording {
    std::unique_ptr<ByteSource> source;
    std::string note;  // one sentence for the person; empty where nothing was special
    uint64_t rescuedEvents = 0;
    bool beingWritten = false;  // by a program that still runs
};

Result<OpenedRecording> openRecordingSource(const std::string& path, const Progress& progress = {});

/// Puts into the recording of a program that was killed what still lies in its buffers, and closes it for good; all
/// of it or nothing. Does nothing to any other. Returns a sentence for the person, empty where there was nothing to
/// do or it could not be done (opening then says why).
std::string makeRecordingWhole(const std::string& path, const Progress& progress = {});
/// The same for whatever killed programs of this user left behind. May take long where there are many.
void makeLeftRecordingsWhole();

/// Says so, in the place of what is then no damage.
void noteBeingWritten(Damage& damage);
/// Puts what was special about opening before what was wrong in the file.
void noteOpening(Damage& damage, const std::string& note, bool beingWritten = false);

}  // namespace fugato
