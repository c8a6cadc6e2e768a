// SPDX-License-Identifier: GPL-3.0-or-later
#include "cache_file.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <fstream>
#include <fugato_layout.hpp>
#include <thread>

#include "format/byte_source.h"
#include "format/log.h"

namespace fugato {

namespace {

constexpr uint32_t kVersion = 7;

struct Header {  // at the front of the file; all of it is zero until the file is complete
    char magic[8];
    uint32_t version;
    uint32_t onDisk;  // 1: all of the file had reached the disk
    uint64_t state;   // of the recording's file
    uint64_t boot;    // of the machine, while it was made
    uint64_t bytes;   // of the storage
    uint64_t archiveAt, archiveBytes, archiveChecksum;
    uint64_t checksumsChecksum;  // of the checksums of the regions, which stand behind the storage
    uint64_t checksum;           // of the bytes before, with onDisk 0
};
static_assert(sizeof(Header) <= 128);

uint64_t checksumOf(Header header) {
    header.onDisk = 0;
    return layout::checksum(&header, offsetof(Header, checksum));
}

/// Tells one start of the machine from the next: what a file says that never reached the disk is true
/// until then only.
uint64_t bootNumber() {
    std::ifstream file("/proc/sys/kernel/random/boot_id");
    std::string id;
    std::getline(file, id);
    return layout::checksum(id.data(), id.size());
}

}  // namespace

uint64_t layoutNumber(std::span<const uint64_t> sizes) { return layout::checksum(sizes.data(), sizes.size_bytes()); }

bool completeCacheFile(Storage& storage, const std::string& archive, const CacheKey& cacheKey) {
    if (!storage.inFile() || storage.spilled()) return false;
    Header header{};
    std::memcpy(header.magic, cacheKey.magic, sizeof header.magic);
    header.version = kVersion;
    header.state = cacheKey.state ^ cacheKey.layout;
    header.boot = bootNumber();
    header.archiveAt = storage.allocate(archive.size());
    header.archiveBytes = archive.size();
    header.archiveChecksum = layout::checksum(archive.data(), archive.size());
    header.bytes = storage.size();
    if (storage.spilled()) return false;
    std::memcpy(storage.at(header.archiveAt), archive.data(), archive.size());
    storage.trim();
    const std::vector<uint64_t> checksums = storage.regionChecksums();
    const auto bytes = checksums.size() * sizeof(uint64_t);
    header.checksumsChecksum = layout::checksum(checksums.data(), bytes);
    if (::pwrite(storage.file(), checksums.data(), bytes, static_cast<off_t>(header.bytes)) !=
        static_cast<ssize_t>(bytes))
        return false;
    header.checksum = checksumOf(header);
    std::memcpy(storage.at(0), &header, sizeof header);
    // It is of use at once; that it survives a fall of the machine is settled beside everything else.
    const int fd = ::fcntl(storage.file(), F_DUPFD_CLOEXEC, 0);
    if (fd >= 0)
        std::thread([fd, header]() mutable {
            if (::fdatasync(fd) == 0) {
                header.onDisk = 1;
                const ssize_t written = ::pwrite(fd, &header, sizeof header, 0);
                (void)written;  // else the file is made anew after the next start
            }
            ::close(fd);
        }).detach();
    return true;
}

std::optional<CacheFile> openCacheFile(const std::string& path, const CacheKey& cacheKey) {
    const auto refused = [&](const char* why) -> std::optional<CacheFile> {
        log(LogLevel::Info, path + " is not used: " + why + ".");
        return std::nullopt;
    };
    auto file = openFile(path);
    Header header;
    if (!file) return refused("there is none, or it cannot be read");
    if ((*file)->read(0, reinterpret_cast<char*>(&header), sizeof header) != sizeof header ||
        std::memcmp(header.magic, cacheKey.magic, sizeof header.magic) != 0)
        return refused("it was not finished, or is something else");
    if (header.version != kVersion) return refused("another version of the program made it");
    if (header.checksum != checksumOf(header)) return refused("its header is damaged");
    if (header.state != (cacheKey.state ^ cacheKey.layout))
        return refused("the recording has changed since, or another version of the program made it");
    if (!header.onDisk && header.boot != bootNumber())
        return refused("the machine was restarted before all of it was on the disk");
    if (header.bytes > (*file)->size() || header.archiveAt > header.bytes ||
        header.archiveBytes > header.bytes - header.archiveAt)
        return refused("it was cut");
    CacheFile kept;
    kept.archive.resize(header.archiveBytes);
    if ((*file)->read(header.archiveAt, kept.archive.data(), kept.archive.size()) != kept.archive.size() ||
        layout::checksum(kept.archive.data(), kept.archive.size()) != header.archiveChecksum)
        return refused("what stands behind its columns is damaged");
    const uint64_t regions = Storage::regionsOf(header.bytes);
    if (regions * sizeof(uint64_t) > (*file)->size() - header.bytes) return refused("it was cut");
    std::vector<uint64_t> checksums(regions);
    const size_t bytes = regions * sizeof(uint64_t);
    if ((*file)->read(header.bytes, reinterpret_cast<char*>(checksums.data()), bytes) != bytes ||
        layout::checksum(checksums.data(), bytes) != header.checksumsChecksum)
        return refused("its checksums are damaged");
    auto storage = Storage::existing(path, header.bytes, std::move(checksums));
    if (!storage) return refused(storage.failure().sentence.c_str());
    kept.storage = std::move(*storage);
    ::utimensat(AT_FDCWD, path.c_str(), nullptr, 0);  // used now
    return kept;
}

}  // namespace fugato
