// SPDX-License-Identifier: GPL-3.0-or-later
//
// What names the same thing in another recording of a program, where numbers are others: texts made of kinds and names.
// Their parts are joined by '/'; a '/' or '\' in a name has a '\' before it. Functions here only read, on any thread.
#pragma once

#include "recording.h"

namespace fugato {

/// Joins parts to a key.
std::string keyOf(const std::vector<std::string>& parts);
/// "thread/main"; "thread/worker/2" for the third of those that have one kind and role.
std::vector<std::string> laneKeys(const Recording& recording);
/// "thread/worker": lanes of one kind and role, or one lane that stands alone.
std::string groupKey(const Recording& recording, uint32_t group);
/// "Race frame/Simulate/Wind": a marker with its callers; empty for none.
std::string pathKey(const Recording& recording, PathId path);

}  // namespace fugato
