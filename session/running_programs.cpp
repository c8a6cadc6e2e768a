// SPDX-License-Identifier: GPL-3.0-or-later
#include "running_programs.h"

#include <poll.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>

#include "format/shown_text.h"

namespace fugato {

namespace {

namespace fs = std::filesystem;
using Received = control::Received;

/// By the wall clock.
std::optional<int64_t> startOf(pid_t process) {
    const uint64_t ticks = startOfProcess(static_cast<uint64_t>(process));
    timespec boot{}, wall{};
    if (!ticks || clock_gettime(CLOCK_BOOTTIME, &boot) != 0 || clock_gettime(CLOCK_REALTIME, &wall) != 0)
        return std::nullopt;
    const double ago =
        static_cast<double>(boot.tv_sec) - static_cast<double>(ticks) / static_cast<double>(sysconf(_SC_CLK_TCK));
    return (wall.tv_sec - std::llround(ago)) * 1'000'000'000LL;
}

}  // namespace

void RunningPrograms::connectNew(const std::string& folder) {
    std::error_code error;
    std::vector<std::string> there;
    constexpr auto kReadyWithin = std::chrono::minutes(1);
    for (fs::directory_iterator at(folder, error), end; !error && at != end; at.increment(error)) {
        if (at->path().extension() == ".sock") there.push_back(at->path().string());
        std::error_code none;
        const auto made =
            at->path().extension() == control::kUnready ? at->last_write_time(none) : fs::file_time_type::max();
        if (!none && made < fs::file_time_type::clock::now() - kReadyWithin) fs::remove(at->path(), none);
    }
    for (const std::string& socket : there) {
        if (known_.count(socket)) continue;
        auto connection = ControlConnection::open(socket);
        if (!connection) continue;  // it has gone, is another user's, or takes no more
        Known& known = known_[socket];
        known.program.socket = socket;
        known.program.process = connection->process();
        std::error_code none;
        known.program.executable =
            fs::read_symlink("/proc/" + std::to_string(connection->process()) + "/exe", none).string();
        known.program.sinceUnixNs = startOf(connection->process());
        known.connection = std::move(*connection);
    }
}

void RunningPrograms::take(Known& known, const control::Message& answer) {
    RunningProgram& program = known.program;
    known.answered = true;
    if (answer.word == "program") {
        program.name = shownText(answer.field("name"));
        program.build = shownText(answer.field("build"));
        if (const std::string_view device = answer.field("device");
            !device.empty()) {  // another one's, by a connection
            program.device = shownText(device);
            program.process = static_cast<pid_t>(answer.number("process"));
            program.executable.clear();
            program.sinceUnixNs.reset();
        }
        if (answer.number("version") != control::kVersion)
            program.trouble = "Its recorder is of another version (" + shownText(answer.field("version")) + ", not " +
                              std::to_string(control::kVersion) + "): build it with the recorder of this Fugato.";
    } else if (answer.word != "state") {
        program.trouble = "It does not speak this protocol.";
        return;
    }
    const std::string_view recorded = answer.field("recording");
    program.recorded = recorded == "own"      ? RunningProgram::Recorded::Own
                       : recorded == "joined" ? RunningProgram::Recorded::Joined
                                              : RunningProgram::Recorded::No;
    program.recording = answer.field("path");
    const uint64_t now = answer.number("now"), frames = answer.number("frames");
    if (known.now && now > known.now && frames >= known.frames)
        program.framesPerSecond =
            static_cast<double>(frames - known.frames) * 1e9 / static_cast<double>(now - known.now);
    known.now = now;
    known.frames = frames;
}

Result<std::vector<RunningProgram>> RunningPrograms::look(int patienceMs) {
    const std::string folder = control::socketFolder();
    const int error = control::lookAtSocketFolder(folder);
    if (error == ENOENT) {  // none has offered itself yet
        known_.clear();
        return std::vector<RunningProgram>();
    }
    if (error)
        return Failure{"The folder of running programs, " + folder + ", is not yours alone" +
                       (error == EPERM ? "" : std::string(" (") + std::strerror(error) + ")") +
                       ": remove it, so that it can be made anew."};
    connectNew(folder);
    for (auto& [socket, known] : known_) {
        if (known.asked || !known.program.trouble.empty()) continue;
        known.asked = known.connection->send({known.program.name.empty() ? "hello" : "look", {}});
        if (!known.asked) known.connection.reset();
    }
    using Clock = std::chrono::steady_clock;
    const auto until = Clock::now() + std::chrono::milliseconds(patienceMs);
    for (;;) {
        std::vector<pollfd> waiting;
        std::vector<Known*> which;
        for (auto& [socket, known] : known_)
            if (known.connection && (known.asked || !known.program.trouble.empty())) {
                waiting.push_back({known.connection->descriptor(), POLLIN, 0});
                which.push_back(&known);
            }
        const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(until - Clock::now()).count();
        const bool expected = std::any_of(which.begin(), which.end(), [](const Known* known) { return known->asked; });
        if (::poll(waiting.data(), waiting.size(), expected ? std::max<int>(0, static_cast<int>(left)) : 0) <= 0) break;
        for (size_t i = 0; i < which.size(); ++i) {
            if (!waiting[i].revents) continue;
            const Received received = which[i]->connection->receive();
            if (received.what == Received::What::Nothing) continue;
            which[i]->asked = false;
            if (received.what == Received::What::End)
                which[i]->connection.reset();
            else
                take(*which[i], received.message);
        }
    }
    std::vector<RunningProgram> out;
    for (auto at = known_.begin(); at != known_.end();) {
        if (!at->second.connection) {
            at = known_.erase(at);
            continue;
        }
        if (at->second.answered) {
            out.push_back(at->second.program);
            if (at->second.asked && out.back().trouble.empty())
                out.back().trouble = "It does not answer at the moment.";
        }
        ++at;
    }
    std::stable_sort(out.begin(), out.end(), [](const RunningProgram& a, const RunningProgram& b) {
        return std::tie(a.name, a.process) < std::tie(b.name, b.process);
    });
    return out;
}

std::string nameOf(const RunningProgram& program) {
    return program.name + " (process " + std::to_string(program.process) +
           (program.device.empty() ? ")" : " on " + program.device + ")");
}

Result<RunningProgram> runningProgram(const std::string& which, bool thatIsRecorded) {
    RunningPrograms running;
    const auto programs = running.look(RunningPrograms::kFirstPatienceMs);
    if (!programs) return programs.failure();
    std::vector<RunningProgram> fitting;
    for (const RunningProgram& program : *programs)
        if (which.empty() ? !thatIsRecorded || program.recorded != RunningProgram::Recorded::No
                          : program.name == which || std::to_string(program.process) == which)
            fitting.push_back(program);
    if (fitting.size() == 1) return fitting[0];
    if (fitting.empty())
        return Failure{(which.empty() ? std::string("No program") : "No program \"" + shownText(which) + "\"") +
                       (thatIsRecorded ? " is being recorded." : " offers itself to be recorded.") +
                       " `fugato-cli programs` lists those that do."};
    std::string names;
    for (const RunningProgram& program : fitting) names += (names.empty() ? "" : ", ") + nameOf(program);
    return Failure{"There are several: " + names + ". Say which by the number of its process."};
}

}  // namespace fugato
