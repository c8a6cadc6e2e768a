// SPDX-License-Identifier: MIT
#include "recording_output.hpp"

#include <unistd.h>

#include <cerrno>
#include <cstring>

namespace fugato::recording {

using namespace layout;

namespace {

std::string reasonOf(int error) {
    return error == EFBIG ? "the limit on the size of files (ulimit -f) is reached" : std::strerror(error);
}

}  // namespace

int RecordingOutput::open(CreatedFile created, bool keepInMemory, uint64_t memoryBytes, uint64_t memoryNs) {
    keepInMemory_ = keepInMemory;
    memoryBytes_ = memoryBytes;
    memoryNs_ = memoryNs;
    memory_ = MemorySink(memoryBytes, memoryNs);
    reason_.clear();
    file_.reset();
    path_ = created.path;
    int error = created.error;
    if (keepInMemory && path_.empty() && error == EINVAL) {  // it was not to begin in a file
        state_ = State::Memory;
        return 0;
    }
    if (!error) {
        file_ = std::make_unique<FileSink>(std::move(created.file));
        if (!file_->hasRoom()) {
            error = file_->error();
            file_.reset();
            if (!created.given) ::unlink(path_.c_str());  // nothing was in it yet
        }
    }
    if (error) {
        reason_ = created.why.empty()
                      ? "cannot create " + (path_.empty() ? "(no path)" : path_) + ": " + reasonOf(error)
                      : created.why;
        state_ = keepInMemory ? State::Memory : State::Closed;
        return keepInMemory ? 0 : error;
    }
    state_ = State::File;
    return 0;
}

std::pair<uint64_t, uint64_t> RecordingOutput::deviceAndInode() const {
    return file_ ? file_->deviceAndInode() : std::pair<uint64_t, uint64_t>{0, 0};
}

void RecordingOutput::leaveFile() {
    if (file_) file_->leave();
}

void RecordingOutput::writeHeader(const FileHeader& header) {
    memory_.writeHeader(header);
    if (state_ == State::File && !file_->writeHeader(header)) fail(reasonOf(file_->error()));
}

bool RecordingOutput::writeBlock(const Block& block) {
    if (state_ == State::File) {
        if (file_->writeBlock(block)) return true;
        fail(reasonOf(file_->error()));
    }
    return state_ == State::Memory && memory_.writeBlock(block);
}

/// The file can take no more: says why in it, ends it, and goes on in memory where that is wanted.
void RecordingOutput::fail(const std::string& why) {
    reason_ = "writing " + path_ + " stopped: " + why;
    file_->finish(reason_);
    file_.reset();
    state_ = keepInMemory_ ? State::Memory : State::Failed;
}

void RecordingOutput::look() {
    if (state_ == State::File && file_->removed()) fail("the file was removed");
}

void RecordingOutput::close() {
    if (state_ == State::File) {
        if (!file_->finish({})) reason_ = "writing " + path_ + " stopped: " + reasonOf(file_->error());
        file_.reset();
    }
    if (state_ != State::Memory) state_ = State::Closed;
}

int RecordingOutput::goOnInFile(CreatedFile created, std::string_view definitions, uint32_t definitionCount) {
    if (state_ != State::Memory) return EINVAL;
    if (created.error) return created.error;
    auto file = std::make_unique<FileSink>(std::move(created.file));
    if (!memory_.putInto(*file, {BlockType::Definitions, 0, definitionCount, 0, 0, 0, definitions})) {
        if (!created.given) ::unlink(created.path.c_str());
        return file->error();
    }
    file_ = std::move(file);
    path_ = std::move(created.path);
    reason_.clear();
    memory_ = MemorySink(memoryBytes_, memoryNs_);
    state_ = State::File;
    return 0;
}

int RecordingOutput::save(const std::string& path, std::string_view definitions, uint32_t definitionCount) {
    if (memory_.empty()) return ENODATA;
    CreatedFile created = createRecording(path, Existing::Replace);
    if (created.error) return created.error;
    FileSink file(std::move(created.file));
    std::string all(definitions);
    appendFact(all, "recording stopped", reason_);
    const bool good = memory_.putInto(file, {BlockType::Definitions, 0, definitionCount + 1, 0, 0, 0, all});
    return file.finish({}) && good ? 0 : file.error();
}

}  // namespace fugato::recording
