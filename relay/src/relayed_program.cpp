// SPDX-License-Identifier: GPL-3.0-or-later
#include "relayed_program.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <unclosed_recording.hpp>

namespace fugato::line {

namespace {

constexpr auto kBetweenLooks = std::chrono::milliseconds(100);

std::string randomId() {
    const std::string path = unknownName("", "", "");  // a slash and sixteen digits
    return path.substr(1);
}

}  // namespace

RelayedProgram::RelayedProgram(Descriptor connection, std::string folder)
    : connection_(std::move(connection)), folder_(std::move(folder)), id_(randomId()) {}

std::unique_ptr<RelayedProgram> RelayedProgram::open(const std::string& socket, std::string folder) {
    const auto address = control::addressOf(socket);
    Descriptor connection(::socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
    if (!address || !connection ||
        ::connect(connection.get(), reinterpret_cast<const sockaddr*>(&*address), sizeof *address) != 0 ||
        !control::peerOf(connection.get()))
        return nullptr;
    return std::unique_ptr<RelayedProgram>(new RelayedProgram(std::move(connection), std::move(folder)));
}

void RelayedProgram::refuse(const Send& send, uint64_t request, const std::string& why) const {
    send({Chunk::Kind::Packet, channel, request, control::packetOf(control::Message{"refused", {}}.with("why", why))});
}

void RelayedProgram::startRecording(const control::Message& request, uint64_t number, const Send& send) {
    if (file_) return refuse(send, number, "it is being recorded from there already");
    const std::string path = folder_ + "/" + id_ + ".fugato";
    Descriptor file(::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600));
    if (!file)
        return refuse(send, number,
                      "no recording can be made in " + folder_ + " on the device: " + std::strerror(errno));
    if (!control::sendMessage(connection_.get(), request, file.get())) {
        ::unlink(path.c_str());
        return refuse(send, number, "the program does not answer");
    }
    asked_.push_back(number);
    file_ = std::move(file);
    path_ = path;
    sent_ = 0;
    recordingBegan_ = recordingEnded_ = endSent_ = false;
}

void RelayedProgram::request(const Chunk& packet, const Send& send) {
    const auto message = control::messageIn(packet.bytes);
    const uint64_t number = packet.number >> 1;
    if (!message) return refuse(send, number, "that was no request");
    if (packet.number & 1) return startRecording(*message, number, send);
    if (message->word == "record") return refuse(send, number, "only whole recordings can be made on another device");
    if (programGone_ || !control::sendMessage(connection_.get(), *message))
        return refuse(send, number, programGone_ ? "the program has ended" : "the program does not answer");
    asked_.push_back(number);
}

bool RelayedProgram::resume(uint64_t has) {
    struct stat status {};
    if (!file_) {
        suspended_ = false;
        return has == 0;
    }
    if (::fstat(file_.get(), &status) != 0 || has > static_cast<uint64_t>(status.st_size)) return false;
    sent_ = has;
    endSent_ = suspended_ = false;
    return true;
}

void RelayedProgram::forget() {
    if (!path_.empty()) ::unlink(path_.c_str());
    path_.clear();
    file_ = Descriptor();
}

/// Whether the program still writes the recording.
bool RelayedProgram::isWritten() {
    if (recordingEnded_) return false;
    const auto now = std::chrono::steady_clock::now();
    if (programGone_ || now - lookedAt_ >= kBetweenLooks) {
        lookedAt_ = now;
        // Its lock is there from the program's answer on until it has closed the recording.
        const bool written = !programGone_ && (!recordingBegan_ || byteIsLocked(file_.get(), layout::kWriterLockAt));
        if (!written) {
            if (programGone_) makeWholeHere();
            recordingEnded_ = true;
        }
    }
    return !recordingEnded_;
}

/// The program was killed: what it had not written yet is put into the recording, over what was cut off in the middle.
void RelayedProgram::makeWholeHere() {
    const Unclosed unclosed = lookAtUnclosed(file_.get(), path_);
    if (unclosed.state != Unclosed::State::Ended || makeWhole(path_).outcome != MadeWhole::Outcome::Done) return;
    sent_ = std::min(sent_, unclosed.keep);
}

void RelayedProgram::sendRecording(size_t room, const Send& send) {
    if (!file_ || endSent_) return;
    const bool written = isWritten();  // before the size: what it writes last is seen then
    struct stat status {};
    if (::fstat(file_.get(), &status) != 0) return;
    const auto size = static_cast<uint64_t>(status.st_size);
    while (sent_ < size && room >= kMostBytes) {
        Chunk part{Chunk::Kind::Recording, channel, sent_,
                   std::string(std::min<uint64_t>(kMostBytes, size - sent_), 0)};
        const ssize_t got = ::pread(file_.get(), part.bytes.data(), part.bytes.size(), static_cast<off_t>(sent_));
        if (got <= 0) break;
        part.bytes.resize(static_cast<size_t>(got));
        sent_ += static_cast<uint64_t>(got);
        room -= part.bytes.size();
        send(part);
    }
    if (!written && sent_ >= size) {
        send({Chunk::Kind::End, channel, size, {}});
        endSent_ = true;
    }
}

bool RelayedProgram::work(size_t room, const Send& send) {
    while (!programGone_) {
        control::Received received = control::receiveMessage(connection_.get());
        if (received.file >= 0) ::close(received.file);  // nothing of that kind is expected
        if (received.what == control::Received::What::Nothing) break;
        if (received.what == control::Received::What::End) {
            programGone_ = true;
            break;
        }
        if (received.message.word == "recording") recordingBegan_ = true;
        if (received.message.word == "refused" && file_ && !recordingBegan_) forget();  // it does not begin
        if (asked_.empty()) continue;                                                   // programs only answer
        held_.push_back({asked_.front(), std::move(received.message)});
        asked_.pop_front();
    }
    sendRecording(room, send);
    // Who is told that it has been left has the whole recording by then.
    for (; !held_.empty() && (held_.front().message.word != "left" || !file_ || endSent_); held_.pop_front())
        send({Chunk::Kind::Packet, channel, held_.front().request, control::packetOf(held_.front().message)});
    return !programGone_ || hasRecording();
}

}  // namespace fugato::line
