// SPDX-License-Identifier: GPL-3.0-or-later
#include "relay.h"

#include <arpa/inet.h>
#include <dirent.h>
#include <netdb.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>

namespace fugato::line {

namespace {

using Clock = std::chrono::steady_clock;
using std::chrono::milliseconds;

constexpr size_t kMostGreetings = 16, kMostPrograms = 256;
constexpr size_t kMostUnsent = 1 << 20;
constexpr auto kBusyPause = milliseconds(10), kIdlePause = milliseconds(200), kBetweenLists = milliseconds(1000);
constexpr auto kKeptWithoutLine = std::chrono::minutes(10);

std::string nameOf(const sockaddr_storage& address) {
    char host[64] = "";
    getnameinfo(reinterpret_cast<const sockaddr*>(&address), sizeof address, host, sizeof host, nullptr, 0,
                NI_NUMERICHOST);
    return host;
}

/// Names of the sockets of programs.
std::vector<std::string> socketsIn(const std::string& folder) {
    std::vector<std::string> names;
    if (control::lookAtSocketFolder(folder) != 0) return names;
    DIR* const dir = opendir(folder.c_str());
    if (!dir) return names;
    while (const dirent* found = readdir(dir)) {
        const std::string name = found->d_name;
        if (name.size() > 5 && name.substr(name.size() - 5) == ".sock") names.push_back(name);
    }
    closedir(dir);
    std::sort(names.begin(), names.end());
    return names;
}

}  // namespace

std::string Relay::open() {
    addrinfo wanted{};
    wanted.ai_socktype = SOCK_STREAM;
    wanted.ai_flags = AI_PASSIVE | AI_NUMERICHOST;
    addrinfo* found = nullptr;
    const std::string port = std::to_string(options_.port);
    if (getaddrinfo(options_.address.c_str(), port.c_str(), &wanted, &found) != 0)
        return "\"" + options_.address + "\" is no address of this device (such as 0.0.0.0, for all).";
    listening_ = Descriptor(::socket(found->ai_family, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
    const int yes = 1;
    ::setsockopt(listening_.get(), SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
    const bool listens = listening_ && ::bind(listening_.get(), found->ai_addr, found->ai_addrlen) == 0 &&
                         ::listen(listening_.get(), SOMAXCONN) == 0;
    const int error = errno;
    freeaddrinfo(found);
    if (!listens)
        return "Port " + port + " of " + options_.address + " cannot be listened on: " + std::strerror(error) +
               ". --port takes another one.";
    sockaddr_storage at{};
    socklen_t size = sizeof at;
    if (::getsockname(listening_.get(), reinterpret_cast<sockaddr*>(&at), &size) == 0)
        options_.port = ntohs(at.ss_family == AF_INET6 ? reinterpret_cast<sockaddr_in6&>(at).sin6_port
                                                       : reinterpret_cast<sockaddr_in&>(at).sin_port);
    return {};
}

void Relay::takeCallers() {
    for (;;) {
        sockaddr_storage from{};
        socklen_t size = sizeof from;
        Descriptor caller(
            ::accept4(listening_.get(), reinterpret_cast<sockaddr*>(&from), &size, SOCK_NONBLOCK | SOCK_CLOEXEC));
        if (!caller) return;
        // Who does not show the key soon makes room for others.
        if (greetings_.size() >= kMostGreetings) greetings_.pop_front();
        greetings_.push_back({SecureLine(std::move(caller), SecureLine::Side::Device, options_.key), nameOf(from)});
    }
}

void Relay::greet() {
    for (auto one = greetings_.begin(); one != greetings_.end();) {
        const bool goesOn = one->line.work();
        if (goesOn && !one->line.isOpen()) {
            ++one;
            continue;
        }
        if (goesOn) {  // the same person comes again: the line before is dead, or soon will be
            if (line_) lose("a new connection took its place");
            tell_("Connected to " + one->from + ".");
            line_ = std::make_unique<SecureLine>(std::move(one->line));
            leaves_ = false;
            heard_ = said_ = Clock::now();
            line_->send(
                wordChunk(control::Message{"device", {}}.with("version", kVersion).with("name", options_.name)));
            listPrograms(true);
        }
        one = greetings_.erase(one);
    }
}

void Relay::lose(const std::string& why) {
    tell_("The connection was lost: " + why + ". What is recorded meanwhile is kept for " +
          std::to_string(kKeptWithoutLine.count()) + " minutes.");
    line_.reset();
    lost_ = Clock::now();
    for (const auto& program : programs_) program->suspend();
}

RelayedProgram* Relay::on(uint32_t channel) {
    for (const auto& program : programs_)
        if (program->channel == channel && !program->isSuspended()) return program.get();
    return nullptr;
}

void Relay::takeWord(const control::Message& word) {
    const auto channel = static_cast<uint32_t>(word.number("channel"));
    const auto answer = [&](const char* what, const RelayedProgram* program) {
        control::Message said{what, {}};
        said.with("channel", uint64_t{channel});
        if (program) said.with("id", program->id());
        line_->send(wordChunk(said));
    };
    if (word.word == "bye") {
        leaves_ = true;
    } else if (word.word == "open") {
        const std::string socket(word.field("socket"));
        const bool good = channel && !on(channel) && programs_.size() < kMostPrograms &&
                          socket.find('/') == std::string::npos && socket.size() > 5;
        auto program = good ? RelayedProgram::open(control::socketFolder() + "/" + socket, options_.folder) : nullptr;
        if (!program) return answer("closed", nullptr);
        program->channel = channel;
        answer("opened", program.get());
        programs_.push_back(std::move(program));
    } else if (word.word == "resume") {
        for (const auto& program : programs_)
            if (program->id() == word.field("id") && program->resume(word.number("has"))) {
                program->channel = channel;
                return answer("opened", program.get());
            }
        answer("closed", nullptr);
    } else if (word.word == "have" || word.word == "close") {
        RelayedProgram* const program = on(channel);
        if (program) program->forget();
        if (word.word == "close")
            programs_.erase(std::remove_if(programs_.begin(), programs_.end(),
                                           [&](const auto& one) { return one.get() == program; }),
                            programs_.end());
    }
}

void Relay::take(const Chunk& chunk) {
    if (chunk.kind == Chunk::Kind::Word) {
        if (const auto word = control::messageIn(chunk.bytes)) takeWord(*word);
        return;
    }
    RelayedProgram* const program = on(chunk.channel);
    if (program && chunk.kind == Chunk::Kind::Packet)
        program->request(chunk, [this](const Chunk& out) { line_->send(out); });
}

void Relay::listPrograms(bool always) {
    listed_ = Clock::now();
    control::Message list{"programs", {}};
    for (const std::string& name : socketsIn(control::socketFolder())) list.with("socket", name);
    const Chunk chunk = wordChunk(list);
    if (!always && chunk.bytes == listedPrograms_) return;
    listedPrograms_ = chunk.bytes;
    line_->send(chunk);
}

void Relay::workOnLine() {
    const auto now = Clock::now();
    line_->work();
    while (auto chunk = line_->next()) {
        heard_ = now;
        take(*chunk);
    }
    if (leaves_) {
        tell_("The other side disconnected.");
        line_.reset();
        return leavePrograms();
    }
    if (!line_->isOpen()) return lose(line_->trouble());
    if (now - heard_ > milliseconds(kLostMs)) return lose("the other side does not answer");
    if (now - listed_ >= kBetweenLists) listPrograms(false);
    if (now - said_ >= milliseconds(kAliveMs)) {
        said_ = now;
        line_->send(wordChunk({"alive", {}}));
    }
    for (auto one = programs_.begin(); one != programs_.end();) {
        const size_t room = kMostUnsent > line_->unsent() ? kMostUnsent - line_->unsent() : 0;
        if ((*one)->isSuspended() || (*one)->work(room, [this](const Chunk& chunk) { line_->send(chunk); })) {
            ++one;
            continue;
        }
        line_->send(wordChunk(control::Message{"closed", {}}.with("channel", uint64_t{(*one)->channel})));
        one = programs_.erase(one);
    }
    line_->work();
}

void Relay::run(const std::function<bool()>& stop, const std::function<void(const std::string&)>& tell) {
    tell_ = tell;
    while (!stop()) {
        std::vector<pollfd> waiting{{listening_.get(), POLLIN, 0}};
        for (const Greeting& one : greetings_) waiting.push_back({one.line.descriptor(), one.line.events(), 0});
        if (line_) waiting.push_back({line_->descriptor(), line_->events(), 0});
        for (const auto& program : programs_)
            if (!program->isSuspended()) waiting.push_back({program->descriptor(), POLLIN, 0});
        const auto pause = line_ && !programs_.empty() ? kBusyPause : kIdlePause;
        // Programs that have ended would wake it at once, again and again.
        const bool quiet = ::poll(waiting.data(), waiting.size(), static_cast<int>(pause.count())) == 0;
        if (!quiet && !programs_.empty()) usleep(1000);
        takeCallers();
        greet();
        if (line_)
            workOnLine();
        else if (!programs_.empty() && Clock::now() - lost_ > kKeptWithoutLine) {
            tell_("The connection did not come back; recording has ended.");
            leavePrograms();
        }
    }
    leavePrograms();
}

void Relay::leavePrograms() {
    for (const auto& program : programs_)
        if (program->hasRecording())
            tell_("What was recorded and not fetched is " + options_.folder + "/" + program->id() + ".fugato.");
    programs_.clear();
}

}  // namespace fugato::line
