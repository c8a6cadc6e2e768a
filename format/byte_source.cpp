// SPDX-License-Identifier: GPL-3.0-or-later
#include "byte_source.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <fugato_layout.hpp>
#include <own_files.hpp>

namespace fugato {

namespace {

std::string reasonAndAdvice(int error) {
    switch (error) {
        case ENOENT: return "there is no such file. Check the path.";
        case EACCES:
        case EPERM: return "you have no permission. Change the file's permissions or copy it to a place of your own.";
        case EFBIG: return "the limit on the size of files is reached. Raise it (ulimit -f) and try again.";
        case EDQUOT:
        case ENOSPC: return "the disk is full. Free some space and try again.";
        case EROFS: return "the folder is read-only. Choose another place.";
        default: return std::string(std::strerror(error)) + ".";
    }
}

}  // namespace

size_t MemorySource::read(uint64_t offset, char* out, size_t count) {
    if (offset >= bytes_.size()) return 0;
    const size_t part = std::min<uint64_t>(count, bytes_.size() - offset);
    std::memcpy(out, bytes_.data() + offset, part);
    return part;
}

FileSource::~FileSource() { ::close(fd_); }

size_t FileSource::read(uint64_t offset, char* out, size_t count) {
    return FileBytes(fd_, size_).read(offset, out, count);
}

bool FileSource::beingWritten() const { return byteIsLocked(fd_, layout::kWriterLockAt); }

void FileSource::refresh() { size_ = FileBytes(fd_).size(); }

Result<std::unique_ptr<FileSource>> FileSource::open(const std::string& path) {
    Descriptor file = openOrdinary(path, O_RDONLY);
    if (!file && (errno == ENOTSUP || errno == EISDIR))
        return Failure{"Cannot open " + path + ": it is " +
                       (errno == EISDIR ? "a folder" : "no ordinary file (a pipe, socket or device)") +
                       ". Choose a recording (.fugato or .jsonl)."};
    if (!file) return Failure{"Cannot open " + path + ": " + reasonAndAdvice(errno)};
    const uint64_t size = FileBytes(file.get()).size();
    return std::unique_ptr<FileSource>(new FileSource(file.release(), size));
}

Result<std::unique_ptr<ByteSource>> openFile(const std::string& path) {
    auto file = FileSource::open(path);
    if (!file) return file.failure();
    return std::unique_ptr<ByteSource>(std::move(*file));
}

Result<std::unique_ptr<FileWriter>> FileWriter::create(const std::string& path) {
    std::unique_ptr<FileWriter> writer(new FileWriter);
    // A symbolic link stays one: its file is written.
    char* whole = ::realpath(path.c_str(), nullptr);
    writer->shown_ = path;
    writer->path_ = whole ? whole : path;
    std::free(whole);
    const std::string folder = folderOf(writer->path_);
    const auto failed = [&](int error) {
        return Failure{"Cannot write " + path + ": " + reasonAndAdvice(error), false, true};
    };
    struct stat status {};
    const bool there = ::stat(writer->path_.c_str(), &status) == 0;
    if (there && !S_ISREG(status.st_mode))
        return Failure{"Cannot write " + path + ": it is " +
                           (S_ISDIR(status.st_mode) ? "a folder" : "no ordinary file (a pipe, socket or device)") +
                           ". Choose another name.",
                       false, true};
    const mode_t mode = there ? 0600 : 0666;  // what replaces a file gets its permissions when it is complete
    int fd = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, mode);
    if (fd < 0 && (errno == EOPNOTSUPP || errno == EISDIR || errno == EINVAL)) {
        writer->temporary_ = unknownName(folder, ".fugato-", ".part");
        fd = ::open(writer->temporary_.c_str(), O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, mode);
        if (fd < 0) writer->temporary_.clear();
    }
    if (fd < 0) return failed(errno);
    writer->fd_ = fd;
    return writer;
}

FileWriter::~FileWriter() {
    if (fd_ >= 0) ::close(fd_);
    if (!temporary_.empty()) ::unlink(temporary_.c_str());
}

static int writeAll(int fd, std::string_view left) {
    while (!left.empty()) {
        const ssize_t done = ::write(fd, left.data(), left.size());
        if (done < 0 && errno == EINTR) continue;
        if (done <= 0) return done < 0 ? errno : ENOSPC;
        left.remove_prefix(static_cast<size_t>(done));
    }
    return 0;
}

bool FileWriter::flush() {
    if (!error_) error_ = writeAll(fd_, buffer_);
    buffer_.clear();
    return !error_;
}

bool FileWriter::write(std::string_view bytes) {
    buffer_.append(bytes);
    return buffer_.size() < (1u << 18) ? !error_ : flush();
}

/// Puts the finished bytes into a file that has other names as well, which are to stay.
int FileWriter::copyInto(int to) {
    std::string part(1 << 20, '\0');
    FileBytes from(fd_);
    // Room first: what is there is overwritten.
    int error = ::posix_fallocate(to, 0, static_cast<off_t>(std::max<uint64_t>(1, from.size())));
    if (error == EOPNOTSUPP || error == EINVAL) error = 0;
    for (uint64_t at = 0; at < from.size() && !error;) {
        const size_t count = from.read(at, part.data(), part.size());
        error = count ? writeAll(to, {part.data(), count}) : EIO;
        at += count;
    }
    if (!error && ::ftruncate(to, static_cast<off_t>(from.size())) != 0) error = errno;
    if (!error && ::fsync(to) != 0) error = errno;
    return error;
}

Result<std::monostate> FileWriter::finish() {
    flush();
    if (!error_ && ::fsync(fd_) != 0) error_ = errno;  // on the disk before it takes another's place
    struct stat status {};
    const bool there = ::stat(path_.c_str(), &status) == 0;
    if (!error_ && there && status.st_nlink > 1) {
        const Descriptor to = openOrdinary(path_, O_WRONLY);
        error_ = to ? copyInto(to.get()) : errno;
    } else if (!error_) {
        if (there) {
            if (::fchown(fd_, status.st_uid, status.st_gid) != 0 && status.st_uid != ::geteuid()) error_ = errno;
            if (!error_ && ::fchmod(fd_, status.st_mode & 07777) != 0) error_ = errno;
        }
        if (!error_ && temporary_.empty())
            error_ = giveName(fd_, path_);
        else if (!error_ && ::rename(temporary_.c_str(), path_.c_str()) == 0)
            temporary_.clear();
        else if (!error_)
            error_ = errno;
        const Descriptor folder(::open(folderOf(path_).c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
        if (folder) ::fsync(folder.get());
    }
    if (error_) return Failure{"Cannot write " + shown_ + ": " + reasonAndAdvice(error_), false, true};
    return std::monostate{};
}

}  // namespace fugato
