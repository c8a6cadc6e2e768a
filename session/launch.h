// SPDX-License-Identifier: GPL-3.0-or-later
//
// Starts a program so that it is recorded. From one thread at a time.
#pragma once

#include <sys/types.h>

#include <fugato_moments.hpp>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "program_file.h"

namespace fugato {

/// A number of frames, or seconds.
struct RecordedAmount {
    std::optional<uint64_t> frames;
    std::optional<double> seconds;
};
/// "300f", "5s", "2.5s", or a number alone, which are seconds; nothing where it is none of these.
std::optional<RecordedAmount> amountIn(const std::string& text);

struct Launch {
    std::string program;  // a path, or a name to be found in PATH
    std::vector<std::string> arguments;
    std::string folder;  // in which it runs; empty: this one
    std::vector<std::pair<std::string, std::string>>
        environment;        // added to this process's, or in place of what is there
    std::string recording;  // the path to record to; empty: it is only offered, to be joined
    /// Words of FUGATO_COLLECT, separated by commas, and "memory"; empty: what is of use for that program.
    std::string collect;
    RecordedAmount leaveOut, length;    // neither of both: nothing, and all
    std::optional<MomentPlan> moments;  // only these are kept, each in a file whose name begins as the path's
};

class LaunchedProgram {
public:
    /// Starts it; a sentence where that cannot be done.
    static Result<LaunchedProgram> start(const Launch& launch);
    LaunchedProgram(LaunchedProgram&& other) noexcept;
    LaunchedProgram& operator=(LaunchedProgram&&) = delete;
    /// It goes on by itself.
    ~LaunchedProgram() = default;

    pid_t process() const { return process_; }
    const ProgramFile& file() const { return file_; }
    /// Waits at most so long. True once it has ended.
    bool waitFor(int ms);
    /// How it ended: "ended with exit code 3", "was killed by signal 9 (Killed)"; empty where it ended well or has not.
    std::string howItEnded() const;
    void signal(int number) const;

private:
    LaunchedProgram(pid_t process, ProgramFile file) : process_(process), file_(std::move(file)) {}
    pid_t process_;
    ProgramFile file_;
    std::optional<int> status_;  // as waitpid() tells it
};

/// Why there is no recording after the program has ended.
std::string whyNothingWasRecorded(const Launch& launch, const ProgramFile& file);

/// The library that records unmodified programs, with their memory or without; a sentence where it is not there.
Result<std::string> preloadLibrary(bool memory = false);

}  // namespace fugato
