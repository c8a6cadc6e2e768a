// SPDX-License-Identifier: MIT
#include "buffer_pool.hpp"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstring>

#include "own_files.hpp"
#include "unclosed_recording.hpp"

namespace fugato::recording {

using namespace layout;

namespace {

constexpr size_t kKeepFreeRings = 4;
constexpr size_t kMostAreas = 16;
constexpr uint64_t kFewestSlots = 256;  // where there is little room
constexpr uint64_t kShareOfAddresses = 16;
constexpr uint64_t kPage = 4096;

int claim(int fd, uint64_t offset, uint64_t bytes) {
    for (;;) {
        const int error = posix_fallocate(fd, static_cast<off_t>(offset), static_cast<off_t>(bytes));
        if (error != EINTR) return error;
    }
}

uint64_t wholePages(uint64_t bytes) { return (bytes + kPage - 1) / kPage * kPage; }

}  // namespace

void BufferPool::open(std::vector<std::string> folders, uint64_t mostBytes) {
    folders_ = std::move(folders);
    folders_.emplace_back();  // at last: plain memory
    mostBytes_ = mostBytes;
    isOpen_ = true;
}

/// Creates a file that only this user may read. It gets its name when it is locked, so that nobody takes it for
/// one that a killed program left.
int BufferPool::openFile(const std::string& folder, std::string& path) {
    char prefix[64];
    std::snprintf(prefix, sizeof prefix, "%s%ld-", kBuffersPrefix, static_cast<long>(getpid()));
    path = unknownName(folder, prefix, "");
    return ::open((path + kNewBuffersSuffix).c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600);
}

/// Maps between `least` and `wanted` bytes of rings.
bool BufferPool::map(Area& area, uint64_t least, uint64_t wanted) {
    rlimit most{};
    const bool limited = area.fd >= 0 && getrlimit(RLIMIT_FSIZE, &most) == 0 && most.rlim_cur != RLIM_INFINITY;
    rlimit addresses{};  // where they are few, most of them stay the program's
    if (getrlimit(RLIMIT_AS, &addresses) == 0 && addresses.rlim_cur != RLIM_INFINITY)
        wanted = std::max(least, std::min<uint64_t>(wanted, wholePages(addresses.rlim_cur / kShareOfAddresses)));
    for (uint64_t rings = wanted;; rings = std::max(least, rings / 4)) {
        const uint64_t bytes = kBufferRingsAt + rings;
        int error = limited && bytes > most.rlim_cur ? EFBIG : 0;
        if (!error && area.fd >= 0 && ftruncate(area.fd, static_cast<off_t>(bytes)) != 0) error = errno;
        if (!error) {
            const int flags = area.fd < 0 ? MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE : MAP_SHARED;
            void* at = mmap(nullptr, bytes, PROT_READ | PROT_WRITE, flags, area.fd, 0);
            if (at != MAP_FAILED) {
                area.base = static_cast<char*>(at);
                area.bytes = bytes;
                area.used = kBufferRingsAt;
                return true;
            }
            error = errno;
        }
        errno = error;
        if (rings <= least) return false;
    }
}

/// Puts into the area's header whose buffers these are.
void BufferPool::describe(Area& area) {
    BuffersHeader& header = area.header();
    header.originTicks = for_.originTicks;
    header.startedUnixNs = for_.startedUnixNs;
    header.device = for_.device;
    header.inode = for_.inode;
    header.pathBytes = for_.path.size() <= sizeof header.path ? static_cast<uint32_t>(for_.path.size()) : 0;
    std::memcpy(header.path, for_.path.data(), header.pathBytes);
    __atomic_store_n(&header.recording, recording_ ? 1u : 0u, __ATOMIC_RELEASE);
}

void BufferPool::note(const std::string& folder, int error) {
    if (trouble_.empty())
        trouble_ = "no room for buffers in " + (folder.empty() ? "memory" : folder) + ": " + std::strerror(error);
}

BufferPool::Area* BufferPool::addArea(const std::string& folder, uint64_t ringBytes) {
    if (areas_.size() >= kMostAreas || ringBytes_ >= mostBytes_) return nullptr;
    areas_.reserve(kMostAreas);
    Area area;
    area.folder = folder;
    const bool inFile = !folder.empty();
    if (inFile) {
        area.fd = openFile(folder, area.path);
        if (area.fd < 0) {
            note(folder, errno);
            return nullptr;
        }
    }
    const std::string made = area.path + kNewBuffersSuffix;
    int error = 0;
    if (!map(area, wholePages(ringBytes), std::max(wholePages(ringBytes), mostBytes_ - ringBytes_)))
        error = errno;
    else if (inFile)
        error = claim(area.fd, 0, kBufferTableAt);
    if (!error && inFile) {
        BuffersHeader& header = area.header();
        std::memcpy(header.magic, kBuffersMagic, sizeof kBuffersMagic);
        header.version = kBuffersVersion;
        header.process = thisProcess();
        lockByte(area.fd, kWriterLockAt);
        area.path += kBuffersSuffix;
        if (::rename(made.c_str(), area.path.c_str()) != 0) error = errno;
    }
    if (error) {
        note(folder, error);
        if (area.base) munmap(area.base, area.bytes);
        if (inFile) {
            ::close(area.fd);
            ::unlink(made.c_str());
        }
        return nullptr;
    }
    if (inFile) describe(area);
    // Plain memory comes last.
    const auto at =
        inFile ? std::find_if(areas_.begin(), areas_.end(), [](const Area& a) { return a.fd < 0; }) : areas_.end();
    return &*areas_.insert(at, std::move(area));
}

BufferEntry* BufferPool::takeFrom(Area& area, uint32_t lane, uint64_t slots) {
    uint32_t entryIndex;
    if (!area.freeEntries.empty())
        entryIndex = area.freeEntries.back();
    else if (area.nextEntry < kBufferEntries)
        entryIndex = area.nextEntry;
    else
        return nullptr;
    const uint64_t tableEnd = wholePages((uint64_t{entryIndex} + 1) * sizeof(BufferEntry));
    if (area.fd >= 0 && tableEnd > area.tableClaimed) {
        if (const int error = claim(area.fd, kBufferTableAt + area.tableClaimed, tableEnd - area.tableClaimed)) {
            errno = error;
            return nullptr;
        }
        area.tableClaimed = tableEnd;
    }

    Ring ring{0, slots, false};
    const uint64_t usedBefore = area.used;
    for (size_t i = 0; i < area.free.size(); ++i)
        if (area.free[i].slots == slots) {
            ring = area.free[i];
            area.free.erase(area.free.begin() + static_cast<std::ptrdiff_t>(i));
            break;
        }
    const uint64_t bytes = slots * sizeof(BufferSlot);
    if (!ring.offset) {
        errno = ENOMEM;
        if (bytes > area.bytes - area.used || ringBytes_ + bytes > mostBytes_) return nullptr;
        ring.offset = area.used;
        area.used = std::min(area.bytes, area.used + wholePages(bytes));
        ringBytes_ += bytes;
    }
    if (!ring.claimed && area.fd >= 0) {
        if (const int error = claim(area.fd, ring.offset, bytes)) {
            if (area.used != usedBefore) {
                area.used = usedBefore;
                ringBytes_ -= bytes;
            } else {
                area.free.push_back(ring);
            }
            errno = error;
            return nullptr;
        }
    }
    if (area.freeEntries.empty())
        ++area.nextEntry;
    else
        area.freeEntries.pop_back();
    BufferEntry* entry = area.entries() + entryIndex;
    *entry = BufferEntry{};
    entry->address = reinterpret_cast<uint64_t>(area.base + ring.offset);
    entry->mask = slots - 1;
    entry->offset = ring.offset;
    __atomic_store_n(&entry->lane, lane, __ATOMIC_RELEASE);
    return entry;
}

BufferEntry* BufferPool::take(uint32_t lane, uint64_t wanted) {
    if (!isOpen_) return nullptr;
    for (uint64_t slots = wanted; slots; slots = slots > kFewestSlots ? slots / 4 : 0)
        for (const std::string& folder : folders_) {
            int error = 0;
            for (Area& area : areas_) {
                if (area.folder != folder) continue;
                if (BufferEntry* entry = takeFrom(area, lane, slots)) return entry;
                error = errno;
            }
            if (error && error != ENOMEM) {  // no room on its disk, in another area neither
                note(folder, error);
                continue;
            }
            Area* area = addArea(folder, slots * sizeof(BufferSlot));
            if (!area) continue;
            if (BufferEntry* entry = takeFrom(*area, lane, slots)) return entry;
            note(folder, errno);
        }
    return nullptr;
}

void BufferPool::giveBack(BufferEntry* entry) {
    for (Area& area : areas_) {
        const char* at = reinterpret_cast<const char*>(entry);
        if (at < area.base || at >= area.base + area.bytes) continue;
        Ring ring{entry->offset, entry->mask + 1, true};
        entry->lane = 0;
        if (area.free.size() >= kKeepFreeRings) {
            const uint64_t bytes = ring.slots * sizeof(BufferSlot);
            if (area.fd >= 0)
                ring.claimed = fallocate(area.fd, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE,
                                         static_cast<off_t>(ring.offset), static_cast<off_t>(bytes)) != 0;
            else
                madvise(area.base + ring.offset, bytes, MADV_DONTNEED);
        }
        area.free.push_back(ring);
        area.freeEntries.push_back(static_cast<uint32_t>(entry - area.entries()));
        return;
    }
}

void BufferPool::beginRecording(const For& recording) {
    for_ = recording;
    recording_ = true;
    for (Area& area : areas_)
        if (area.fd >= 0) describe(area);
}

void BufferPool::endRecording() {
    recording_ = false;
    for (Area& area : areas_)
        if (area.fd >= 0) __atomic_store_n(&area.header().recording, 0u, __ATOMIC_RELEASE);
}

std::string BufferPool::path() const { return areas_.empty() || areas_[0].fd < 0 ? std::string() : areas_[0].path; }

void BufferPool::unlink() {
    for (Area& area : areas_) {
        if (!area.path.empty()) ::unlink(area.path.c_str());
        area.path.clear();
    }
}

void BufferPool::leaveFiles() {
    for (Area& area : areas_) {
        if (area.fd >= 0) ::close(area.fd);
        area.fd = -1;
    }
}

}  // namespace fugato::recording
