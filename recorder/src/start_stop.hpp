// SPDX-License-Identifier: MIT
//
// A recording's start and end, and what a fork makes of it.
#pragma once

#include "recorder_state.hpp"

namespace fugato::recording {

/// Returns 0 or an errno.
int start(const char* path, const fug_options& options);
void stop();
/// What is held in memory, and all that follows, goes to a file. Returns 0 or an errno value; ENODATA where nothing is
/// held.
int goOnInFile(const char* path);

}  // namespace fugato::recording
