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
    friend class SharedRoom;
    struct Block {
        uint64_t at = 0, bytes = 0;
    };
    /// Of at least so many bytes, with whatever lies in it.
    Block take(uint64_t bytes);
    void giveBack(const std::vector<Block>& blocks);

    const std::shared_ptr<Storage> storage_;
    Mutex mutex_;
    std::map<uint64_t, std::vector<uint64_t>> spare_ FUGATO_GUARDED_BY(mutex_);  // by bytes: where
};

/// Room in which one recording after another has a column: of one at a time, see GrowingList.
class SharedRoom {
public:
    SharedRoom(std::shared_ptr<ArenaPool> pool, size_t bytes) : pool_(std::move(pool)), block_(pool_->take(bytes)) {}
    ~SharedRoom() { pool_->giveBack({block_}); }
    SharedRoom(const SharedRoom&) = delete;
    SharedRoom& operator=(const SharedRoom&) = delete;
    char* data() const { return pool_->storage().at(block_.at); }
    size_t bytes() const { return block_.bytes; }
    bool inUse() const { return inUse_.load(std::memory_order_acquire); }

private:
    friend class Arena;
    const std::shared_ptr<ArenaPool> pool_;
    const ArenaPool::Block block_;
    std::atomic<bool> inUse_{false};  // by a recording
};

/// Of one thread, until others only read what lies in it.
class Arena {
public:
    explicit Arena(std::shared_ptr<ArenaPool> room) : room_(std::move(room)) {}
    ~Arena() {
        room_->giveBack(blocks_);
        for (const auto& shared : shared_) shared->inUse_.store(false, std::memory_order_release);
    }
    Arena(const Arena&) = delete;
    Arena& operator=(const Arena&) = delete;
    /// As Storage::allocate(), but not filled with zeros.
    uint64_t allocate(size_t bytes);
    char* at(uint64_t offset) { return room_->storage().at(offset); }
    void write(uint64_t offset, const void* from, size_t bytes) { std::memcpy(at(offset), from, bytes); }
    /// New room for columns of this recording and of later ones.
    std::shared_ptr<SharedRoom> shareable(size_t bytes) const { return std::make_shared<SharedRoom>(room_, bytes); }
    /// It is in use as long as this arena is there.
    void use(std::shared_ptr<SharedRoom> shared) {
        shared->inUse_.store(true, std::memory_order_relaxed);
        shared_.push_back(std::move(shared));
    }

private:
    const std::shared_ptr<ArenaPool> room_;
    std::vector<ArenaPool::Block> blocks_;
    std::vector<std::shared_ptr<SharedRoom>> shared_;
    uint64_t used_ = 0;  // of the last block
};

}  // namespace fugato
