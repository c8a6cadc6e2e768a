// SPDX-License-Identifier: GPL-3.0-or-later
//
// fugato-cli: every computation without a display. docs/cli.md describes commands, output and exit codes.
#pragma once

#include <ostream>
#include <string>

namespace fugato {

enum ExitCode : int {
    kExitOk = 0,
    kExitWrongUse = 2,      // options or arguments
    kExitUnreadable = 3,    // the file cannot be opened, is empty, or is no recording
    kExitNotWritten = 4,    // the output cannot be written
    kExitNothingFound = 5,  // the recording has no such series, or no frames at all
    kExitNoMemory = 6,      // memory or threads could not be had
};

/// Runs one command; output and sentences go to the two streams. Returns an ExitCode.
int runCli(int argc, const char* const* argv, std::ostream& out, std::ostream& err);

}  // namespace fugato
