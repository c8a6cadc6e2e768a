// SPDX-License-Identifier: MIT
//
// How a running program and who records it talk (docs/control-protocol.md). A recordable program listens on a socket
// of the local system in a folder that only its user may enter; a client sends requests and gets one answer to
// each. Both sides use what stands here; nothing here waits, and it throws std::bad_alloc only.
#pragma once

#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace fugato::control {

inline constexpr int kVersion = 1;
inline constexpr size_t kMostBytes = 8192;  // of one message

// ---- messages ------------------------------------------------------------------------------------------------------

/// A message is a word and fields: lines of text, each ended by a line feed; the first is the word, each other a key,
/// an equals sign and the value. A key may come more than once.
struct Message {
    std::string word;
    std::vector<std::pair<std::string, std::string>> fields;

    Message& with(std::string key, std::string value) {
        fields.emplace_back(std::move(key), std::move(value));
        return *this;
    }
    Message& with(std::string key, uint64_t value) { return with(std::move(key), std::to_string(value)); }
    /// The first of that key; empty where there is none.
    std::string_view field(std::string_view key) const {
        for (const auto& [name, value] : fields)
            if (name == key) return value;
        return {};
    }
    /// 0 where there is none, or it is no number.
    uint64_t number(std::string_view key) const {
        uint64_t value = 0;
        for (const char digit : field(key)) {
            if (digit < '0' || digit > '9' || value > UINT64_MAX / 10 - 1) return 0;
            value = value * 10 + static_cast<uint64_t>(digit - '0');
        }
        return value;
    }
};

/// As it is sent. Line feeds in values become spaces; fields that no longer fit are left out.
inline std::string packetOf(const Message& message) {
    std::string packet = message.word + "\n";
    for (const auto& [key, value] : message.fields) {
        if (packet.size() + key.size() + value.size() + 2 > kMostBytes) continue;
        packet += key + "=";
        for (const char c : value) packet += c == '\n' || c == '\0' ? ' ' : c;
        packet += "\n";
    }
    return packet;
}

/// Nothing where it is no message.
inline std::optional<Message> messageIn(std::string_view packet) {
    if (packet.empty() || packet.size() > kMostBytes || packet.back() != '\n') return std::nullopt;
    Message message;
    bool first = true;
    while (!packet.empty()) {
        const std::string_view line = packet.substr(0, packet.find('\n'));
        packet.remove_prefix(line.size() + 1);
        if (first) {
            if (line.empty()) return std::nullopt;
            message.word = line;
            first = false;
            continue;
        }
        const size_t equals = line.find('=');
        if (equals == 0 || equals == std::string_view::npos) return std::nullopt;
        message.fields.emplace_back(line.substr(0, equals), line.substr(equals + 1));
    }
    return message;
}

// ---- the socket ----------------------------------------------------------------------------------------------------

/// What the name of a socket ends with until it listens; it is renamed then.
inline constexpr char kUnready[] = ".new";
/// The folder of this user's sockets, whether or not it is there; one that this user alone may enter.
inline std::string socketFolder() {
    const char* const named = std::getenv("XDG_RUNTIME_DIR");
    if (named && *named == '/') return std::string(named) + "/fugato";
    const std::string user = std::to_string(::geteuid());
    struct stat status {};
    if (const std::string own = "/run/user/" + user; ::stat(own.c_str(), &status) == 0 && S_ISDIR(status.st_mode))
        return own + "/fugato";
    return "/tmp/fugato-" + user;
}

/// 0, or an errno value: EPERM where it belongs to another user, or others may enter it.
inline int lookAtSocketFolder(const std::string& folder) {
    struct stat status {};
    if (::lstat(folder.c_str(), &status) != 0) return errno;
    if (!S_ISDIR(status.st_mode)) return ENOTDIR;
    return status.st_uid == ::geteuid() && (status.st_mode & 077) == 0 ? 0 : EPERM;
}

/// Nothing where the path is too long for a socket.
inline std::optional<sockaddr_un> addressOf(const std::string& path) {
    sockaddr_un address{};
    address.sun_family = AF_UNIX;
    if (path.size() >= sizeof address.sun_path) return std::nullopt;
    std::memcpy(address.sun_path, path.c_str(), path.size() + 1);
    return address;
}

/// A socket that listens at a path, or -1 with errno set. It has its name only once it listens: what has one and
/// refuses connections is taken for that of a killed program.
inline int listenAt(const std::string& path, int most) {
    const std::string unready = path + kUnready;
    const auto address = addressOf(unready);
    if (!address) {
        errno = ENAMETOOLONG;
        return -1;
    }
    const int listening = ::socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    if (listening < 0) return -1;
    const bool bound = ::bind(listening, reinterpret_cast<const sockaddr*>(&*address), sizeof *address) == 0;
    if (bound && ::listen(listening, most) == 0 && ::rename(unready.c_str(), path.c_str()) == 0) return listening;
    const int error = errno;
    if (bound) ::unlink(unready.c_str());
    ::close(listening);
    errno = error;
    return -1;
}

/// Who is at the other end. Nothing where that is another user.
inline std::optional<ucred> peerOf(int connection) {
    ucred peer{};
    socklen_t size = sizeof peer;
    if (::getsockopt(connection, SOL_SOCKET, SO_PEERCRED, &peer, &size) != 0 || peer.uid != ::geteuid())
        return std::nullopt;
    return peer;
}

/// Sends a message, with an open file if `file` is not -1. Does not wait: false where it does not go at once.
inline bool sendMessage(int connection, const Message& message, int file = -1) {
    std::string packet = packetOf(message);
    iovec part{packet.data(), packet.size()};
    alignas(cmsghdr) char room[CMSG_SPACE(sizeof(int))]{};
    msghdr header{};
    header.msg_iov = &part;
    header.msg_iovlen = 1;
    if (file >= 0) {
        header.msg_control = room;
        header.msg_controllen = sizeof room;
        cmsghdr* const rights = CMSG_FIRSTHDR(&header);
        rights->cmsg_level = SOL_SOCKET;
        rights->cmsg_type = SCM_RIGHTS;
        rights->cmsg_len = CMSG_LEN(sizeof(int));
        std::memcpy(CMSG_DATA(rights), &file, sizeof file);
    }
    ssize_t sent = 0;
    do sent = ::sendmsg(connection, &header, MSG_DONTWAIT | MSG_NOSIGNAL);
    while (sent < 0 && errno == EINTR);
    return sent == static_cast<ssize_t>(packet.size());
}

struct Received {
    enum class What { Nothing, Message, End } what = What::Nothing;  // End: it is over, or was no message
    control::Message message;
    int file = -1;  // the receiver's to close
};
/// What has arrived. Does not wait.
inline Received receiveMessage(int connection) {
    Received received;
    char bytes[kMostBytes];
    iovec part{bytes, sizeof bytes};
    alignas(cmsghdr) char room[CMSG_SPACE(sizeof(int))];
    msghdr header{};
    header.msg_iov = &part;
    header.msg_iovlen = 1;
    header.msg_control = room;
    header.msg_controllen = sizeof room;
    ssize_t size = 0;
    do size = ::recvmsg(connection, &header, MSG_DONTWAIT | MSG_CMSG_CLOEXEC);
    while (size < 0 && errno == EINTR);
    if (size < 0 && (errno == EAGAIN || errno == EWOULDBLOCK)) return received;
    received.what = Received::What::End;
    if (size <= 0) return received;
    for (cmsghdr* one = CMSG_FIRSTHDR(&header); one; one = CMSG_NXTHDR(&header, one))
        if (one->cmsg_level == SOL_SOCKET && one->cmsg_type == SCM_RIGHTS && one->cmsg_len >= CMSG_LEN(sizeof(int)))
            std::memcpy(&received.file, CMSG_DATA(one), sizeof received.file);
    if (header.msg_flags & MSG_TRUNC) return received;
    if (auto message = messageIn({bytes, static_cast<size_t>(size)})) {
        received.message = std::move(*message);
        received.what = Received::What::Message;
    }
    return received;
}

}  // namespace fugato::control
