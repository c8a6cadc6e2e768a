// SPDX-License-Identifier: GPL-3.0-or-later
//
// Room in a Storage that is used again: for what one of several recordings, made one after another in the same
// storage, has for itself. What an Arena allocated is released when it is destroyed.
#pragma once

#include <map>

#include "storage.h"

namespace fugato {

/// The room of ended leases. Thread safe; leases share it.
class ArenaPool {
public:
    explicit ArenaPool(std::shared_ptr<Storage> storage) : storage_(std::move(storage)) {}
    Storage& storage() const { return *storage_; }

private:
    friend class Arena;
    struct Block {
        uint64_t at = 0, bytes = 0;
    };
    /// Of at least so many bytes, with whatever lies in it.
    Block take(uint64_t bytes);
    void giveBack(const std::vector<Block>& blocks);

    const std::shared_ptr<Storage> storage_;
    std::mutex lock_;
    std::map<uint64_t, std::vector<uint64_t>> spare_;  // by bytes: where
};

/// Of one thread, until others only read what lies in it.
class Arena {
public:
    explicit Arena(std::shared_ptr<ArenaPool> room) : room_(std::move(room)) {}
    ~Arena() { room_->giveBack(blocks_); }
    Arena(const Arena&) = delete;
    Arena& operator=(const Arena&) = delete;
    /// As Storage::allocate(), but not filled with zeros.
    uint64_t allocate(size_t bytes);
    char* at(uint64_t offset) { return room_->storage().at(offset); }

private:
    const std::shared_ptr<ArenaPool> room_;
    std::vector<ArenaPool::Block> blocks_;
    uint64_t used_ = 0;  // of the last block
};

}  // namespace fugato
