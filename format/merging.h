// SPDX-License-Identifier: GPL-3.0-or-later
//
// One recording of several programs that ran on one machine at the same time, from a recording of each: a game and its
// server, a program and the one that started it. The first program keeps its names; those of the others have their
// program's name before them. Lanes tell which program they are of. May run on any thread.
#pragma once

#include <string>
#include <vector>

#include "events.h"
#include "result.h"

namespace fugato {

struct MergePart {
    std::string file;  // for sentences, and as the program's name where the recording does not tell one
    EventStore recording;
};

/// Times are set side by side by the wall clock at each recording's start. Fails with a sentence where one does not
/// tell it, where the machines differ, or where the parts have no instant in common. What the system told of a thread
/// comes from its own program's recording while that lasts, and of all others from the first that tells of others.
/// The parts are used up.
Result<EventStore> mergeRecordings(std::vector<MergePart>& parts, const Progress& progress = {});

/// Reads two recordings or more, merges them and writes `out`, whose extension tells the form; nothing that is there is
/// written over. Returns the sentences about what could not be read in them.
Result<std::vector<std::string>> mergeRecordingFiles(const std::vector<std::string>& files, const std::string& out,
                                                     const Progress& progress = {});

}  // namespace fugato
