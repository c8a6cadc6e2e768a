// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where the columns of a recording lie: one range of addresses, filled from the front, in memory or in
// a file that is mapped there. What lies in a file may leave memory and come back when it is read, so a
// recording may be larger than memory: under a limit, what was used longest ago is evicted.
//
// What was kept in a file is checked part by part, when it is first read: a part that is not what it was reads as
// zeros, and damaged() tells. So does one that can no longer be read, since the file was cut or its disk fails.
//
// allocate() may be called from several threads; what it returned is filled by the caller, before
// others are told of it. Reading needs no lock. Pointers stay valid as long as the Storage lives.
#pragma once

#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <cstring>
#include <fugato_mutex.hpp>
#include <functional>
#include <memory>
#include <stdexcept>
#include <string>
#include <string_view>
#include <thread>
#include <vector>

#include "format/result.h"

namespace fugato {

/// Where a text lies in a Storage; 0: the empty text.
using TextRef = uint64_t;

class Storage {
public:
    static constexpr int kRegionBits = 18;  // a region: what is evicted, checked and noted as used together
    static constexpr uint64_t kRegion = uint64_t{1} << kRegionBits;

    /// `why`: what whyInMemory() says, where it was to lie in a file.
    static std::shared_ptr<Storage> inMemory(std::string why = {});
    /// In a new file without a name in `folder`: it is gone when nobody uses it any more, unless it gets
    /// a name. Where the disk has no room, the rest lies in memory (spilled() and
    /// whyInMemory() tell).
    static Result<std::shared_ptr<Storage>> inFolder(const std::string& folder);
    /// An empty one for what belongs to the same recording: in a new file of the same folder, with the same limit. In
    /// memory where this one is, or the folder takes no more.
    std::shared_ptr<Storage> beside() const;
    /// Names the file `path` and replaces a file of that name. Not thread safe: call it before sharing the Storage.
    bool giveName(const std::string& path);
    /// Of the file, which has this name; empty where it has none, or there is no file.
    const std::string& path() const { return path_; }
    /// The first `bytes` of a file of this user's that another Storage filled; only to be read. `checksums`: what
    /// regionChecksums() said of it.
    static Result<std::shared_ptr<Storage>> existing(const std::string& path, uint64_t bytes,
                                                     std::vector<uint64_t> checksums);
    /// Of each region that is filled, but for the first kFirst bytes.
    std::vector<uint64_t> regionChecksums() const;
    static uint64_t regionsOf(uint64_t bytes) { return (bytes + kRegion - 1) >> kRegionBits; }
    static constexpr uint64_t kFirst = 128;  // before it: room for a header, and 0 that means "nothing"
    /// Whether some of it was found not to be what was kept.
    bool damaged() const { return damaged_.load(std::memory_order_relaxed); }
    /// Checks [offset, offset + bytes) now. Returns false where it is not what was kept.
    bool check(uint64_t offset, uint64_t bytes) const;
    /// Whether the bytes [from, to) of the storage that begins at `base` may be read as what they are.
    using Contents = std::function<bool(const char* base, uint64_t from, uint64_t to)>;
    /// Besides its checksum, each region that is checked from now on must be `good`. Returns whether those are that
    /// were checked before, or need no check. To be told once, before others read.
    bool checkContents(Contents good);
    ~Storage();
    Storage(const Storage&) = delete;
    Storage& operator=(const Storage&) = delete;

    /// Room for `bytes`, at a multiple of 8, filled with zeros. Throws std::bad_alloc where there is none.
    uint64_t allocate(size_t bytes);
    char* at(uint64_t offset) { return base_ + offset; }
    /// Fills a part of what was allocated. Quicker than copying to at() where it lies in a file, whose pages need not
    /// become memory of the process for that.
    void write(uint64_t offset, const void* from, size_t bytes);
    /// Also notes that this part was used. Up to kRegion bytes from there on may be read.
    const char* at(uint64_t offset) const {
        std::atomic<uint32_t>& used = used_[offset >> kRegionBits];
        const uint32_t now = now_.load(std::memory_order_acquire);
        if (used.load(std::memory_order_acquire) != now) {
            if (checked_) check(offset, kRegion);
            used.store(now, std::memory_order_release);
            noteComing(1);
        }
        return base_ + offset;
    }
    std::string_view text(TextRef text) const;
    uint64_t size() const { return size_.load(std::memory_order_acquire); }
    bool inFile() const { return fd_ >= 0; }
    /// Whether part of it had to stay in memory since the disk was full.
    bool spilled() const { return spilled_.load(); }
    /// Why (part of) a recording that was to lie in a file does not, in a sentence for the person; else empty.
    std::string whyInMemory() const;
    /// Cuts the file to what is filled; the content reaches the disk in its own time.
    void trim();
    /// The file behind it, or -1.
    int file() const { return fd_; }

    /// From now on, whenever the process has more than `bytes` in memory, lets go of the parts in the file
    /// that were used longest ago. 0: no limit. What does not lie in a file stays.
    void keepWithin(uint64_t bytes);
    uint64_t limit() const;
    /// Does so at once, and not only now and then. Returns how many bytes the process has in memory afterwards; 0 where
    /// nothing lies in a file.
    uint64_t letGo(uint64_t bytes) const;
    /// Whether [offset, offset + bytes) can be read without waiting for a disk, or for being checked.
    bool resident(uint64_t offset, size_t bytes) const;
    /// Reads it into memory and checks it, however long that takes.
    void fetch(uint64_t offset, size_t bytes) const;
    /// Bytes of the process that lie in memory now.
    static uint64_t residentBytes();

private:
    static constexpr uint32_t kLookAfter = 128;  // regions that came into use: then memory is looked at again
    Storage(int fd, uint64_t reserved);
    static std::shared_ptr<Storage> make(int fd, uint64_t least);
    bool commit(uint64_t upTo) FUGATO_NEEDS(growing_);
    /// So many regions came into use, or were filled: wakes the keeper where they are many, and where it does not
    /// keep up does its work.
    void noteComing(uint32_t regions) const {
        const uint32_t before = coming_.fetch_add(regions, std::memory_order_relaxed);
        if ((before & (kLookAfter - 1)) + regions >= kLookAfter) lookAgain(before + regions);
    }
    void lookAgain(uint32_t coming) const;
    uint64_t letGoNow(uint64_t bytes) const;

    uint64_t checksumOf(uint64_t region) const;
    void checkRegion(uint64_t region) const;
    bool contentsAreGood(uint64_t region) const;

    char* base_ = nullptr;
    const int fd_;
    std::string folder_, path_;  // of a file
    std::string whyInMemory_;
    std::vector<uint64_t> checksums_;  // by region
    Contents contents_;                // may be empty
    enum Checked : uint8_t { kUnchecked, kBeingChecked, kGood, kBad };
    std::unique_ptr<std::atomic<uint8_t>[]> checked_;  // by region; null where there is nothing to check
    mutable std::atomic<bool> damaged_{false};
    int watched_ = -1;  // where a failing read looks for it
    uint64_t reserved_;
    Mutex growing_;  // held, too, where size_ and what is spilled are changed
    uint64_t committed_ FUGATO_GUARDED_BY(growing_) = 0;
    std::atomic<uint64_t> size_{kFirst};
    std::atomic<bool> spilled_{false};
    std::atomic<uint64_t> spilledFrom_{UINT64_MAX};
    mutable std::atomic<uint32_t> now_{1};
    std::atomic<uint32_t>* used_;  // by region: the value of now_ at its last use
    mutable Mutex keeping_;        // one at a time lets go

    mutable std::atomic<uint32_t> coming_{0}, looked_{0};  // regions that came, in all and when last looked at
    mutable Mutex limiting_;
    mutable std::condition_variable_any changed_;
    std::atomic<uint64_t> limit_{0};
    bool ending_ FUGATO_GUARDED_BY(limiting_) = false;
    std::thread keeper_;
};

/// Numbers or plain structs side by side, read like a vector. A view: its Storage outlives it.
template <class T>
class Column {
public:
    using value_type = T;
    Column() = default;
    Column(const T* data, size_t size) : data_(data), size_(size) {}
    /// Copies values into a storage (or an Arena of one); `more` behind them.
    template <class Place>
    static Column of(Place& place, const std::vector<T>& values, const std::vector<T>& more = {}) {
        static_assert(std::is_trivially_copyable_v<T>);
        const size_t size = values.size() + more.size();
        if (!size) return {};
        const uint64_t to = place.allocate(size * sizeof(T));
        if (!values.empty()) place.write(to, values.data(), values.size() * sizeof(T));
        if (!more.empty()) place.write(to + values.size() * sizeof(T), more.data(), more.size() * sizeof(T));
        return {reinterpret_cast<const T*>(place.at(to)), size};
    }

    size_t size() const { return size_; }
    bool empty() const { return !size_; }
    const T* data() const { return data_; }
    const T* begin() const { return data_; }
    const T* end() const { return data_ + size_; }
    const T& operator[](size_t i) const { return data_[i]; }
    const T& at(size_t i) const {
        if (i >= size_) throw std::out_of_range("Column::at");
        return data_[i];
    }
    const T& front() const { return data_[0]; }
    const T& back() const { return data_[size_ - 1]; }
    friend bool operator==(const Column& column, const std::vector<T>& values) {
        return std::equal(column.begin(), column.end(), values.begin(), values.end());
    }
    /// For whoever built it, until others read it.
    T* writable() const { return const_cast<T*>(data_); }

private:
    const T* data_ = nullptr;
    size_t size_ = 0;
};

/// Puts texts into a storage, each once where it comes again soon. Use from one thread.
class TextWriter {
public:
    explicit TextWriter(Storage& storage) : storage_(storage) {}
    TextRef add(std::string_view text);
    /// Without looking whether it is there already; for bytes that are no text.
    TextRef addBytes(std::string_view bytes);

private:
    struct Known {
        TextRef text = 0;
        uint64_t hash = 0;
    };
    Storage& storage_;
    uint64_t slab_ = 0;
    size_t left_ = 0;
    std::vector<Known> known_;
};

}  // namespace fugato
