// SPDX-License-Identifier: GPL-3.0-or-later
//
// Shared by the commands that record: handling of Ctrl+C, the path of a new recording, the report at the end.
#pragma once

#include <signal.h>

#include <ostream>
#include <string>
#include <vector>

#include "session/joined_program.h"

namespace fugato {

/// While it lives Ctrl+C and SIGTERM are counted and do not end this program.
class TakeInterrupts {
public:
    TakeInterrupts();
    ~TakeInterrupts();
    TakeInterrupts(const TakeInterrupts&) = delete;
    TakeInterrupts& operator=(const TakeInterrupts&) = delete;
    /// So far.
    int count() const;
    /// Whether the last one was sent to this program alone, not to all of the terminal.
    bool onlyHere() const;

private:
    struct sigaction before_[2]{};
};

/// `to`, which must be new and end in .fugato; where that is empty, a new one in the person's folder.
Result<std::string> newRecordingFor(const std::string& to, const std::string& program);

/// Says of each saved moment where it is and why, once.
class SavesTold {
public:
    void tell(const SessionState& state, std::ostream& err, bool terminal);

private:
    uint32_t told_ = 0;
};

std::string momentsNotUnderstood(const std::string& text);

/// What each recording came to, as text or as one list of JSON. Returns an ExitCode.
int tellRecordings(const std::vector<std::string>& paths, bool json, std::ostream& out, std::ostream& err);

}  // namespace fugato
