// SPDX-License-Identifier: MIT
#include "buffer_pool.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/mman.h>
#include <time.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>

namespace fugato {

using namespace layout;

namespace {

constexpr size_t kKeepFreeRings = 4;
constexpr char kPrefix[] = "fugato-", kSuffix[] = ".buffers";

/// Removes files that programs left behind which were not recording when they ended.
void sweep(const std::string& folder) {
    DIR* dir = opendir(folder.c_str());
    if (!dir) return;
    while (const dirent* found = readdir(dir)) {
        const std::string_view name = found->d_name;
        if (name.substr(0, sizeof kPrefix - 1) != kPrefix || name.size() < sizeof kSuffix ||
            name.substr(name.size() - sizeof kSuffix + 1) != kSuffix)
            continue;
        const std::string path = folder + "/" + found->d_name;
        const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
        if (fd < 0) continue;
        BuffersHeader header;
        const bool whole = ::pread(fd, &header, sizeof header, 0) == ssize_t{sizeof header} &&
                           std::memcmp(header.magic, kBuffersMagic, sizeof kBuffersMagic) == 0;
        ::close(fd);
        if (whole && !header.recording && kill(static_cast<pid_t>(header.processId), 0) != 0 && errno == ESRCH)
            ::unlink(path.c_str());
    }
    closedir(dir);
}

bool claim(int fd, uint64_t offset, uint64_t bytes) {
    for (;;) {
        const int error = posix_fallocate(fd, static_cast<off_t>(offset), static_cast<off_t>(bytes));
        if (error != EINTR) return error == 0;
    }
}

}  // namespace

bool BufferPool::map(int fd, uint64_t bytes) {
    const int flags = fd < 0 ? MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE : MAP_SHARED;
    void* at = mmap(nullptr, bytes, PROT_READ | PROT_WRITE, flags, fd, 0);
    if (at == MAP_FAILED) return false;
    base_ = static_cast<char*>(at);
    bytes_ = bytes;
    fd_ = fd;
    used_ = kBufferRingsAt;
    std::memcpy(header().magic, kBuffersMagic, sizeof kBuffersMagic);
    header().version = kBuffersVersion;
    header().processId = static_cast<uint64_t>(getpid());
    return true;
}

bool BufferPool::open(const std::vector<std::string>& folders, uint64_t ringBytes) {
    const uint64_t bytes = kBufferRingsAt + ringBytes;
    for (const std::string& folder : folders) {
        if (folder.empty()) continue;
        sweep(folder);
        timespec now{};
        clock_gettime(CLOCK_REALTIME, &now);
        char name[80];
        std::snprintf(name, sizeof name, "/%s%ld-%llx%s", kPrefix, static_cast<long>(getpid()),
                      static_cast<unsigned long long>(now.tv_sec) * 1'000'000'000ull +
                          static_cast<unsigned long long>(now.tv_nsec),
                      kSuffix);
        const std::string path = folder + name;
        const int fd = ::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
        if (fd < 0) continue;
        if (ftruncate(fd, static_cast<off_t>(bytes)) == 0 && claim(fd, 0, kBufferRingsAt) && map(fd, bytes)) {
            path_ = path;
            return true;
        }
        ::close(fd);
        ::unlink(path.c_str());
    }
    return map(-1, bytes);
}

BufferEntry* BufferPool::take(uint32_t lane, uint64_t slots) {
    uint32_t entryIndex;
    if (!freeEntries_.empty())
        entryIndex = freeEntries_.back();
    else if (nextEntry_ < kBufferEntries)
        entryIndex = nextEntry_;
    else
        return nullptr;

    Ring ring{0, slots, false};
    for (size_t i = 0; i < free_.size(); ++i)
        if (free_[i].slots == slots) {
            ring = free_[i];
            free_.erase(free_.begin() + static_cast<std::ptrdiff_t>(i));
            break;
        }
    const uint64_t bytes = slots * sizeof(BufferSlot);
    if (!ring.offset) {
        if (used_ + bytes > bytes_) return nullptr;
        ring.offset = used_;
        used_ += (bytes + 4095) / 4096 * 4096;
    }
    if (!ring.claimed && fd_ >= 0 && !claim(fd_, ring.offset, bytes)) {
        free_.push_back(ring);
        return nullptr;
    }
    if (freeEntries_.empty())
        ++nextEntry_;
    else
        freeEntries_.pop_back();
    auto* entry = reinterpret_cast<BufferEntry*>(base_ + kBufferTableAt) + entryIndex;
    *entry = BufferEntry{};
    entry->address = reinterpret_cast<uint64_t>(base_ + ring.offset);
    entry->mask = slots - 1;
    entry->offset = ring.offset;
    __atomic_store_n(&entry->lane, lane, __ATOMIC_RELEASE);
    return entry;
}

void BufferPool::giveBack(BufferEntry* entry) {
    Ring ring{entry->offset, entry->mask + 1, true};
    entry->lane = 0;
    if (free_.size() >= kKeepFreeRings) {
        const uint64_t bytes = ring.slots * sizeof(BufferSlot);
        if (fd_ >= 0)
            ring.claimed = fallocate(fd_, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, static_cast<off_t>(ring.offset),
                                     static_cast<off_t>(bytes)) != 0;
        else
            madvise(base_ + ring.offset, bytes, MADV_DONTNEED);
    }
    free_.push_back(ring);
    freeEntries_.push_back(static_cast<uint32_t>(entry - reinterpret_cast<BufferEntry*>(base_ + kBufferTableAt)));
}

void BufferPool::unlink() {
    if (!path_.empty()) ::unlink(path_.c_str());
    path_.clear();
}

}  // namespace fugato
