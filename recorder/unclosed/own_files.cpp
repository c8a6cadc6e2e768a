// SPDX-License-Identifier: MIT
#include "own_files.hpp"

#include <fcntl.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <utility>

namespace fugato {

namespace {

/// The beginning of a small file of the system's; returns its length.
size_t contentOf(const char* path, char* out, size_t most) {
    const Descriptor file(::open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK));
    const ssize_t count = file ? ::read(file.get(), out, most) : 0;
    return count > 0 ? static_cast<size_t>(count) : 0;
}

uint64_t processSpace() {
    struct stat status {};
    return ::stat("/proc/self/ns/pid", &status) == 0 ? static_cast<uint64_t>(status.st_ino) : 0;
}

uint64_t bootNumber() {
    char id[64];
    const size_t size = contentOf("/proc/sys/kernel/random/boot_id", id, sizeof id);
    return size ? layout::checksum(id, size) : 0;
}

bool isOrdinary(int fd, struct stat& status) { return ::fstat(fd, &status) == 0 && S_ISREG(status.st_mode); }

struct flock writeLock(int64_t at) {
    struct flock lock {};
    lock.l_type = F_WRLCK;
    lock.l_whence = SEEK_SET;
    lock.l_start = static_cast<off_t>(at);
    lock.l_len = 1;
    return lock;
}

}  // namespace

uint64_t startOfProcess(uint64_t process) {
    char path[48], text[1024];
    std::snprintf(path, sizeof path, "/proc/%llu/stat", static_cast<unsigned long long>(process));
    const size_t size = contentOf(path, text, sizeof text - 1);
    text[size] = 0;
    const char* at = std::strrchr(text, ')');  // its name, in parentheses, may hold anything
    for (int field = 2; at && field < 22; ++field) at = std::strchr(at + 1, ' ');
    return at ? std::strtoull(at, nullptr, 10) : 0;
}

Descriptor& Descriptor::operator=(Descriptor&& other) noexcept {
    if (this != &other) {
        if (fd_ >= 0) ::close(fd_);
        fd_ = other.release();
    }
    return *this;
}

Descriptor::~Descriptor() {
    if (fd_ < 0) return;
    const int error = errno;
    ::close(fd_);
    errno = error;
}

Descriptor openOrdinary(const std::string& path, int flags, unsigned mode) {
    struct stat status {};
    // Looked at before it is opened: opening some devices does something already.
    if (::stat(path.c_str(), &status) == 0 && !S_ISREG(status.st_mode)) {
        errno = S_ISDIR(status.st_mode) ? EISDIR : ENOTSUP;
        return Descriptor();
    }
    Descriptor file(::open(path.c_str(), flags | O_CLOEXEC | O_NONBLOCK | O_NOCTTY, mode));
    if (!file || isOrdinary(file.get(), status)) return file;
    errno = ENOTSUP;
    return Descriptor();
}

Descriptor openOwn(const std::string& path, int flags) {
    struct stat status {};
    if (::lstat(path.c_str(), &status) != 0) return Descriptor();
    const auto mine = [&] { return S_ISREG(status.st_mode) && status.st_uid == ::geteuid(); };
    if (!mine()) {
        errno = S_ISLNK(status.st_mode) ? ELOOP : EPERM;
        return Descriptor();
    }
    Descriptor file(::open(path.c_str(), flags | O_CLOEXEC | O_NONBLOCK | O_NOCTTY | O_NOFOLLOW));
    if (!file || (::fstat(file.get(), &status) == 0 && mine())) return file;
    errno = EPERM;
    return Descriptor();
}

std::string folderOf(const std::string& path) {
    const size_t slash = path.rfind('/');
    return slash == std::string::npos ? "." : slash ? path.substr(0, slash) : "/";
}

std::string unknownName(const std::string& folder, const char* prefix, const char* suffix) {
    uint64_t chance = 0;
    if (getrandom(&chance, sizeof chance, GRND_NONBLOCK) != ssize_t{sizeof chance}) {
        timespec now{};
        clock_gettime(CLOCK_REALTIME, &now);
        chance = (static_cast<uint64_t>(now.tv_nsec) * 0x9e3779b97f4a7c15u) ^ static_cast<uint64_t>(now.tv_sec);
    }
    char number[24];
    std::snprintf(number, sizeof number, "%016llx", static_cast<unsigned long long>(chance));
    return folder + "/" + prefix + number + suffix;
}

int giveName(int fd, const std::string& path) {
    const std::string from = "/proc/self/fd/" + std::to_string(fd),
                      between = unknownName(folderOf(path), ".fugato-", ".part");
    if (::linkat(AT_FDCWD, from.c_str(), AT_FDCWD, between.c_str(), AT_SYMLINK_FOLLOW) != 0) return errno;
    if (::rename(between.c_str(), path.c_str()) == 0) return 0;
    const int error = errno;
    ::unlink(between.c_str());
    return error;
}

int lockByte(int fd, int64_t at) {
    struct flock lock = writeLock(at);
    if (::fcntl(fd, F_OFD_SETLK, &lock) == 0) return 0;
    return errno == EAGAIN || errno == EACCES ? EBUSY : 0;
}

bool byteIsLocked(int fd, int64_t at) {
    struct flock lock = writeLock(at);
    return ::fcntl(fd, F_OFD_GETLK, &lock) == 0 && lock.l_type != F_UNLCK;
}

layout::ProcessIdentity thisProcess() {
    const auto id = static_cast<uint64_t>(::getpid());
    return {id, processSpace(), startOfProcess(id), bootNumber()};
}

bool surelyGone(const layout::ProcessIdentity& process) {
    const uint64_t boot = bootNumber();
    if (boot && process.boot && boot != process.boot) return true;  // the machine has started anew since
    // Numbers of processes mean something in their own space only, and where they can be seen.
    if (!process.space || process.space != processSpace() || !process.start) return false;
    if (!startOfProcess(static_cast<uint64_t>(::getpid()))) return false;
    return startOfProcess(process.id) != process.start;
}

FileBytes::FileBytes(int fd) : fd_(fd) {
    struct stat status {};
    if (isOrdinary(fd, status)) size_ = static_cast<uint64_t>(status.st_size);
}

size_t FileBytes::read(uint64_t offset, char* out, size_t count) {
    size_t done = 0;
    while (done < count && offset <= INT64_MAX - done) {
        const ssize_t part = ::pread(fd_, out + done, count - done, static_cast<off_t>(offset + done));
        if (part < 0 && errno == EINTR) continue;
        if (part <= 0) break;
        done += static_cast<size_t>(part);
    }
    return done;
}

}  // namespace fugato
