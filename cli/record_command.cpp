// SPDX-License-Identifier: GPL-3.0-or-later
#include "record_command.h"

#include <signal.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <iomanip>

#include "command_parts.h"
#include "commands.h"
#include "core/explain/words/quantities.h"
#include "format/number_text.h"
#include "format/recording_file.h"
#include "session/collecting.h"
#include "session/recordings_folder.h"
#include "session/running_programs.h"
#include "session_parts.h"

namespace fugato {

namespace {

constexpr int kLookEveryMs = 250;
constexpr auto kPatience = std::chrono::seconds(5);  // with a program that was asked to end

uint64_t bytesOf(const std::vector<std::string>& files) {
    uint64_t bytes = 0;
    std::error_code none;
    for (const std::string& file : files)
        if (const auto size = std::filesystem::file_size(file, none); !none) bytes += size;
    return bytes;
}

/// Whether its program has closed it.
bool isClosed(const std::string& path) {
    const auto source = openFile(path);
    return source && lookAtFile(**source).indexed;
}

}  // namespace

RecordCommand::RecordCommand(CLI::App& app)
    : command_(app.add_subcommand("record", "Starts a program and records it, whether or not it was made for that")) {
    command_->add_option("PROGRAM", words_, "the program and, behind --, its arguments");
    command_->add_option("--to", to_, "the recording's path; without it, one in the folder of recordings");
    command_->add_option("--in", folder_, "the folder to run it in");
    command_->add_option("--env", environment_, "NAME=VALUE for the program; may be repeated")->allow_extra_args(false);
    command_->add_option("--leave-out", leaveOut_, "how much passes first: 300f frames, or 5s seconds");
    command_->add_option("--for", length_, "how much is recorded: 600f frames, or 10s seconds; without it, all");
    command_->add_option("--moments", moments_,
                         "hold the last seconds in memory and save only what lies around moments, for example: "
                         "before=20s,after=2s,frame=50ms,usual=3,late=3/10,errors,pause=10s,saves=20");
    command_->add_flag("--offer", offer_, "records nothing; the program can be joined and left while it runs");
    command_->add_flag("--end", end_, "ends the program once that is recorded");
    command_->add_option("--collect", collect_,
                         "what to collect beside: switches, samples, stack-copies, blocking, load, memory (of "
                         "unmodified programs), or none; without it, "
                         "what is of use");
    command_->add_flag("--check", check_, "starts nothing; tells what can be recorded here, and what to type for more");
    command_->add_flag("--json", json_, "the whole explanation as JSON, for each recording");
}

bool RecordCommand::chosen() const { return command_->parsed(); }

int RecordCommand::check(std::ostream& out, std::ostream& err) const {
    if (!words_.empty()) {
        const auto file = lookAtProgram(words_[0], folder_);
        if (!file) return tellFailure(err, kExitWrongUse, file.failure().sentence);
        out << file->path << "\n  "
            << (file->how == ProgramFile::How::Itself
                    ? "carries the recorder: its own markers are recorded, from its first instruction on."
                    : "carries no recorder: frames, waits, files and well-known library calls are recorded.")
            << "\n\n";
    }
    const auto all = whatCanBeCollected();
    if (!all) return tellFailure(err, kExitNotWritten, all.failure().sentence);
    for (const Collectable& one : *all) {
        out << std::left << std::setw(10) << one.word << " " << (one.possible ? "yes  " : "no   ") << one.what << ": "
            << one.told << "\n";
        if (!one.advice.empty())
            out << std::setw(16) << ""
                << "for more: " << one.advice << "\n";
    }
    return kExitOk;
}

Result<Launch> RecordCommand::wantedLaunch() const {
    if (words_.empty()) return Failure{"No program was named. Write: fugato-cli record -- PROGRAM ARGUMENTS"};
    Launch launch;
    launch.program = words_[0];
    launch.arguments.assign(words_.begin() + 1, words_.end());
    launch.folder = folder_;
    launch.collect = collect_;
    for (const auto& [text, amount, option] :
         {std::tuple(&leaveOut_, &launch.leaveOut, "--leave-out"), std::tuple(&length_, &launch.length, "--for")}) {
        if (text->empty()) continue;
        const auto read = amountIn(*text);
        if (!read) return Failure{"\"" + *text + "\" behind " + option + " is neither frames (300f) nor seconds (5s)."};
        *amount = *read;
    }
    for (const std::string& one : environment_) {
        const size_t equals = one.find('=');
        if (equals == std::string::npos || equals == 0)
            return Failure{"\"" + one + "\" behind --env is not NAME=VALUE."};
        launch.environment.emplace_back(one.substr(0, equals), one.substr(equals + 1));
    }
    if (!moments_.empty() && !(launch.moments = momentPlanIn(moments_))) return Failure{momentsNotUnderstood(moments_)};
    if (offer_) return launch;
    const auto path = newRecordingFor(to_, launch.program);
    if (!path) return path.failure();
    launch.recording = *path;
    return launch;
}

int RecordCommand::run(std::ostream& out, std::ostream& err) const {
    if (check_) return check(out, err);
    const auto wanted = wantedLaunch();
    if (!wanted)
        return tellFailure(err, wanted.failure().output ? kExitNotWritten : kExitWrongUse, wanted.failure().sentence);
    const Launch& launch = *wanted;
    const TakeInterrupts interrupted;
    auto program = LaunchedProgram::start(launch);
    if (!program) return tellFailure(err, kExitWrongUse, program.failure().sentence);
    const bool terminal = isatty(STDERR_FILENO) == 1;
    if (offer_)
        err << shownText(launch.program) << " runs and can be joined (process " << program->process() << ").\n";
    else
        err << "Recording " << shownText(launch.program) << " to " << shownText(launch.recording)
            << (terminal ? "; Ctrl+C ends it.\n" : ".\n");
    err << std::flush;
    ProgramState state(program->process(), launch.recording);
    SavesTold saves;
    const auto begin = std::chrono::steady_clock::now();
    int seen = 0;
    std::string trouble;                                         // told last
    std::optional<std::chrono::steady_clock::time_point> asked;  // to end
    while (!program->waitFor(kLookEveryMs)) {
        const std::vector<std::string> files = recordingsMadeFor(launch.recording);
        const std::optional<SessionState> told = state.look();
        if (told) saves.tell(*told, err, terminal);
        if (told && !told->status.empty() && told->status != trouble) {
            trouble = told->status;
            if (terminal) err << "\r\033[K";
            tellNote(err, trouble + ".");
        }
        if (terminal) {
            const auto seconds =
                std::chrono::duration_cast<std::chrono::seconds>(std::chrono::steady_clock::now() - begin);
            err << "\r" << seconds.count() << " s" << (told ? ", " + plural(told->frames, "frame", "frames") : "")
                << (!files.empty() ? ", " + bytesText(bytesOf(files))
                    : told         ? ""
                                   : ", no picture yet")
                << "\033[K" << std::flush;
        }
        // What was wanted is recorded: its file is closed.
        const auto now = std::chrono::steady_clock::now();
        if (!asked && end_ && !length_.empty() && !files.empty() && isClosed(files.front())) {
            program->signal(SIGTERM);
            asked = now;
        }
        if (asked && now - *asked > kPatience) program->signal(SIGKILL);
        if (interrupted.count() == seen) continue;
        seen = interrupted.count();
        if (seen > 1)
            program->signal(SIGKILL);
        else if (interrupted.onlyHere())
            program->signal(SIGINT);
        if (terminal) err << "\r\033[K" << (seen > 1 ? "" : "It was asked to end; Ctrl+C again ends it at once.\n");
    }
    if (terminal) err << "\r\033[K" << std::flush;
    const std::string ended = program->howItEnded();
    if (!ended.empty() && !seen && !asked) tellNote(err, launch.program + " " + ended + ".");
    if (offer_) return kExitOk;
    const std::vector<std::string> made = recordingsMadeFor(launch.recording);
    if (made.empty()) return tellFailure(err, kExitNothingFound, whyNothingWasRecorded(launch, program->file()));
    return tellRecordings(made, json_, out, err);
}

}  // namespace fugato
