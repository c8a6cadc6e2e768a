// SPDX-License-Identifier: GPL-3.0-or-later
//
// The person's folder of recordings. Any thread.
#pragma once

#include <string>
#include <vector>

#include "format/result.h"

namespace fugato {

/// $XDG_DATA_HOME/fugato/recordings, made if need be, for this user alone.
Result<std::string> recordingsFolder();

/// "PROGRAM-20261128-142536.fugato" in a folder: no other recording has that name, nor one that begins so.
std::string newRecordingPath(const std::string& folder, const std::string& program);

/// All recordings that were made for a path: "run.fugato", and where several processes recorded "run-2.fugato"…; those
/// that are there, in this order.
std::vector<std::string> recordingsMadeFor(const std::string& path);

}  // namespace fugato
