// SPDX-License-Identifier: GPL-3.0-or-later
#include "device_connection.h"

#include <fcntl.h>
#include <netdb.h>
#include <poll.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <csignal>
#include <fugato_control.hpp>
#include <fugato_mutex.hpp>
#include <own_files.hpp>
#include <thread>
#include <unordered_map>
#include <vector>

#include "format/number_text.h"
#include "format/shown_text.h"
#include "relay/line/secure_line.h"

namespace fugato {

namespace {

using Clock = std::chrono::steady_clock;
using control::Message;
using line::Chunk;
using line::SecureLine;
using std::chrono::milliseconds;

constexpr auto kBetweenTries = milliseconds(1000), kConnectTime = milliseconds(5000), kEndTime = milliseconds(3000),
               kSoonAnswered = milliseconds(1500);
constexpr int kPauseMs = 100;
constexpr size_t kMostSockets = 256, kMostChannels = 512;
constexpr uint64_t kLeastRoom = 16 << 20;  // of the disk, that is left to others

/// Nothing where it cannot be connected soon, or `stop` was set.
Descriptor connectTo(const DeviceAddress& address, const std::atomic<bool>& stop, std::string& why) {
    addrinfo wanted{};
    wanted.ai_socktype = SOCK_STREAM;
    addrinfo* found = nullptr;
    if (const int error = getaddrinfo(address.host.c_str(), std::to_string(address.port).c_str(), &wanted, &found)) {
        why = std::string("its address is not known (") + gai_strerror(error) + ")";
        return Descriptor();
    }
    Descriptor made;
    for (const addrinfo* at = found; at && !made; at = at->ai_next) {
        Descriptor socket(::socket(at->ai_family, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
        if (!socket) continue;
        int error = ::connect(socket.get(), at->ai_addr, at->ai_addrlen) == 0 ? 0 : errno;
        if (error == EINPROGRESS) {
            pollfd waiting{socket.get(), POLLOUT, 0};
            socklen_t size = sizeof error;
            int there = 0;
            for (const auto until = Clock::now() + kConnectTime; there == 0 && !stop.load() && Clock::now() < until;)
                there = ::poll(&waiting, 1, kPauseMs);
            error = ETIMEDOUT;
            if (there > 0) ::getsockopt(socket.get(), SOL_SOCKET, SO_ERROR, &error, &size);
        }
        if (!error)
            made = std::move(socket);
        else
            why = error == ECONNREFUSED ? "no relay listens there" : std::strerror(error);
    }
    freeaddrinfo(found);
    return made;
}

bool roomIn(int file) {
    struct statvfs room {};
    return ::fstatvfs(file, &room) != 0 || uint64_t{room.f_bavail} * room.f_frsize > kLeastRoom;
}

}  // namespace

Result<DeviceAddress> deviceAddressIn(const std::string& text) {
    DeviceAddress address{text, line::kPort};
    std::string port;
    if (!text.empty() && text[0] == '[') {
        const size_t end = text.find(']');
        address.host = text.substr(1, end == std::string::npos ? end : end - 1);
        if (end != std::string::npos && end + 1 < text.size()) port = text.substr(end + 1);
    } else if (const size_t colon = text.find(':'); colon != std::string::npos && text.rfind(':') == colon) {
        address.host = text.substr(0, colon);
        port = text.substr(colon);
    }
    if (!port.empty()) {
        const auto number = numberIn(std::string_view(port).substr(1));
        if (port[0] != ':' || !number || *number < 1 || *number > 65535 || *number != std::floor(*number))
            return Failure{"\"" + shownText(text) +
                           "\" has no port that there could be, such as :" + std::to_string(line::kPort) + "."};
        address.port = static_cast<uint16_t>(*number);
    }
    if (address.host.empty()) return Failure{"Which device? Its name or address is needed, such as 10.0.0.7."};
    return address;
}

/// One thread's. A program of the device has a socket here; each connection to that is a channel.
class DeviceConnection::Work {
public:
    Work(DeviceAddress address, const line::Key& key) : address_(std::move(address)), key_(key) {
        thread_ = std::thread([this] { run(); });
    }
    ~Work() {
        quit_.store(true);
        thread_.join();
    }
    DeviceState state() const {
        const Lock guard(mutex_);
        return state_;
    }

private:
    struct Channel {
        uint32_t number = 0;
        std::string socket;  // of the program, on the device
        Descriptor local;    // null: it has gone
        std::string id;      // of the relay, by which it is found again
        bool opened = false;
        std::vector<Chunk> early;  // said before it was opened
        struct Asked {
            uint64_t number;  // by which the answer tells what it belongs to
            std::string word;
            Clock::time_point at;
            bool answered = false;  // from what was known, since it took long
        };
        std::vector<Asked> asked;  // what the device has not answered yet
        Message lastState{"state", {}};
        Descriptor file;
        std::string path;
        std::string trouble;  // why it is no longer recorded
        uint64_t size = 0;
        bool leaving = false, over = false;
    };
    struct Program {
        Descriptor listening;
        std::string path;  // of the socket here
    };

    void run();
    bool connectLine();
    void workOnLine();
    void breakLine(const std::string& why);
    void take(const Chunk& chunk);
    void takeWord(const Message& word);
    void takePacket(Channel& channel, const Chunk& chunk);
    void takeBytes(Channel& channel, const Chunk& chunk);
    void takeEnd(Channel& channel, const Chunk& chunk);
    void listen(const std::vector<std::string>& sockets);
    void takeLocals();
    void takeRequests(Channel& channel);
    void pass(Channel& channel, const Message& request, const Descriptor& file);
    void answer(Channel& channel, const Message& message);
    void answerWithoutLine(Channel& channel, const std::string& word);
    void open(Channel& channel);
    void tellState(DeviceState::Line line, std::string trouble);
    void tellCounts();
    std::string device() const {
        const Lock guard(mutex_);
        return state_.name.empty() ? address_.host : state_.name;
    }

    const DeviceAddress address_;
    const line::Key key_;
    std::atomic<bool> quit_{false};
    mutable Mutex mutex_;
    DeviceState state_ FUGATO_GUARDED_BY(mutex_);
    std::unique_ptr<SecureLine> line_;
    bool greeted_ = false;
    Clock::time_point heard_, said_, tried_{};
    std::unordered_map<std::string, Program> programs_;
    std::unordered_map<uint32_t, Channel> channels_;
    uint32_t nextChannel_ = 1;
    uint64_t nextRequest_ = 1;
    std::thread thread_;
};

void DeviceConnection::Work::tellState(DeviceState::Line line, std::string trouble) {
    const Lock guard(mutex_);
    state_.line = line;
    state_.trouble = std::move(trouble);
}

void DeviceConnection::Work::tellCounts() {
    const Lock guard(mutex_);
    state_.programs = programs_.size();
    state_.recording = static_cast<size_t>(
        std::count_if(channels_.begin(), channels_.end(), [](const auto& one) { return bool(one.second.file); }));
}

void DeviceConnection::Work::run() {
    sigset_t pipe;  // a broken line is no reason to end
    sigemptyset(&pipe);
    sigaddset(&pipe, SIGPIPE);
    pthread_sigmask(SIG_BLOCK, &pipe, nullptr);
    Clock::time_point endBy{};
    for (;;) {
        if (quit_.load()) {
            if (endBy == Clock::time_point{}) {
                endBy = Clock::now() + kEndTime;
                listen({});
                for (auto& [number, channel] : channels_) channel.local = Descriptor();
            }
            const bool fetching =
                std::any_of(channels_.begin(), channels_.end(), [](const auto& one) { return bool(one.second.file); });
            if (!line_ || !fetching || Clock::now() > endBy) break;
        }
        if (!line_ && Clock::now() - tried_ >= kBetweenTries) connectLine();
        std::vector<pollfd> waiting;
        if (line_) waiting.push_back({line_->descriptor(), line_->events(), 0});
        for (const auto& [name, program] : programs_) waiting.push_back({program.listening.get(), POLLIN, 0});
        for (const auto& [number, channel] : channels_)
            if (channel.local) waiting.push_back({channel.local.get(), POLLIN, 0});
        ::poll(waiting.data(), waiting.size(), kPauseMs);
        takeLocals();
        if (line_) workOnLine();
        for (auto at = channels_.begin(); at != channels_.end();) {
            takeRequests(at->second);
            at = at->second.over ? channels_.erase(at) : std::next(at);
        }
        tellCounts();
    }
    listen({});
    if (line_ && line_->isOpen()) {
        line_->send(line::wordChunk({"bye", {}}));
        line_->work();
    }
}

bool DeviceConnection::Work::connectLine() {
    std::string why;
    Descriptor socket = connectTo(address_, quit_, why);
    tried_ = Clock::now();
    if (!socket) {
        tellState(greeted_ ? DeviceState::Line::Broken : DeviceState::Line::Connecting,
                  "Cannot connect to " + shownText(address_.host) + ": " + why + ". Trying again.");
        return false;
    }
    line_ = std::make_unique<SecureLine>(std::move(socket), SecureLine::Side::Client, key_);
    heard_ = said_ = Clock::now();
    return true;
}

void DeviceConnection::Work::breakLine(const std::string& why) {
    const bool refused = line_ && !line_->isOpen() && !greeted_;
    line_.reset();
    tried_ = Clock::now();
    for (auto& [number, channel] : channels_) {
        channel.opened = false;
        channel.early.clear();
        for (const Channel::Asked& one : std::exchange(channel.asked, {}))
            if (!one.answered) answerWithoutLine(channel, one.word);
    }
    if (refused)
        return tellState(DeviceState::Line::Refused, "Cannot connect to " + shownText(device()) + ": " + why + ".");
    tellState(DeviceState::Line::Broken,
              "The connection to " + shownText(device()) + " was lost: " + why + ". Trying again.");
}

void DeviceConnection::Work::workOnLine() {
    const auto now = Clock::now();
    const bool holds = line_->work();
    while (auto chunk = line_->next()) {
        heard_ = now;
        take(*chunk);
        if (!line_) return;
    }
    if (!holds) return breakLine(line_->trouble());
    if (now - heard_ > milliseconds(line::kLostMs)) return breakLine("it does not answer");
    if (line_->isOpen() && now - said_ >= milliseconds(line::kAliveMs)) {
        said_ = now;
        line_->send(line::wordChunk({"alive", {}}));
    }
    if (!line_->work()) breakLine(line_->trouble());
}

// ---- from the device ---------------------------------------------------------------------------------------

void DeviceConnection::Work::take(const Chunk& chunk) {
    if (chunk.kind == Chunk::Kind::Word) {
        if (const auto word = control::messageIn(chunk.bytes)) takeWord(*word);
        return;
    }
    const auto found = channels_.find(chunk.channel);
    if (found == channels_.end()) return;
    switch (chunk.kind) {
        case Chunk::Kind::Packet: return takePacket(found->second, chunk);
        case Chunk::Kind::Recording: return takeBytes(found->second, chunk);
        case Chunk::Kind::End: return takeEnd(found->second, chunk);
        case Chunk::Kind::Word: return;
    }
}

void DeviceConnection::Work::takeWord(const Message& word) {
    if (word.word == "device") {
        if (word.number("version") != line::kVersion)
            return breakLine("its relay is of another version (" + shownText(word.field("version")) + ", not " +
                             std::to_string(line::kVersion) + ")");
        {
            const Lock guard(mutex_);
            state_.name = shownText(word.field("name"));
        }
        greeted_ = true;
        for (auto& [number, channel] : channels_) open(channel);
        return tellState(DeviceState::Line::Connected, {});
    }
    if (word.word == "programs") {
        std::vector<std::string> sockets;
        for (const auto& [key, value] : word.fields)
            if (key == "socket" && sockets.size() < kMostSockets) sockets.push_back(value);
        return listen(sockets);
    }
    const auto found = channels_.find(static_cast<uint32_t>(word.number("channel")));
    if (found == channels_.end()) return;
    Channel& channel = found->second;
    if (word.word == "opened") {
        channel.opened = true;
        channel.id = word.field("id");
        for (const Chunk& early : std::exchange(channel.early, {})) line_->send(early);
    } else if (word.word == "closed") {
        channel.file = Descriptor();  // what is missing by now does not come any more
        channel.over = true;
    }
}

void DeviceConnection::Work::takePacket(Channel& channel, const Chunk& chunk) {
    auto message = control::messageIn(chunk.bytes);
    if (!message) return;
    const auto asked = std::find_if(channel.asked.begin(), channel.asked.end(),
                                    [&](const Channel::Asked& one) { return one.number == chunk.number; });
    // Else it was asked before the line broke, and answered then.
    const bool awaited = asked != channel.asked.end() && !asked->answered;
    if (asked != channel.asked.end()) {
        if (asked->word == "record" && message->word == "refused") channel.file = Descriptor();
        channel.asked.erase(asked);
    }
    const bool tellsState = message->word == "program" || message->word == "state" || message->word == "recording";
    if (tellsState)
        for (auto& [key, value] : message->fields)
            if (key == "path" && !value.empty()) {  // where it lies here
                value = device() + ":" + value;
                for (const auto& [number, other] : channels_)
                    if (other.file && other.socket == channel.socket) value = other.path;
            }
    if (tellsState && !channel.trouble.empty()) {
        std::erase_if(message->fields,
                      [](const auto& field) { return field.first == "recording" || field.first == "status"; });
        message->with("recording", "no").with("status", channel.trouble);
    }
    if (message->word == "program")
        message->with("device", device()).with("process", channel.socket.substr(0, channel.socket.find('-')));
    if (tellsState) {
        channel.lastState = *message;
        channel.lastState.word = "state";
    }
    if (awaited) answer(channel, *message);
    if (message->word == "left" && channel.leaving) channel.over = !channel.file;
}

void DeviceConnection::Work::takeBytes(Channel& channel, const Chunk& chunk) {
    if (!channel.file) return;
    if (chunk.number > channel.size) return breakLine("a part of a recording is missing");
    if (!roomIn(channel.file.get())) {  // what has arrived stays
        channel.file = Descriptor();
        channel.trouble = "there is no room left on the disk here";
        pass(channel, {"leave", {}}, Descriptor());
        if (!channel.asked.empty()) channel.asked.back().answered = true;  // it was not asked for from here
        return;
    }
    // The relay made the end of it whole, over what was cut off.
    bool good = chunk.number == channel.size || ::ftruncate(channel.file.get(), static_cast<off_t>(chunk.number)) == 0;
    for (size_t at = 0; good && at < chunk.bytes.size();) {
        const ssize_t done = ::pwrite(channel.file.get(), chunk.bytes.data() + at, chunk.bytes.size() - at,
                                      static_cast<off_t>(chunk.number + at));
        if (done < 0 && errno == EINTR) continue;
        good = done > 0;
        if (good) at += static_cast<size_t>(done);
    }
    if (!good) return breakLine(std::string("the recording cannot be written here: ") + std::strerror(errno));
    channel.size = chunk.number + chunk.bytes.size();
}

void DeviceConnection::Work::takeEnd(Channel& channel, const Chunk& chunk) {
    if (channel.file) {
        if (chunk.number != channel.size) return breakLine("a part of a recording is missing");
        ::fsync(channel.file.get());
        channel.file = Descriptor();
    }
    line_->send(line::wordChunk(Message{"have", {}}.with("channel", uint64_t{channel.number}), channel.number));
    if (channel.leaving) channel.over = true;
}

// ---- from this machine -------------------------------------------------------------------------------------

void DeviceConnection::Work::listen(const std::vector<std::string>& sockets) {
    for (auto at = programs_.begin(); at != programs_.end();) {
        if (std::find(sockets.begin(), sockets.end(), at->first) != sockets.end()) {
            ++at;
            continue;
        }
        ::unlink(at->second.path.c_str());
        at = programs_.erase(at);
    }
    if (sockets.empty()) return;
    const std::string folder = control::socketFolder();
    ::mkdir(folder.c_str(), 0700);
    if (control::lookAtSocketFolder(folder) != 0) return;
    for (const std::string& name : sockets) {
        if (programs_.count(name) || name.find('/') != std::string::npos) continue;
        Program program;
        const std::string prefix = std::to_string(::getpid()) + "-";
        program.path = unknownName(folder, prefix.c_str(), ".sock");
        program.listening = Descriptor(control::listenAt(program.path, 16));
        if (!program.listening) continue;
        programs_.emplace(name, std::move(program));
    }
}

void DeviceConnection::Work::takeLocals() {
    for (auto& [name, program] : programs_)
        for (;;) {
            Descriptor local(::accept4(program.listening.get(), nullptr, nullptr, SOCK_CLOEXEC | SOCK_NONBLOCK));
            if (!local) break;
            if (!control::peerOf(local.get()) || channels_.size() >= kMostChannels) continue;
            Channel& channel = channels_[nextChannel_];
            channel.number = nextChannel_++;
            channel.socket = name;
            channel.local = std::move(local);
            if (line_ && line_->isOpen()) open(channel);
        }
}

void DeviceConnection::Work::open(Channel& channel) {
    Message word{channel.id.empty() ? "open" : "resume", {}};
    word.with("channel", uint64_t{channel.number});
    if (channel.id.empty())
        word.with("socket", channel.socket);
    else
        word.with("id", channel.id).with("has", channel.file ? channel.size : 0);
    line_->send(line::wordChunk(word, channel.number));
    if (channel.leaving) pass(channel, {"leave", {}}, Descriptor());
}

void DeviceConnection::Work::takeRequests(Channel& channel) {
    while (channel.local && !channel.over) {
        control::Received received = control::receiveMessage(channel.local.get());
        Descriptor file(received.file);
        if (received.what == control::Received::What::Nothing) break;
        if (received.what == control::Received::What::End) {
            channel.local = Descriptor();
            break;
        }
        pass(channel, received.message, file);
    }
    for (Channel::Asked& one : channel.asked)
        if (!one.answered && one.word == "look" && Clock::now() - one.at > kSoonAnswered) {
            answerWithoutLine(channel, one.word);  // the line may be broken, which is only known later
            one.answered = true;
        }
    if (channel.local || channel.over || channel.leaving) return;
    // Who recorded has gone: what was recorded until now is fetched all the same.
    if (channel.file) {
        channel.leaving = true;
        if (channel.opened) pass(channel, {"leave", {}}, Descriptor());
        return;
    }
    if (line_ && line_->isOpen())
        line_->send(line::wordChunk(Message{"close", {}}.with("channel", uint64_t{channel.number}), channel.number));
    channel.over = true;
}

void DeviceConnection::Work::pass(Channel& channel, const Message& request, const Descriptor& file) {
    Chunk chunk{Chunk::Kind::Packet, channel.number, 0, control::packetOf(request)};
    const bool hasLine = line_ && line_->isOpen();
    if (!hasLine) return answerWithoutLine(channel, request.word);
    if (request.word == "record") {
        const auto refuse = [&](const std::string& why) { answer(channel, Message{"refused", {}}.with("why", why)); };
        if (!file) return refuse("on another device only whole recordings can be made, not moments");
        const std::string link = "/proc/self/fd/" + std::to_string(file.get());
        Descriptor own(::open(link.c_str(), O_RDWR | O_CLOEXEC));
        struct stat status {};
        if (!own || ::fstat(own.get(), &status) != 0 || !S_ISREG(status.st_mode) || status.st_size != 0 ||
            lockByte(own.get(), layout::kWriterLockAt) != 0 || lockByte(own.get(), layout::kWholeLockAt) != 0)
            return refuse("the file for it cannot be written");
        if (!roomIn(own.get())) return refuse("there is no room left on the disk here");
        char path[4096];
        const ssize_t length = ::readlink(link.c_str(), path, sizeof path);
        channel.path.assign(path, length > 0 ? static_cast<size_t>(length) : 0);
        channel.file = std::move(own);
        channel.size = 0;
        channel.trouble.clear();
    }
    const uint64_t number = nextRequest_++;
    chunk.number = number << 1 | (request.word == "record" ? 1 : 0);
    channel.asked.push_back({number, request.word, Clock::now()});
    if (channel.opened)
        line_->send(chunk);
    else
        channel.early.push_back(std::move(chunk));
}

void DeviceConnection::Work::answer(Channel& channel, const Message& message) {
    if (channel.local && !control::sendMessage(channel.local.get(), message)) channel.local = Descriptor();
}

void DeviceConnection::Work::answerWithoutLine(Channel& channel, const std::string& word) {
    const std::string why = "the connection to " + device() + " is lost or slow; trying again";
    if (word != "look" || channel.lastState.fields.empty())
        return answer(channel, Message{"refused", {}}.with("why", why));
    Message last{"state", {}};
    for (const auto& [key, value] : channel.lastState.fields)
        if (key != "status") last.with(key, value);
    answer(channel, last.with("status", why));
}

DeviceConnection::DeviceConnection(const DeviceAddress& address, const line::Key& key)
    : work_(std::make_unique<Work>(address, key)) {}
DeviceConnection::~DeviceConnection() = default;
DeviceState DeviceConnection::state() const { return work_->state(); }

}  // namespace fugato
