// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where bytes come from, so that tests can hand over damaged or failing ones.
#pragma once

#include <memory>
#include <string>

#include "result.h"

namespace fugato {

/// Random access to bytes that do not change while they are read. Any number of threads may read. There may come more:
/// a file that a program writes, bytes that a connection brings.
class ByteSource {
public:
    virtual ~ByteSource() = default;
    virtual uint64_t size() const = 0;
    /// Reads up to `count` bytes from `offset` into `out`; fewer where the bytes end or cannot be read.
    virtual size_t read(uint64_t offset, char* out, size_t count) = 0;

    /// Whether somebody who still runs may write more.
    virtual bool beingWritten() const { return false; }
    /// Looks what there is by now: size() may be another afterwards. While nobody reads.
    virtual void refresh() {}
};

class MemorySource final : public ByteSource {
public:
    explicit MemorySource(std::string bytes) : bytes_(std::move(bytes)) {}
    uint64_t size() const override { return bytes_.size(); }
    size_t read(uint64_t offset, char* out, size_t count) override;

private:
    std::string bytes_;
};

/// An ordinary file. One that becomes shorter meanwhile gives fewer bytes.
class FileSource final : public ByteSource {
public:
    /// The failure names the file and says what to do. Never waits: pipes, devices and the like are refused.
    static Result<std::unique_ptr<FileSource>> open(const std::string& path);
    ~FileSource() override;
    FileSource(const FileSource&) = delete;
    FileSource& operator=(const FileSource&) = delete;
    uint64_t size() const override { return size_; }
    size_t read(uint64_t offset, char* out, size_t count) override;
    bool beingWritten() const override;
    void refresh() override;
    int descriptor() const { return fd_; }

private:
    FileSource(int fd, uint64_t size) : fd_(fd), size_(size) {}
    int fd_;
    uint64_t size_;
};
Result<std::unique_ptr<ByteSource>> openFile(const std::string& path);

/// Writes a whole file through a temporary one without a name in the same folder, so that a failure leaves nothing
/// half done. One that is replaced keeps its permissions, its owner, and its other names.
class FileWriter {
public:
    static Result<std::unique_ptr<FileWriter>> create(const std::string& path);
    ~FileWriter();
    FileWriter(const FileWriter&) = delete;
    FileWriter& operator=(const FileWriter&) = delete;
    bool write(std::string_view bytes);
    /// Puts the finished file in place. Call once; without it the temporary file is removed.
    Result<std::monostate> finish();

private:
    FileWriter() = default;
    bool flush();
    int copyInto(int to);

    std::string shown_, path_, temporary_, buffer_;  // shown_: as it was asked for
    int fd_ = -1;
    int error_ = 0;
};

}  // namespace fugato
