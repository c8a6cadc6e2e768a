// SPDX-License-Identifier: MIT
#include "recording_path.hpp"

#include <fcntl.h>
#include <limits.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <time.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstdlib>

namespace fugato::recording {

namespace {

constexpr unsigned kMostNumbers = 100'000;
constexpr int kMostTries = 8;             // while others take the file away
constexpr uint64_t kLeastRoom = 1 << 20;  // bytes; with less a recording is not begun

std::string absolute(const std::string& path) {
    if (path.empty() || path[0] == '/') return path;
    char here[PATH_MAX];
    return getcwd(here, sizeof here) ? std::string(here) + "/" + path : path;
}

/// "run.fugato" and 2: "run-2.fugato".
std::string numbered(const std::string& path, unsigned number) {
    const size_t slash = path.rfind('/'), dot = path.rfind('.');
    const bool hasEnding = dot != std::string::npos && (slash == std::string::npos || dot > slash + 1) && dot > 0;
    const size_t at = hasEnding ? dot : path.size();
    return path.substr(0, at) + "-" + std::to_string(number) + path.substr(at);
}

/// 0 where there is room for a recording, counting what the file itself takes.
int roomFor(int fd) {
    rlimit most{};
    if (getrlimit(RLIMIT_FSIZE, &most) == 0 && most.rlim_cur < kLeastRoom) return EFBIG;
    struct statvfs disk {};
    struct stat status {};
    if (::fstatvfs(fd, &disk) != 0 || ::fstat(fd, &status) != 0) return 0;
    const uint64_t there =
        static_cast<uint64_t>(disk.f_bavail) * disk.f_frsize + static_cast<uint64_t>(status.st_blocks) * 512;
    return disk.f_blocks && there < kLeastRoom ? ENOSPC : 0;
}

bool isRecording(int fd) {
    unsigned char magic[sizeof layout::kFileMagic] = {};
    return ::pread(fd, magic, sizeof magic, 0) == ssize_t{sizeof magic} &&
           std::memcmp(magic, layout::kFileMagic, sizeof magic) == 0;
}

/// Whether the path still leads to the open file.
bool stillThere(const std::string& path, int fd) {
    struct stat named {
    }, open{};
    return ::stat(path.c_str(), &named) == 0 && ::fstat(fd, &open) == 0 && named.st_dev == open.st_dev &&
           named.st_ino == open.st_ino;
}

/// One attempt at one path. EEXIST: a recording is there that stays.
CreatedFile tryToCreate(const std::string& path, Existing existing) {
    CreatedFile made;
    made.path = path;
    const auto failed = [&](int error, const char* why = "") {
        made.file = Descriptor();
        made.error = error;
        if (*why) made.why = "cannot record to " + path + ": " + why;
        return std::move(made);
    };
    for (int i = 0; i < kMostTries; ++i) {
        bool isNew = true;
        made.file = openOrdinary(path, O_RDWR | O_CREAT | O_EXCL, 0644);
        if (!made.file && errno == EEXIST) {
            isNew = false;
            made.file = openOrdinary(path, O_RDWR);
            if (!made.file && errno == ENOENT) continue;
        }
        if (!made.file && (errno == ENOTSUP || errno == EISDIR))
            return failed(errno,
                          errno == EISDIR ? "it is a folder" : "it is no ordinary file (a pipe, terminal or device)");
        if (!made.file) return failed(errno);
        const int fd = made.file.get();
        if (lockByte(fd, layout::kWriterLockAt) != 0 || lockByte(fd, layout::kWholeLockAt) != 0)
            return failed(EBUSY, "another program is recording to it");
        if (!stillThere(path, fd)) continue;
        struct stat status {};
        if (!isNew && ::fstat(fd, &status) == 0 && status.st_size > 0) {
            if (existing == Existing::Keep) return failed(EEXIST);
            if (existing == Existing::Refuse) return failed(EEXIST, "there is a file already");
            if (!isRecording(fd)) return failed(EEXIST, "the file that is there is no recording");
        }
        if (const int error = roomFor(fd)) {
            if (isNew) ::unlink(path.c_str());
            return failed(error);
        }
        if (::ftruncate(fd, 0) != 0) return failed(errno);
        return made;
    }
    return failed(EBUSY, "others keep taking the file away");
}

}  // namespace

std::string filledIn(const std::string& path, unsigned number) {
    std::string out;
    for (size_t i = 0; i < path.size(); ++i) {
        const char next = path[i] == '%' && i + 1 < path.size() ? path[i + 1] : '\0';
        if (next == 'p')
            out += std::to_string(::getpid());
        else if (next == 'n')
            out += std::to_string(number);
        else if (next == '%')
            out += '%';
        else if (next == 't') {
            char text[32] = "";
            const time_t now = ::time(nullptr);
            tm local{};
            if (localtime_r(&now, &local))
                std::snprintf(text, sizeof text, "%04d%02d%02d-%02d%02d%02d", local.tm_year + 1900, local.tm_mon + 1,
                              local.tm_mday, local.tm_hour, local.tm_min, local.tm_sec);
            out += text;
        } else {
            out += path[i];
            continue;
        }
        ++i;
    }
    return out;
}

CreatedFile takeRecording(int descriptor) {
    CreatedFile made;
    made.given = true;
    const auto failed = [&](int error, const char* why = "") {
        made.file = Descriptor();
        made.error = error;
        if (*why) made.why = std::string("cannot record to the file that was handed over: ") + why;
        return std::move(made);
    };
    struct stat status {};
    if (::fstat(descriptor, &status) != 0) return failed(errno, "it is not open");
    if (!S_ISREG(status.st_mode)) return failed(ENOTSUP, "it is no ordinary file");
    const std::string link = "/proc/self/fd/" + std::to_string(descriptor);
    made.file = Descriptor(::open(link.c_str(), O_RDWR | O_CLOEXEC));
    if (!made.file) return failed(errno, "it cannot be opened for reading and writing");
    const int fd = made.file.get();
    if (lockByte(fd, layout::kWriterLockAt) != 0 || lockByte(fd, layout::kWholeLockAt) != 0)
        return failed(EBUSY, "another program is recording to it");
    if (::fstat(fd, &status) != 0 || status.st_size > 0) return failed(EEXIST, "it is not empty");
    if (const int error = roomFor(fd)) return failed(error);
    char path[PATH_MAX];
    const ssize_t length = ::readlink(link.c_str(), path, sizeof path);
    if (length > 0 && status.st_nlink > 0) made.path.assign(path, static_cast<size_t>(length));
    return made;
}

CreatedFile createRecording(const std::string& path, Existing existing) {
    if (path.empty()) {
        CreatedFile none;
        none.error = EINVAL;
        return none;
    }
    const std::string first = absolute(filledIn(path, 1));
    bool counts = false;
    for (size_t i = 0; i + 1 < path.size(); ++i)
        if (path[i] == '%') counts = counts || path[++i] == 'n';
    CreatedFile made = tryToCreate(first, existing);
    const bool next = made.error == EEXIST && existing == Existing::Keep;
    if (!next && !(counts && made.error == EBUSY)) return made;
    for (unsigned number = 2; number < kMostNumbers; ++number) {
        const std::string name = counts ? absolute(filledIn(path, number)) : numbered(first, number);
        made = tryToCreate(name, Existing::Keep);
        if (made.error != EEXIST && made.error != EBUSY) break;
    }
    return made;
}

}  // namespace fugato::recording
