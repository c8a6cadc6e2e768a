// SPDX-License-Identifier: MIT
//
// A recording's start and end, and what a fork makes of it.
#pragma once

#include "recorder_state.hpp"

namespace fugato::recording {

/// Returns 0 or an errno.
int start(const char* path, const fug_options& options);
void stop();

}  // namespace fugato::recording
