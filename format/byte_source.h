// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where bytes come from, so that tests can hand over damaged or failing ones.
#pragma once

#include <memory>
#include <string>

#include "result.h"

namespace fugato {

/// Random access to bytes that do not change while they are read. Any number of threads may read.
class ByteSource {
public:
    virtual ~ByteSource() = default;
    virtual uint64_t size() const = 0;
    /// Reads up to `count` bytes from `offset` into `out`; fewer where the bytes end or cannot be read.
    virtual size_t read(uint64_t offset, char* out, size_t count) = 0;
};

class MemorySource final : public ByteSource {
public:
    explicit MemorySource(std::string bytes) : bytes_(std::move(bytes)) {}
    uint64_t size() const override { return bytes_.size(); }
    size_t read(uint64_t offset, char* out, size_t count) override;

private:
    std::string bytes_;
};

/// Opens a file for reading; the failure names it and says what to do.
Result<std::unique_ptr<ByteSource>> openFile(const std::string& path);

/// Writes a whole file through a temporary one beside it, so that a failure leaves nothing half done.
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
    FileWriter(std::string path, std::string temporary, int fd);
    std::string path_, temporary_, buffer_;
    int fd_;
    int error_ = 0;
    bool flush();
};

}  // namespace fugato
