// SPDX-License-Identifier: GPL-3.0-or-later
//
// Requests of files that took longer than a limit, told after they have ended, so that the others cost two looks at the
// clock: what was done, to which path, how many bytes.
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <sys/stat.h>
#include <sys/uio.h>
#include <time.h>
#include <unistd.h>

#include <cstdlib>

#include "hook.hpp"

namespace fugato::preload {

namespace {

constexpr int64_t kLongNs = 100'000;

fug_site kOpen = PLACELESS_SITE("Open file", "file", "");
fug_site kRead = PLACELESS_SITE("Read file", "file", "");
fug_site kWrite = PLACELESS_SITE("Write file", "file", "");
fug_site kSync = PLACELESS_SITE("Write file to disk", "file", "Until the disk has it");
fug_key kPath = FUG_KEY("path"), kBytes = FUG_KEY("bytes");

int64_t monotonicNs() {
    timespec time{};
    clock_gettime(CLOCK_MONOTONIC, &time);
    return time.tv_sec * int64_t{1'000'000'000} + time.tv_nsec;
}

class FileRequest {
public:
    explicit FileRequest(fug_site& site) : site_(site), told_(recorded()) {
        if (!told_) return;
        beginTicks_ = fug_now();
        begin_ = monotonicNs();
    }
    FileRequest(const FileRequest&) = delete;
    FileRequest& operator=(const FileRequest&) = delete;

    void ofPath(const char* path) {
        if (!tookLong()) return;
        const KeepErrno keep;
        tell(path, -1);
    }
    /// Of ordinary files only: pipes and connections are waited for by their nature.
    void ofFile(int file, ssize_t bytes) {
        if (!tookLong()) return;
        const KeepErrno keep;
        struct stat status {};
        if (fstat(file, &status) != 0 || !S_ISREG(status.st_mode)) return;
        char link[40], path[1024];
        snprintf(link, sizeof link, "/proc/self/fd/%d", file);
        const ssize_t length = readlink(link, path, sizeof path - 1);
        path[length > 0 ? length : 0] = '\0';
        tell(path, bytes);
    }

private:
    bool tookLong() const { return told_ && monotonicNs() - begin_ >= kLongNs; }
    void tell(const char* path, ssize_t bytes) {
        fug_at(beginTicks_);
        const int began = fug_wait_begin(&site_, 0, FUG_WAIT_FILE);
        if (began && path) fug_text(&kPath, path);
        if (began && bytes >= 0) fug_integer(&kBytes, bytes);
        fug_at_now();
        fug_wait_end(began, 0);
    }

    fug_site& site_;
    const bool told_;
    uint64_t beginTicks_ = 0;
    int64_t begin_ = 0;
};

}  // namespace

}  // namespace fugato::preload

using namespace fugato::preload;

FUGATO_REAL(open);
FUGATO_REAL(open64);
FUGATO_REAL(openat);
FUGATO_REAL(openat64);
FUGATO_REAL(fopen);
FUGATO_REAL(fopen64);
FUGATO_REAL(read);
FUGATO_REAL(pread);
FUGATO_REAL(pread64);
FUGATO_REAL(readv);
FUGATO_REAL(fread);
FUGATO_REAL(write);
FUGATO_REAL(pwrite);
FUGATO_REAL(pwrite64);
FUGATO_REAL(writev);
FUGATO_REAL(fwrite);
FUGATO_REAL(fflush);
FUGATO_REAL(fclose);
FUGATO_REAL(fsync);
FUGATO_REAL(fdatasync);

namespace {

/// The third argument, where the flags say that there is one.
mode_t modeIn(int flags, va_list more) {
    return (flags & O_CREAT) || (flags & O_TMPFILE) == O_TMPFILE ? va_arg(more, mode_t) : 0;
}

template <class Open>
int openFile(const char* path, Open&& open) {
    FileRequest request(kOpen);
    const int file = open();
    request.ofPath(path);
    return file;
}
template <class Transfer>
auto transfer(fug_site& site, int file, Transfer&& call) {
    FileRequest request(site);
    const auto bytes = call();
    request.ofFile(file, static_cast<ssize_t>(bytes));
    return bytes;
}

}  // namespace

FUGATO_STANDS_IN int open(const char* path, int flags, ...) {
    va_list more;
    va_start(more, flags);
    const mode_t mode = modeIn(flags, more);
    va_end(more);
    return openFile(path, [=] { return real_open.get()(path, flags, mode); });
}
FUGATO_STANDS_IN int open64(const char* path, int flags, ...) {
    va_list more;
    va_start(more, flags);
    const mode_t mode = modeIn(flags, more);
    va_end(more);
    return openFile(path, [=] { return real_open64.get()(path, flags, mode); });
}
FUGATO_STANDS_IN int openat(int folder, const char* path, int flags, ...) {
    va_list more;
    va_start(more, flags);
    const mode_t mode = modeIn(flags, more);
    va_end(more);
    return openFile(path, [=] { return real_openat.get()(folder, path, flags, mode); });
}
FUGATO_STANDS_IN int openat64(int folder, const char* path, int flags, ...) {
    va_list more;
    va_start(more, flags);
    const mode_t mode = modeIn(flags, more);
    va_end(more);
    return openFile(path, [=] { return real_openat64.get()(folder, path, flags, mode); });
}
FUGATO_STANDS_IN FILE* fopen(const char* path, const char* mode) {
    FileRequest request(kOpen);
    FILE* const file = real_fopen.get()(path, mode);
    request.ofPath(path);
    return file;
}
FUGATO_STANDS_IN FILE* fopen64(const char* path, const char* mode) {
    FileRequest request(kOpen);
    FILE* const file = real_fopen64.get()(path, mode);
    request.ofPath(path);
    return file;
}

FUGATO_STANDS_IN ssize_t read(int file, void* to, size_t bytes) {
    return transfer(kRead, file, [=] { return real_read.get()(file, to, bytes); });
}
FUGATO_STANDS_IN ssize_t pread(int file, void* to, size_t bytes, off_t at) {
    return transfer(kRead, file, [=] { return real_pread.get()(file, to, bytes, at); });
}
FUGATO_STANDS_IN ssize_t pread64(int file, void* to, size_t bytes, off64_t at) {
    return transfer(kRead, file, [=] { return real_pread64.get()(file, to, bytes, at); });
}
FUGATO_STANDS_IN ssize_t readv(int file, const iovec* parts, int count) {
    return transfer(kRead, file, [=] { return real_readv.get()(file, parts, count); });
}
FUGATO_STANDS_IN size_t fread(void* to, size_t size, size_t count, FILE* file) {
    FileRequest request(kRead);
    const size_t read = real_fread.get()(to, size, count, file);
    request.ofFile(fileno(file), static_cast<ssize_t>(read * size));
    return read;
}
FUGATO_STANDS_IN ssize_t write(int file, const void* from, size_t bytes) {
    return transfer(kWrite, file, [=] { return real_write.get()(file, from, bytes); });
}
FUGATO_STANDS_IN ssize_t pwrite(int file, const void* from, size_t bytes, off_t at) {
    return transfer(kWrite, file, [=] { return real_pwrite.get()(file, from, bytes, at); });
}
FUGATO_STANDS_IN ssize_t pwrite64(int file, const void* from, size_t bytes, off64_t at) {
    return transfer(kWrite, file, [=] { return real_pwrite64.get()(file, from, bytes, at); });
}
FUGATO_STANDS_IN ssize_t writev(int file, const iovec* parts, int count) {
    return transfer(kWrite, file, [=] { return real_writev.get()(file, parts, count); });
}
FUGATO_STANDS_IN size_t fwrite(const void* from, size_t size, size_t count, FILE* file) {
    FileRequest request(kWrite);
    const size_t written = real_fwrite.get()(from, size, count, file);
    request.ofFile(fileno(file), static_cast<ssize_t>(written * size));
    return written;
}
FUGATO_STANDS_IN int fflush(FILE* file) {
    if (!file) return real_fflush.get()(file);
    FileRequest request(kWrite);
    const int failed = real_fflush.get()(file);
    request.ofFile(fileno(file), -1);
    return failed;
}
FUGATO_STANDS_IN int fclose(FILE* file) {
    FileRequest request(kWrite);
    const int failed = real_fclose.get()(file);
    request.ofPath(nullptr);  // what it was is gone
    return failed;
}
FUGATO_STANDS_IN int fsync(int file) {
    FileRequest request(kSync);
    const int failed = real_fsync.get()(file);
    request.ofFile(file, -1);
    return failed;
}
FUGATO_STANDS_IN int fdatasync(int file) {
    FileRequest request(kSync);
    const int failed = real_fdatasync.get()(file);
    request.ofFile(file, -1);
    return failed;
}
