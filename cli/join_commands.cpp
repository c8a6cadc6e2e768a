// SPDX-License-Identifier: GPL-3.0-or-later
#include "join_commands.h"

#include <chrono>
#include <iomanip>
#include <nlohmann/json.hpp>
#include <thread>

#include "command_parts.h"
#include "commands.h"
#include "core/explain/words/quantities.h"
#include "format/number_text.h"
#include "session/joined_program.h"
#include "session/launch.h"
#include "session/recordings_folder.h"
#include "session_parts.h"

namespace fugato {

namespace {

using Clock = std::chrono::steady_clock;
constexpr auto kBetweenLooks = std::chrono::milliseconds(250);

std::string sinceText(const RunningProgram& program) {
    if (!program.sinceUnixNs) return {};
    const std::chrono::nanoseconds now = std::chrono::system_clock::now().time_since_epoch();
    return "running for " + durationText(std::max<int64_t>(0, now.count() - *program.sinceUnixNs));
}

}  // namespace

JoinCommands::JoinCommands(CLI::App& app)
    : list_(app.add_subcommand("programs", "Lists the running programs that can be recorded")),
      join_(app.add_subcommand("join", "Records a running program that offers itself, until Ctrl+C")),
      save_(app.add_subcommand("save", "Has a program that holds its last seconds save them now")) {
    list_->add_flag("--json", json_, "as JSON");
    join_->add_option("PROGRAM", which_, "its name or the number of its process; without it, the only one");
    join_->add_option("--to", to_, "the recording's path; without it, one in the folder of recordings");
    join_->add_option("--for", length_, "for so many seconds: 10s");
    join_->add_option("--collect", collect_,
                      "what to collect beside: switches, samples, stack-copies, blocking, load, or none; without it, "
                      "what is of use");
    join_->add_option("--moments", moments_, "keep only what lies around moments; see docs/cli.md");
    join_->add_flag("--json", json_, "the whole explanation as JSON");
    save_->add_option("PROGRAM", which_, "its name or the number of its process; without it, the only one");
    save_->add_option("--why", why_, "said in the recording");
}

bool JoinCommands::chosen() const { return list_->parsed() || join_->parsed() || save_->parsed(); }

int JoinCommands::run(std::ostream& out, std::ostream& err) const {
    return list_->parsed() ? list(out, err) : join_->parsed() ? join(out, err) : save(out, err);
}

int JoinCommands::list(std::ostream& out, std::ostream& err) const {
    RunningPrograms running;
    auto programs = running.look(RunningPrograms::kFirstPatienceMs);
    if (programs && !programs->empty()) {  // how many frames a second is known from the second look on
        std::this_thread::sleep_for(kBetweenLooks);
        programs = running.look();
    }
    if (!programs) return tellFailure(err, kExitNotWritten, programs.failure().sentence);
    if (json_) {
        auto all = nlohmann::ordered_json::array();
        for (const RunningProgram& program : *programs) {
            nlohmann::ordered_json one{{"name", program.name},
                                       {"process", program.process},
                                       {"build", program.build},
                                       {"executable", program.executable}};
            if (!program.device.empty()) one["device"] = program.device;
            if (program.sinceUnixNs) one["since_unix_ns"] = *program.sinceUnixNs;
            if (program.framesPerSecond) one["frames_per_second"] = *program.framesPerSecond;
            if (!program.recording.empty()) one["recording"] = program.recording;
            if (!program.trouble.empty()) one["trouble"] = program.trouble;
            all.push_back(std::move(one));
        }
        out << all.dump(1, ' ', false, nlohmann::json::error_handler_t::replace) << "\n";
        return kExitOk;
    }
    if (programs->empty())
        out << "No program offers itself to be recorded. Start one with `fugato-cli record --offer -- PROGRAM`, or "
               "with "
               "FUGATO_OFFER=1 in its environment where it carries the recorder.\n";
    for (const RunningProgram& program : *programs) {
        out << std::setw(8) << program.process << "  " << std::left << std::setw(24) << program.name << std::right;
        if (!program.device.empty()) out << "  on " << program.device;
        if (!program.build.empty()) out << "  build " << program.build;
        if (const std::string since = sinceText(program); !since.empty()) out << "  " << since;
        if (program.framesPerSecond) out << "  " << fixedText(*program.framesPerSecond, 1) << " frames/s";
        out << "\n";
        if (!program.recording.empty())
            out << "          is being recorded to " << shownText(program.recording) << "\n";
        if (!program.trouble.empty()) out << "          " << program.trouble << "\n";
    }
    return kExitOk;
}

int JoinCommands::save(std::ostream& out, std::ostream& err) const {
    const auto program = runningProgram(which_, true);
    if (!program) return tellFailure(err, kExitNothingFound, program.failure().sentence);
    auto joined = JoinedProgram::accompany(program->socket);
    if (!joined) return tellFailure(err, kExitNothingFound, joined.failure().sentence);
    if (const auto saved = joined->saveMoment(why_); !saved)
        return tellFailure(err, kExitNothingFound, saved.failure().sentence);
    out << nameOf(*program) << " saves its last seconds.\n";
    return kExitOk;
}

int JoinCommands::join(std::ostream& out, std::ostream& err) const {
    JoinOptions options;
    options.collect = collect_;
    std::optional<Clock::duration> length;
    if (!length_.empty()) {
        const auto amount = amountIn(length_);
        if (!amount || !amount->seconds)
            return tellFailure(err, kExitWrongUse, "\"" + length_ + "\" behind --for is no number of seconds (5s).");
        length = std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(*amount->seconds));
    }
    if (!moments_.empty() && !(options.moments = momentPlanIn(moments_)))
        return tellFailure(err, kExitWrongUse, momentsNotUnderstood(moments_));
    const auto program = runningProgram(which_, false);
    if (!program) return tellFailure(err, kExitNothingFound, program.failure().sentence);
    if (!program->trouble.empty()) return tellFailure(err, kExitNothingFound, program->trouble);
    const auto path = newRecordingFor(to_, program->name);
    if (!path)
        return tellFailure(err, path.failure().output ? kExitNotWritten : kExitWrongUse, path.failure().sentence);

    const TakeInterrupts interrupted;
    auto joined = JoinedProgram::join(program->socket, *path, options);
    if (!joined) return tellFailure(err, kExitNothingFound, joined.failure().sentence);
    const bool terminal = isatty(STDERR_FILENO) == 1;
    err << "Recording " << nameOf(*program) << " to " << shownText(*path)
        << (terminal ? "; Ctrl+C ends that, and the program goes on.\n" : ".\n") << std::flush;
    const auto begin = Clock::now();
    SavesTold saves;
    std::optional<uint64_t> framesBefore;
    bool ended = false;
    while (!ended && !interrupted.count() && (!length || Clock::now() - begin < *length)) {
        const auto state = joined->look();
        if (!state) {
            tellNote(err, nameOf(*program) + ": " + state.failure().sentence);
            ended = true;
        } else if (!state->recording) {
            tellNote(err, nameOf(*program) + " is no longer recorded" +
                              (state->status.empty() ? "." : ": " + state->status + "."));
            ended = true;
        } else {
            if (!framesBefore) framesBefore = state->frames;
            saves.tell(*state, err, terminal);
            const auto seconds = std::chrono::duration_cast<std::chrono::seconds>(Clock::now() - begin).count();
            if (terminal)
                err << "\r" << seconds << " s, " << plural(state->frames - *framesBefore, "frame", "frames") << "\033[K"
                    << std::flush;
        }
        std::this_thread::sleep_for(length ? std::min<Clock::duration>(kBetweenLooks, *length) : kBetweenLooks);
    }
    if (terminal) err << "\r\033[K" << std::flush;
    if (!ended)
        if (const auto left = joined->leave(); !left) tellNote(err, left.failure().sentence);
    const std::vector<std::string> made = recordingsMadeFor(*path);
    if (made.empty())
        return tellFailure(err, kExitNothingFound,
                           options.moments ? "Nothing happened that was to be saved." : "Nothing was recorded.");
    return tellRecordings(made, json_, out, err);
}

}  // namespace fugato
