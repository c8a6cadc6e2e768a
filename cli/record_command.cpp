// SPDX-License-Identifier: GPL-3.0-or-later
#include "record_command.h"

#include <signal.h>
#include <sys/stat.h>

#include <atomic>
#include <filesystem>
#include <iomanip>
#include <nlohmann/json.hpp>

#include "command_parts.h"
#include "commands.h"
#include "core/explain/causes/explain.h"
#include "core/explain/words/sentences.h"
#include "core/summary/summary.h"
#include "format/number_text.h"
#include "format/recording_file.h"
#include "session/collecting.h"
#include "session/launch.h"
#include "session/recordings_folder.h"
#include "summary_json.h"

namespace fugato {

namespace {

constexpr int kLookEveryMs = 250;
constexpr auto kPatience = std::chrono::seconds(5);  // with a program that was asked to end

std::atomic<int> interrupts{0};
std::atomic<bool> onlyHere{false};  // the last one was sent to this program alone, not to all of the terminal

/// Ctrl+C reaches the program as well; this one stays to tell what was recorded.
class TakeInterrupts {
public:
    TakeInterrupts() {
        interrupts.store(0);
        struct sigaction action {};
        action.sa_sigaction = [](int, siginfo_t* info, void*) {
            ++interrupts;
            onlyHere.store(info->si_code != SI_KERNEL);
        };
        action.sa_flags = SA_SIGINFO;
        sigaction(SIGINT, &action, &before_[0]);
        sigaction(SIGTERM, &action, &before_[1]);
    }
    ~TakeInterrupts() {
        sigaction(SIGINT, &before_[0], nullptr);
        sigaction(SIGTERM, &before_[1], nullptr);
    }
    TakeInterrupts(const TakeInterrupts&) = delete;
    TakeInterrupts& operator=(const TakeInterrupts&) = delete;

private:
    struct sigaction before_[2]{};
};

std::string sizeText(uint64_t bytes) { return fixedText(static_cast<double>(bytes) / 1e6, 1) + " MB"; }

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
    command_->add_flag("--end", end_, "ends the program once that is recorded");
    command_->add_option(
        "--collect", collect_,
        "what to collect beside: switches, samples, stack-copies, blocking, load, or none; without it, "
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

int RecordCommand::run(std::ostream& out, std::ostream& err) const {
    if (check_) return check(out, err);
    if (words_.empty())
        return tellFailure(err, kExitWrongUse, "No program was named. Write: fugato-cli record -- PROGRAM ARGUMENTS");
    Launch launch;
    launch.program = words_[0];
    launch.arguments.assign(words_.begin() + 1, words_.end());
    launch.folder = folder_;
    launch.collect = collect_;
    for (const auto& [text, amount, option] :
         {std::tuple(&leaveOut_, &launch.leaveOut, "--leave-out"), std::tuple(&length_, &launch.length, "--for")}) {
        if (text->empty()) continue;
        const auto read = amountIn(*text);
        if (!read)
            return tellFailure(err, kExitWrongUse,
                               "\"" + *text + "\" behind " + option + " is neither frames (300f) nor seconds (5s).");
        *amount = *read;
    }
    for (const std::string& one : environment_) {
        const size_t equals = one.find('=');
        if (equals == std::string::npos || equals == 0)
            return tellFailure(err, kExitWrongUse, "\"" + one + "\" behind --env is not NAME=VALUE.");
        launch.environment.emplace_back(one.substr(0, equals), one.substr(equals + 1));
    }
    launch.recording = to_;
    if (to_.empty()) {
        const auto folder = recordingsFolder();
        if (!folder) return tellFailure(err, kExitNotWritten, folder.failure().sentence);
        launch.recording = newRecordingPath(*folder, std::filesystem::path(launch.program).filename().string());
    } else if (std::filesystem::exists(to_)) {
        return tellFailure(err, kExitNotWritten, to_ + " is there already; recordings are never replaced.");
    } else if (std::filesystem::path(to_).extension() != ".fugato") {
        return tellFailure(err, kExitWrongUse, "\"" + to_ + "\" behind --to does not end in .fugato.");
    }

    const TakeInterrupts interrupted;
    auto program = LaunchedProgram::start(launch);
    if (!program) return tellFailure(err, kExitWrongUse, program.failure().sentence);
    const bool terminal = isatty(STDERR_FILENO) == 1;
    err << "Recording " << shownText(launch.program) << " to " << shownText(launch.recording)
        << (terminal ? "; Ctrl+C ends it.\n" : ".\n") << std::flush;
    const auto begin = std::chrono::steady_clock::now();
    int seen = 0;
    std::optional<std::chrono::steady_clock::time_point> asked;  // to end
    while (!program->waitFor(kLookEveryMs)) {
        const std::vector<std::string> files = recordingsMadeFor(launch.recording);
        if (terminal) {
            const auto seconds =
                std::chrono::duration_cast<std::chrono::seconds>(std::chrono::steady_clock::now() - begin);
            err << "\r" << seconds.count() << " s"
                << (files.empty() ? std::string(", no picture yet") : ", " + sizeText(bytesOf(files))) << "\033[K"
                << std::flush;
        }
        // What was wanted is recorded: its file is closed.
        const auto now = std::chrono::steady_clock::now();
        if (!asked && end_ && !length_.empty() && !files.empty() && isClosed(files.front())) {
            program->signal(SIGTERM);
            asked = now;
        }
        if (asked && now - *asked > kPatience) program->signal(SIGKILL);
        if (interrupts.load() == seen) continue;
        seen = interrupts.load();
        if (seen > 1)
            program->signal(SIGKILL);
        else if (onlyHere.load())
            program->signal(SIGINT);
        if (terminal) err << "\r\033[K" << (seen > 1 ? "" : "It was asked to end; Ctrl+C again ends it at once.\n");
    }
    if (terminal) err << "\r\033[K" << std::flush;
    const std::string ended = program->howItEnded();
    if (!ended.empty() && !seen && !asked) tellNote(err, launch.program + " " + ended + ".");
    const std::vector<std::string> made = recordingsMadeFor(launch.recording);
    if (made.empty()) return tellFailure(err, kExitNothingFound, whyNothingWasRecorded(launch, program->file()));
    return tell(made, out, err);
}

/// What each recording came to.
int RecordCommand::tell(const std::vector<std::string>& recordings, std::ostream& out, std::ostream& err) const {
    nlohmann::ordered_json all = nlohmann::ordered_json::array();
    for (const std::string& path : recordings) {
        const auto opened = openForCommand(path, err);
        if (!opened) return tellFailure(err, kExitUnreadable, opened.failure().sentence);
        const Recording& r = **opened;
        tellDamage(r, err);
        const ExplainOptions options(0, symbolsForCommand(r, err), {});
        std::vector<std::shared_ptr<const Explanation>> explained;
        for (uint32_t series = 0; series < r.series.size(); ++series)
            if (!r.series[series].frames.empty())
                explained.push_back(explain(*opened, sumCriticalPaths(r, series), options));
        if (json_) {
            auto one = explained.empty() ? nlohmann::ordered_json::object() : summaryJson(*summaryOf(explained, {}));
            one["recording"] = path;
            all.push_back(std::move(one));
            continue;
        }
        out << path << ": " << durationText(r.end - r.begin) << ", " << plural(r.markerCount(), "marker", "markers")
            << "\n";
        if (explained.empty()) out << "  No frames were recorded.\n";
        for (const auto& e : explained) {
            out << "  " << r.series[e->series].name << ": " << verdictSentence(*e) << ".\n";
            for (uint32_t c = 0; c < std::min<uint32_t>(e->listed, 5); ++c)
                out << "    " << e->causes[c].letter << "  " << causeTitle(*e, e->causes[c]) << "  ("
                    << causeKindPhrase(*e, e->causes[c]) << "): " << durationText(e->causes[c].late) << " late\n";
        }
    }
    if (json_)
        out << all.dump(1) << "\n";
    else
        out << "\nfugato shows it; fugato-cli explain tells more:  fugato " << recordings.front() << "\n";
    return kExitOk;
}

}  // namespace fugato
