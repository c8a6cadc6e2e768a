// SPDX-License-Identifier: GPL-3.0-or-later
#include "byte_source.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

namespace fugato {

namespace {

class FileSource final : public ByteSource {
public:
    FileSource(int fd, uint64_t size) : fd_(fd), size_(size) {}
    ~FileSource() override { ::close(fd_); }
    uint64_t size() const override { return size_; }
    size_t read(uint64_t offset, char* out, size_t count) override {
        size_t done = 0;
        while (done < count) {
            const ssize_t part = ::pread(fd_, out + done, count - done, static_cast<off_t>(offset + done));
            if (part < 0 && errno == EINTR) continue;
            if (part <= 0) break;
            done += static_cast<size_t>(part);
        }
        return done;
    }

private:
    int fd_;
    uint64_t size_;
};

std::string reasonAndAdvice(int error) {
    switch (error) {
        case ENOENT: return "there is no such file. Check the path.";
        case EACCES:
        case EPERM: return "you have no permission. Change the file's permissions or copy it to a place of your own.";
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

Result<std::unique_ptr<ByteSource>> openFile(const std::string& path) {
    const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (fd < 0) return Failure{"Cannot open " + path + ": " + reasonAndAdvice(errno)};
    struct stat status {};
    if (::fstat(fd, &status) != 0 || !S_ISREG(status.st_mode)) {
        const bool folder = S_ISDIR(status.st_mode);
        ::close(fd);
        return Failure{"Cannot open " + path + ": it is " + (folder ? "a folder" : "not an ordinary file") +
                       ". Choose a recording (.fugato or .jsonl)."};
    }
    return std::unique_ptr<ByteSource>(new FileSource(fd, static_cast<uint64_t>(status.st_size)));
}

FileWriter::FileWriter(std::string path, std::string temporary, int fd)
    : path_(std::move(path)), temporary_(std::move(temporary)), fd_(fd) {}

Result<std::unique_ptr<FileWriter>> FileWriter::create(const std::string& path) {
    const std::string temporary = path + ".part";
    const int fd = ::open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (fd < 0) return Failure{"Cannot write " + path + ": " + reasonAndAdvice(errno)};
    return std::unique_ptr<FileWriter>(new FileWriter(path, temporary, fd));
}

FileWriter::~FileWriter() {
    if (fd_ < 0) return;
    ::close(fd_);
    ::unlink(temporary_.c_str());
}

bool FileWriter::flush() {
    std::string_view left = buffer_;
    while (!left.empty() && !error_) {
        const ssize_t done = ::write(fd_, left.data(), left.size());
        if (done < 0 && errno == EINTR) continue;
        if (done <= 0) {
            error_ = done < 0 ? errno : ENOSPC;
            break;
        }
        left.remove_prefix(static_cast<size_t>(done));
    }
    buffer_.clear();
    return !error_;
}

bool FileWriter::write(std::string_view bytes) {
    buffer_.append(bytes);
    return buffer_.size() < (1u << 18) ? !error_ : flush();
}

Result<std::monostate> FileWriter::finish() {
    if (flush() && ::close(fd_) != 0) error_ = errno;
    fd_ = error_ ? fd_ : -1;
    if (!error_ && ::rename(temporary_.c_str(), path_.c_str()) != 0) error_ = errno;
    if (error_) {
        ::unlink(temporary_.c_str());
        return Failure{"Cannot write " + path_ + ": " + reasonAndAdvice(error_)};
    }
    return std::monostate{};
}

}  // namespace fugato
