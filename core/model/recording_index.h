// SPDX-License-Identifier: GPL-3.0-or-later
//
// The index of a recording: its columns and summaries as a file, so that opening it again takes no
// reading of events. Described in docs/index-file.md. An index is only a copy: it may be deleted at
// any time, and one that does not fit its recording is made anew.
#pragma once

#include "recording.h"

namespace fugato {

/// The folder for indexes: $XDG_CACHE_HOME/fugato/indexes, else ~/.cache/fugato/indexes; empty where
/// neither is known.
std::string indexFolder();
/// Where the index of the recording at `path` lies.
std::string indexPathFor(const std::string& folder, const std::string& path);
/// Tells one state of a file from others: its size, its time of change, its first and last bytes.
/// 0 where it cannot be read.
uint64_t stateOfFile(const std::string& path);

/// What of a recording does not lie in columns, and where its columns lie in its storage.
std::string toArchive(Recording& recording);
/// Takes that out again, into a recording that has its storage already. False where the bytes do not fit, whatever
/// they are.
bool takeArchive(Recording& recording, std::string& bytes);

/// Finishes the file in which `recording` was built: what does not lie in its storage is put behind it,
/// and the file becomes valid for `state`. Returns false where it could not be.
bool completeIndex(Recording& recording, uint64_t state);
/// The recording of an index that is valid for `state`; else null.
std::shared_ptr<Recording> loadIndex(const std::string& indexPath, uint64_t state);
/// Removes the index of a recording and what was kept beside it, so that it is made anew.
void forgetIndex(const Recording& recording);
/// Deletes the indexes used longest ago until the folder holds at most `bytes`, but never `keep`.
void limitIndexFolder(const std::string& folder, uint64_t bytes, const std::string& keep);

}  // namespace fugato
