// SPDX-License-Identifier: MIT
//
// Files that others may have put there, and who lives that wrote them. Nothing here waits, follows a symbolic
// link it need not follow, or throws.
#pragma once

#include <cstdint>
#include <fugato_layout.hpp>
#include <string>

namespace fugato {

/// A descriptor that closes itself.
class Descriptor {
public:
    explicit Descriptor(int fd = -1) : fd_(fd) {}
    Descriptor(Descriptor&& other) noexcept : fd_(other.release()) {}
    Descriptor& operator=(Descriptor&& other) noexcept;
    ~Descriptor();
    int get() const { return fd_; }
    explicit operator bool() const { return fd_ >= 0; }
    int release() {
        const int fd = fd_;
        fd_ = -1;
        return fd;
    }

private:
    int fd_;
};

/// Opens an ordinary file; anything else (pipe, terminal, device, folder, socket) is refused without waiting for
/// it. `flags` as of open(). On failure errno tells: ENOTSUP for what is no ordinary file.
Descriptor openOrdinary(const std::string& path, int flags, unsigned mode = 0);
/// The same, and it must belong to this user and be no symbolic link; else errno is EPERM or ELOOP.
Descriptor openOwn(const std::string& path, int flags);

/// A name in `folder` that nobody can know beforehand.
std::string unknownName(const std::string& folder, const char* prefix, const char* suffix);
/// Gives an open file without a name (O_TMPFILE) one, in the place of what has it. 0 or an errno value.
int giveName(int fd, const std::string& path);
std::string folderOf(const std::string& path);

/// A write lock of the open file description on one byte: it stays when another descriptor of the same file is
/// closed in the same process, and is gone with the last descriptor that shares it. 0 or an errno value; EBUSY
/// where another has it. File systems without such locks count as locked.
int lockByte(int fd, int64_t at);
/// Whether another open file description holds it.
bool byteIsLocked(int fd, int64_t at);

/// When a process started, in ticks (sysconf) since the machine did; 0 where there is none of that number.
uint64_t startOfProcess(uint64_t process);
layout::ProcessIdentity thisProcess();
/// Whether it can be told for sure that the process is no more.
bool surelyGone(const layout::ProcessIdentity& process);

/// Reads a file whose size does not change; for fugato_blocks.hpp.
class FileBytes {
public:
    /// `fd` outlives it.
    explicit FileBytes(int fd);
    FileBytes(int fd, uint64_t size) : fd_(fd), size_(size) {}
    uint64_t size() const { return size_; }
    size_t read(uint64_t offset, char* out, size_t count);

private:
    int fd_;
    uint64_t size_ = 0;
};

}  // namespace fugato
