// SPDX-License-Identifier: GPL-3.0-or-later
//
// What names the same thing in another recording of a program, where numbers are others: texts made of kinds and names.
// Their parts are joined by '/', and keys to longer ones by '|'; such a letter, or a '\', in a name has a '\' before
// it. Functions here only read, on any thread.
#pragma once

#include "recording.h"

namespace fugato {

/// A recording's own id: the UUID that its recorder gave it, and copies, packed and converted ones keep. Where there is
/// none (recordings of older recorders, files of others), one made of what it tells of its start.
std::string recordingId(const Recording& recording);

/// Joins names to a key, and keys to a longer one.
std::string keyOf(const std::vector<std::string>& names);
std::string joinedKeys(const std::vector<std::string>& keys);
/// "thread/main"; "thread/worker/2" for the third of those that have one kind and role.
std::vector<std::string> laneKeys(const Recording& recording);
/// "thread/worker": lanes of one kind and role, or one lane that stands alone.
std::string groupKey(const Recording& recording, uint32_t group);
/// "Race frame/Simulate/Wind": a marker with its callers; empty for none.
std::string pathKey(const Recording& recording, PathId path);

}  // namespace fugato
