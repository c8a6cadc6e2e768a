// SPDX-License-Identifier: MIT
//
// The memory that recorded threads write into: areas, each a table of entries and a ring for each
// (fugato_layout.hpp). An area is a file mapped for the program's whole life, in /dev/shm where that can
// be: a kill leaves it there, and no disk ever makes a thread that writes to it wait. All its room is
// claimed before it is used, so that a full disk cannot fault a thread. Where a folder has no room
// the next is taken, ring by ring, at last plain memory. Not thread safe: guarded by
// Recorder::lanesMutex. Throws std::bad_alloc only.
#pragma once

#include <cstdint>
#include <fugato_layout.hpp>
#include <string>
#include <vector>

namespace fugato::recording {

class BufferPool {
public:
    /// The recording that is made from now on; `path` is absolute. Buffers of areas in files outlast the program.
    struct For {
        uint64_t originTicks = 0;
        int64_t startedUnixNs = 0;
        uint64_t device = 0, inode = 0;
        std::string path;
    };
    /// Says where rings may lie, best place first, and how many bytes they take in all at most. Takes nothing yet.
    void open(std::vector<std::string> folders, uint64_t mostBytes);
    bool isOpen() const { return isOpen_; }
    void beginRecording(const For& recording);
    void endRecording();

    /// An empty buffer of `slots` (a power of two), or fewer where there is little room; null where the memory
    /// set is used up.
    layout::BufferEntry* take(uint32_t lane, uint64_t slots);
    /// Takes a buffer back; some are kept for the next thread, the memory of others is freed.
    void giveBack(layout::BufferEntry* entry);
    /// The path of the first file; empty where no buffer outlasts the program.
    std::string path() const;
    /// Why not all buffers are where they should be, in a sentence; empty where they are.
    const std::string& trouble() const { return trouble_; }
    /// Removes the files; the memory stays mapped.
    void unlink();
    /// In a child after fork: lets go of the files, which stay the parent's.
    void leaveFiles();

private:
    struct Ring {
        uint64_t offset, slots;
        bool claimed;
    };
    struct Area {
        char* base = nullptr;
        int fd = -1;
        uint64_t bytes = 0, used = 0, tableClaimed = 0;
        std::string folder, path;  // folder empty: plain memory
        std::vector<Ring> free;
        std::vector<uint32_t> freeEntries;
        uint32_t nextEntry = 0;

        layout::BuffersHeader& header() const { return *reinterpret_cast<layout::BuffersHeader*>(base); }
        layout::BufferEntry* entries() const {
            return reinterpret_cast<layout::BufferEntry*>(base + layout::kBufferTableAt);
        }
    };
    layout::BufferEntry* takeFrom(Area& area, uint32_t lane, uint64_t slots);
    Area* addArea(const std::string& folder, uint64_t ringBytes);
    int openFile(const std::string& folder, std::string& path);
    bool map(Area& area, uint64_t least, uint64_t wanted);
    void describe(Area& area);
    void note(const std::string& folder, int error);

    bool isOpen_ = false, recording_ = false;
    std::vector<std::string> folders_;  // best first; the empty one at the end is plain memory
    uint64_t mostBytes_ = 0, ringBytes_ = 0;
    For for_;
    std::vector<Area> areas_;  // those in files first, in the order of the folders
    std::string trouble_;
};

}  // namespace fugato::recording
