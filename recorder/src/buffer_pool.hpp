// SPDX-License-Identifier: MIT
//
// The memory that recorded threads write into: one file mapped for the program's whole life, a table
// of entries and a ring for each (fugato_layout.hpp). The file lives in /dev/shm where it can: a
// kill leaves it there, and no disk ever makes a thread that writes to it wait. All its room is
// claimed before it is used, so that a full disk cannot fault a thread. Not thread safe: guarded by
// Recorder::lanesMutex. Throws nothing.
#pragma once

#include <cstdint>
#include <fugato_layout.hpp>
#include <string>
#include <vector>

namespace fugato {

class BufferPool {
public:
    /// Maps `ringBytes` for rings, in the first folder of the list that allows it, else in memory
    /// that does not outlast the program. Returns false where there is no memory at all.
    bool open(const std::vector<std::string>& folders, uint64_t ringBytes);
    bool isOpen() const { return base_ != nullptr; }
    /// The file's path; empty where the buffers do not outlast the program.
    const std::string& path() const { return path_; }

    layout::BuffersHeader& header() { return *reinterpret_cast<layout::BuffersHeader*>(base_); }
    /// An empty buffer of `slots` (a power of two) for a lane; null where the memory set is used up.
    layout::BufferEntry* take(uint32_t lane, uint64_t slots);
    /// Takes a buffer back; some are kept for the next thread, the memory of others is freed.
    void giveBack(layout::BufferEntry* entry);
    /// Removes the file; the memory stays mapped.
    void unlink();

private:
    bool map(int fd, uint64_t bytes);

    char* base_ = nullptr;
    int fd_ = -1;
    uint64_t bytes_ = 0, used_ = 0;
    std::string path_;
    struct Ring {
        uint64_t offset, slots;
        bool claimed;
    };
    std::vector<Ring> free_;
    std::vector<uint32_t> freeEntries_;
    uint32_t nextEntry_ = 0;
};

}  // namespace fugato
