// SPDX-License-Identifier: GPL-3.0-or-later
//
// One connection to a program on this device, and the recording made by it here, which is sent on as it grows. It
// outlives the line for a while: what is recorded meanwhile is sent when the line is back. One thread; waits for
// nothing.
#pragma once

#include <chrono>
#include <deque>
#include <functional>
#include <memory>
#include <own_files.hpp>
#include <string>

#include "relay/line/chunks.h"

namespace fugato::line {

class RelayedProgram {
public:
    using Send = std::function<void(const Chunk&)>;

    /// Failure: an empty pointer. `folder` is where its recording will lie.
    static std::unique_ptr<RelayedProgram> open(const std::string& socket, std::string folder);

    const std::string& id() const { return id_; }  // by which it is found again
    int descriptor() const { return connection_.get(); }
    uint32_t channel = 0;

    /// A request from the other side.
    void request(const Chunk& packet, const Send& send);
    /// There is no line: nothing is passed on until it is resumed.
    void suspend() { suspended_ = true; }
    bool isSuspended() const { return suspended_; }
    /// The line is back, and so much of the recording has arrived. False where that cannot be.
    bool resume(uint64_t has);
    /// The other side has all of the recording, or wants no more of it.
    void forget();
    /// Something that was recorded has not been fetched.
    bool hasRecording() const { return bool(file_); }
    /// Passes on what the program says and what it has recorded; `room`: so many bytes at most. False once there is
    /// nothing more to come.
    bool work(size_t room, const Send& send);

private:
    RelayedProgram(Descriptor connection, std::string folder);
    void startRecording(const control::Message& request, uint64_t number, const Send& send);
    void refuse(const Send& send, uint64_t request, const std::string& why) const;
    void sendRecording(size_t room, const Send& send);
    bool isWritten();
    void makeWholeHere();

    Descriptor connection_;
    const std::string folder_, id_;
    Descriptor file_;
    std::string path_;
    uint64_t sent_ = 0;
    bool suspended_ = false, programGone_ = false, recordingBegan_ = false, recordingEnded_ = false, endSent_ = false;
    std::chrono::steady_clock::time_point lookedAt_;
    std::deque<uint64_t> asked_;  // numbers of requests that the program has not answered yet
    struct Answer {
        uint64_t request;
        control::Message message;
    };
    std::deque<Answer> held_;  // to be passed on behind its recording
};

}  // namespace fugato::line
