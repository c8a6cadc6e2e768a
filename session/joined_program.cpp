// SPDX-License-Identifier: GPL-3.0-or-later
#include "joined_program.h"

#include <fcntl.h>
#include <unistd.h>

#include <cstdlib>

#include "format/shown_text.h"

namespace fugato {

using control::Message;

namespace {

constexpr int kLeaveMs = 60'000;  // what is left is written first, maybe to a slow disk

Result<bool> done(const Result<Message>& answer) {
    if (!answer) return answer.failure();
    return true;
}

}  // namespace

Result<JoinedProgram> JoinedProgram::accompany(const std::string& socket) {
    auto connection = ControlConnection::open(socket);
    if (!connection)
        return connection.failure().sentence.empty() ? Failure{"The program has ended, or takes no more connections."}
                                                     : connection.failure();
    return JoinedProgram(std::move(*connection));
}

Result<JoinedProgram> JoinedProgram::join(const std::string& socket, const std::string& recording,
                                          const JoinOptions& options) {
    auto joined = accompany(socket);
    if (!joined) return joined;
    Message request{"record", {}};
    if (!options.collect.empty()) request.with("collect", options.collect);
    Descriptor file;
    if (options.moments) {
        request.with("path", recording).with("moments", textOf(*options.moments));
    } else {
        file = Descriptor(::open(recording.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
        if (!file) return Failure{"The recording " + recording + " cannot be made: " + std::strerror(errno) + "."};
    }
    if (const auto answer = joined->connection_.ask(request, file.get()); !answer) {
        if (file) ::unlink(recording.c_str());
        return answer.failure();
    }
    return joined;
}

Result<SessionState> JoinedProgram::look() {
    const auto answer = connection_.ask({"look", {}});
    if (!answer) return answer.failure();
    SessionState state;
    state.recording = answer->field("recording") != "no";
    state.frames = answer->number("frames");
    state.lost = answer->number("lost");
    state.status = shownText(answer->field("status"));
    state.saves = static_cast<uint32_t>(answer->number("saves"));
    state.saved = answer->field("saved");
    state.because = shownText(answer->field("because"));
    return state;
}

Result<bool> JoinedProgram::leave() { return done(connection_.ask({"leave", {}}, -1, kLeaveMs)); }

Result<std::vector<std::pair<std::string, int>>> JoinedProgram::categories() {
    const auto answer = connection_.ask({"categories", {}});
    if (!answer) return answer.failure();
    std::vector<std::pair<std::string, int>> out;
    for (const auto& [key, value] : answer->fields)
        if (const size_t space = value.find(' '); key == "category" && space != std::string::npos)
            out.emplace_back(value.substr(space + 1), std::atoi(value.c_str()));
    return out;
}

Result<bool> JoinedProgram::setDetail(const std::string& category, int level) {
    return done(connection_.ask(Message{"detail", {}}.with("category", category).with("level", std::to_string(level))));
}

Result<bool> JoinedProgram::saveMoment(const std::string& why) {
    return done(connection_.ask(Message{"save", {}}.with("why", why)));
}

std::optional<SessionState> ProgramState::look() {
    if (!program_) {
        const auto programs = running_.look();
        if (!programs) return std::nullopt;
        for (const RunningProgram& one : *programs) {
            if (one.process != process_ && (recording_.empty() || one.recording != recording_)) continue;
            if (auto found = JoinedProgram::accompany(one.socket)) program_ = std::move(*found);
        }
        if (!program_) return std::nullopt;
        running_ = {};
    }
    if (auto state = program_->look()) return *state;
    program_.reset();  // it has ended, or is another program by now (exec)
    return std::nullopt;
}

}  // namespace fugato
