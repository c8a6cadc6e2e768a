// SPDX-License-Identifier: MIT
//
// Where blocks of a recording go: into a file (named by the host, or handed over as a descriptor, maybe by another
// process), or into memory. Not thread safe: guarded by Recorder::outputMutex.
#pragma once

#include <cstdint>
#include <deque>
#include <fugato_layout.hpp>
#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <utility>

#include "own_files.hpp"

namespace fugato::recording {

struct Block {
    layout::BlockType type{};
    uint32_t lane = 0, count = 0;
    uint64_t firstTicks = 0, lastTicks = 0;
    uint32_t position = 0;  // as in the block header
    std::string_view payload;
};

class BlockSink {
public:
    virtual ~BlockSink() = default;
    /// First of all, once.
    virtual bool writeHeader(const layout::FileHeader& header) = 0;
    /// False where it takes no more; error() says why.
    virtual bool writeBlock(const Block& block) = 0;
    virtual int error() const = 0;
};

/// An empty file that is locked for writing. Room is claimed on the disk ahead of writing, so that a disk that fills up
/// still takes the reason and the index.
class FileSink final : public BlockSink {
public:
    explicit FileSink(Descriptor file);
    bool writeHeader(const layout::FileHeader& header) override;
    bool writeBlock(const Block& block) override;
    int error() const override { return out_.error; }

    /// Whether it can take a header at all.
    bool hasRoom() { return claimAhead(sizeof(layout::FileHeader)); }
    /// Whether its last name was taken away since. One that never had a name is not removed.
    bool removed() const;
    /// Tells the file from others.
    std::pair<uint64_t, uint64_t> deviceAndInode() const;
    /// Says in it why it ends early, if it does; writes the index and closes it. False where that failed.
    bool finish(const std::string& why);
    /// In a child after fork: closes it, which stays the parent's.
    void leave() { file_ = Descriptor(); }

private:
    struct Out {
        int fd = -1, error = 0;
        bool operator()(std::string_view bytes);
    };
    struct Writer {
        Out* to;
        bool operator()(std::string_view bytes) const { return (*to)(bytes); }
    };
    bool claimAhead(size_t bytes);

    Descriptor file_;
    Out out_;
    layout::BlockFile<Writer> blocks_;
    bool named_ = true;
    uint64_t written_ = 0, claimed_ = 0, count_ = 0;
};

/// The newest blocks, as many as fit into so many bytes, and none older than so many nanoseconds (0: however old).
/// Definitions are not kept: who puts it into a file has them. A copy shares the blocks.
class MemorySink final : public BlockSink {
public:
    explicit MemorySink(uint64_t bytes = 0, uint64_t ns = 0) : most_(bytes), mostNs_(ns) {}
    bool writeHeader(const layout::FileHeader& header) override;
    bool writeBlock(const Block& block) override;
    int error() const override { return 0; }

    bool empty() const { return kept_.empty(); }
    /// Puts header, `definitions` and what is kept into another; where blocks were dropped, Lost events say how much
    /// there was no room for.
    bool putInto(BlockSink& other, const Block& definitions) const;

private:
    struct Kept {
        Block block;
        std::string payload;
        uint64_t at = 0;  // when it came
    };
    void dropOldest();

    uint64_t most_, mostNs_;
    layout::FileHeader header_{};
    std::deque<std::shared_ptr<const Kept>> kept_;
    uint64_t bytes_ = 0;
    std::map<uint32_t, uint64_t>
        dropped_;  // by lane: events for which there was no room; 0 where they were only too old
};

}  // namespace fugato::recording
