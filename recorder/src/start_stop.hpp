// SPDX-License-Identifier: MIT
//
// A recording's start and end, and what a fork makes of it.
#pragma once

#include <fugato_moments.hpp>
#include <mutex>
#include <optional>

#include "recorder_state.hpp"

namespace fugato::recording {

/// Who starts and stops takes it first: the program, the plan it was launched with, or a client. Taken before
/// outputMutex.
Mutex& runMutex();

/// Which clock fug_now() reads from here on; what is told of it before a recording must hold in it. True: the
/// time-stamp counter.
bool chooseClock(const fug_options& options);

/// Returns 0 or an errno value. What is recorded already ends.
/// With `moments` only what that plan says is kept.
int start(const char* path, const fug_options& options, RunBy by, const std::optional<MomentPlan>& moments = {});
void stop();
/// Before the process exits: all that is recorded is written, and what need not stay is removed.
void seeToExit();
/// What is held in memory, and all that follows, goes to a file. Returns 0 or an errno value; ENODATA where nothing is
/// held.
int goOnInFile(const char* path);

}  // namespace fugato::recording
