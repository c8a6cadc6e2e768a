// SPDX-License-Identifier: GPL-3.0-or-later
//
// The programs on this machine that offer themselves to be recorded by this user, as they come and go. One thread at a
// time.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "control_connection.h"

namespace fugato {

struct RunningProgram {
    std::string socket;  // tells it from others
    pid_t process = 0;   // 0: not visible from here
    std::string device;  // on which it runs; empty: this machine
    std::string name, build;
    std::string executable;                 // empty where it cannot be seen
    std::optional<int64_t> sinceUnixNs;     // when it was started
    std::optional<double> framesPerSecond;  // from the second look on
    enum class Recorded { No, Own, Joined } recorded = Recorded::No;
    std::string recording;  // the path, where it is recorded now
    std::string trouble;    // why it cannot be joined
};

class RunningPrograms {
public:
    /// Where looks follow each other; and where there is but one, by when a program on a device at the end of a slow
    /// line has answered too.
    static constexpr int kPatienceMs = 500, kFirstPatienceMs = 3000;
    /// Asks all of them; those that have not answered after `patienceMs` are told at the next look, once they have. In
    /// the order of their names. A sentence where the folder of sockets is not this user's alone.
    Result<std::vector<RunningProgram>> look(int patienceMs = kPatienceMs);

private:
    struct Known {
        std::optional<ControlConnection> connection;  // none: it cannot be had
        RunningProgram program;
        bool asked = false, answered = false;
        uint64_t now = 0, frames = 0;  // of the last answer
    };
    void connectNew(const std::string& folder);
    static void take(Known& known, const control::Message& answer);

    std::map<std::string, Known> known_;  // by socket
};

/// "ferry (process 4711)"
std::string nameOf(const RunningProgram& program);
/// The one of that name or number of its process; without either the only one, or the only one that is being recorded.
/// Waits a moment. Else a sentence says what there is.
Result<RunningProgram> runningProgram(const std::string& which, bool thatIsRecorded = false);

}  // namespace fugato
