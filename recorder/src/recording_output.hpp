// SPDX-License-Identifier: MIT
//
// What becomes of a recording's blocks: they go into its file, or, after that failed and where the host wants it so,
// into memory. Not thread safe: guarded by Recorder::outputMutex.
#pragma once

#include "block_sink.hpp"
#include "recording_path.hpp"

namespace fugato::recording {

class RecordingOutput {
public:
    enum class State { Closed, File, Memory, Failed };

    RecordingOutput() = default;
    RecordingOutput(const RecordingOutput&) = delete;
    RecordingOutput& operator=(const RecordingOutput&) = delete;

    /// Begins with a file, if it could be had. Returns 0 or an errno value; with `keepInMemory` a file that could not,
    /// or no path at all, is no failure: blocks are kept, the newest `memoryBytes` of them, and none older than
    /// `memoryNs` (0: however old).
    int open(CreatedFile created, bool keepInMemory, uint64_t memoryBytes, uint64_t memoryNs = 0);
    void writeHeader(const layout::FileHeader& header);
    /// Returns false where nothing is kept any more.
    bool writeBlock(const Block& block);
    /// Notices that the file was removed; call now and then.
    void look();
    /// Writes the index and closes the file; what is kept in memory stays for save().
    void close();
    /// What is kept in memory goes to the front of a file, and all that follows into it. `definitions` are the records
    /// that describe it. Returns an errno value; then all stays as it was.
    int goOnInFile(CreatedFile created, std::string_view definitions, uint32_t definitionCount);
    /// Writes what is kept in memory. `definitions` are the records that describe it. Returns an errno value.
    int save(const std::string& path, std::string_view definitions, uint32_t definitionCount);

    /// What is kept in memory.
    const MemorySink& held() const { return memory_; }
    State state() const { return state_; }
    /// Why the file is no longer written; empty where it is.
    const std::string& reason() const { return reason_; }
    /// Of the file that is or was written last, absolute; empty where there is none.
    const std::string& path() const { return path_; }
    /// Tells the file from others; zeros where there is none.
    std::pair<uint64_t, uint64_t> deviceAndInode() const;
    /// In a child after fork: closes the file, which stays the parent's.
    void leaveFile();

private:
    void fail(const std::string& why);

    State state_ = State::Closed;
    bool keepInMemory_ = false;
    uint64_t memoryBytes_ = 0, memoryNs_ = 0;
    std::string path_, reason_;
    std::unique_ptr<FileSink> file_;
    MemorySink memory_;
};

}  // namespace fugato::recording
