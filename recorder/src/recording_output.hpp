// SPDX-License-Identifier: MIT
//
// Where blocks go: the recording's file, or, after that failed and where the host wants it so,
// memory. Room is claimed on the disk ahead of writing, so that a disk that fills up still takes the
// reason and the index. Not thread safe: guarded by Recorder::outputMutex.
#pragma once

#include <cstdint>
#include <deque>
#include <fugato_layout.hpp>
#include <map>
#include <memory>
#include <string>
#include <utility>

#include "recording_path.hpp"

namespace fugato::recording {

class RecordingOutput {
public:
    enum class State { Closed, File, Memory, Failed };

    RecordingOutput() = default;
    RecordingOutput(const RecordingOutput&) = delete;
    RecordingOutput& operator=(const RecordingOutput&) = delete;

    /// Creates the file (recording_path.hpp tells where, and what is done with one that is there already).
    /// Returns 0 or an errno value; with `keepInMemory` a failure to create it is none: blocks are kept,
    /// the newest `memoryBytes` of them.
    int open(const std::string& path, Existing existing, bool keepInMemory, uint64_t memoryBytes);
    void writeHeader(const layout::FileHeader& header);
    /// `position` as in the block header. Returns false where nothing is kept any more.
    bool writeBlock(layout::BlockType type, uint32_t lane, uint32_t count, uint64_t firstTicks, uint64_t lastTicks,
                    std::string_view payload, uint32_t position = 0);
    /// Notices that the file was removed; call now and then.
    void look();
    /// Writes the index and closes the file; what is kept in memory stays for save().
    void close();
    /// Writes what is kept in memory. `definitions` are the records that describe it. Returns an errno value.
    int save(const std::string& path, std::string_view definitions, uint32_t definitionCount);

    State state() const { return state_; }
    /// Why the file is no longer written; empty where it is.
    const std::string& reason() const { return reason_; }
    uint64_t droppedEvents() const { return droppedInAll_; }
    /// Of the file that is or was written last, absolute; empty where there is none.
    const std::string& path() const { return path_; }
    /// Tells the file from others; zeros where there is none.
    std::pair<uint64_t, uint64_t> deviceAndInode() const;
    /// In a child after fork: lets go of the file, which stays the parent's.
    void leaveFile();

private:
    struct Out {
        int fd = -1;
        int error = 0;
        bool operator()(std::string_view bytes);
    };
    struct Writer {
        Out* to;
        bool operator()(std::string_view bytes) const { return (*to)(bytes); }
    };
    struct Kept {
        layout::BlockType type;
        uint32_t lane, count;
        uint64_t firstTicks, lastTicks;
        std::string payload;
    };
    bool claimAhead(size_t bytes);
    void fail(const std::string& why);
    void finishFile();
    bool keep(Kept block);

    State state_ = State::Closed;
    bool keepInMemory_ = false;
    uint64_t memoryBytes_ = 0;
    std::string path_, reason_;
    layout::FileHeader header_{};
    Out out_;
    std::unique_ptr<layout::BlockFile<Writer>> file_;
    uint64_t written_ = 0, claimed_ = 0, blocks_ = 0;
    std::deque<Kept> kept_;
    uint64_t keptBytes_ = 0, droppedInAll_ = 0;
    std::map<uint32_t, uint64_t> dropped_;  // events by lane
};

}  // namespace fugato::recording
