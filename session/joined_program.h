// SPDX-License-Identifier: GPL-3.0-or-later
//
// A running program that is being recorded from here. It goes on as before when this ends. One thread at a time.
#pragma once

#include <fugato_moments.hpp>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "control_connection.h"
#include "running_programs.h"

namespace fugato {

struct JoinOptions {
    std::string collect;                // words of FUGATO_COLLECT; empty: what the program itself thinks fit
    std::optional<MomentPlan> moments;  // only these are kept
};

/// What a program tells of itself while it is recorded.
struct SessionState {
    bool recording = false;
    uint64_t frames = 0;         // begun since it offered itself
    uint64_t lost = 0;           // events
    std::string status;          // what went wrong last
    uint32_t saves = 0;          // moments saved so far
    std::string saved, because;  // the last one: its path, and why
};

class JoinedProgram {
public:
    /// Records it into a new file at `recording`; with moments, each into one whose name begins so.
    static Result<JoinedProgram> join(const std::string& socket, const std::string& recording,
                                      const JoinOptions& options);
    /// To switch and ask only: the program is recorded by its own plan.
    static Result<JoinedProgram> accompany(const std::string& socket);

    pid_t process() const { return connection_.process(); }
    /// A failure where it has ended or does not answer.
    Result<SessionState> look();
    /// It is no longer recorded; its recording is whole when this returns.
    Result<bool> leave();
    /// Categories met so far, with the detail that is recorded of each: -1 none, 0 coarse, 1 fine, 2 all.
    Result<std::vector<std::pair<std::string, int>>> categories();
    /// Of one category, or of all where that is empty.
    Result<bool> setDetail(const std::string& category, int level);
    Result<bool> saveMoment(const std::string& why);

private:
    explicit JoinedProgram(ControlConnection connection) : connection_(std::move(connection)) {}
    ControlConnection connection_;
};

/// What a program tells that was started from here: as soon as it, or a program that it started in its place, listens.
class ProgramState {
public:
    ProgramState(pid_t process, std::string recording) : process_(process), recording_(std::move(recording)) {}
    /// Nothing where it does not listen, or does not answer.
    std::optional<SessionState> look();
    /// Null as long as it does not listen.
    JoinedProgram* program() { return program_ ? &*program_ : nullptr; }

private:
    pid_t process_;
    std::string recording_;
    RunningPrograms running_;
    std::optional<JoinedProgram> program_;
};

}  // namespace fugato
