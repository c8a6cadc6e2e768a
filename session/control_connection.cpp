// SPDX-License-Identifier: GPL-3.0-or-later
#include "control_connection.h"

#include <poll.h>

#include <chrono>

#include "format/shown_text.h"

namespace fugato {

Result<ControlConnection> ControlConnection::open(const std::string& socket) {
    const auto address = control::addressOf(socket);
    if (!address) return Failure{"The path " + socket + " is too long for a socket."};
    Descriptor connection(::socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
    if (!connection) return Failure{std::string("No socket can be had: ") + std::strerror(errno)};
    if (::connect(connection.get(), reinterpret_cast<const sockaddr*>(&*address), sizeof *address) != 0) {
        if (errno == ECONNREFUSED) ::unlink(socket.c_str());  // its program was killed
        return Failure{};
    }
    const auto peer = control::peerOf(connection.get());
    if (!peer) return Failure{"The program behind " + socket + " belongs to another user."};
    return ControlConnection(std::move(connection), peer->pid);
}

control::Received ControlConnection::receive() {
    control::Received received = control::receiveMessage(connection_.get());
    if (received.file >= 0) ::close(std::exchange(received.file, -1));  // nothing of that kind is expected
    return received;
}

Result<control::Message> ControlConnection::ask(const control::Message& request, int file, int ms) {
    using Clock = std::chrono::steady_clock;
    constexpr char kNoAnswer[] = "The program does not answer. It may be stopped, or very busy.";
    if (!send(request, file)) return Failure{errno == EAGAIN ? kNoAnswer : "The program has ended."};
    for (const auto until = Clock::now() + std::chrono::milliseconds(ms);;) {
        control::Received received = receive();
        if (received.what == control::Received::What::End) return Failure{"The program has ended."};
        if (received.what == control::Received::What::Message) {
            if (received.message.word != "refused") return std::move(received.message);
            return Failure{"The program says: " + shownText(received.message.field("why")) + "."};
        }
        const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(until - Clock::now()).count();
        pollfd waiting{connection_.get(), POLLIN, 0};
        if (left <= 0 || ::poll(&waiting, 1, static_cast<int>(left)) == 0) return Failure{kNoAnswer};
    }
}

}  // namespace fugato
