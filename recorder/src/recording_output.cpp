// SPDX-License-Identifier: MIT
#include "recording_output.hpp"

#include <fcntl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <vector>

namespace fugato::recording {

using namespace layout;

namespace {

constexpr uint64_t kClaimBytes = 1 << 20;
constexpr uint64_t kRoomForReason = 4096;

std::string reasonOf(int error) {
    return error == EFBIG ? "the limit on the size of files (ulimit -f) is reached" : std::strerror(error);
}

}  // namespace

bool RecordingOutput::Out::operator()(std::string_view bytes) {
    while (!bytes.empty()) {
        const ssize_t done = ::write(fd, bytes.data(), bytes.size());
        if (done < 0 && errno == EINTR) continue;
        if (done <= 0) {
            error = done < 0 ? errno : ENOSPC;
            return false;
        }
        bytes.remove_prefix(static_cast<size_t>(done));
    }
    return true;
}

int RecordingOutput::open(const std::string& path, Existing existing, bool keepInMemory, uint64_t memoryBytes) {
    keepInMemory_ = keepInMemory;
    memoryBytes_ = memoryBytes;
    reason_.clear();
    kept_.clear();
    dropped_.clear();
    keptBytes_ = droppedInAll_ = written_ = claimed_ = blocks_ = 0;
    out_ = {};
    file_.reset();
    CreatedFile created = createRecording(path, existing);
    path_ = created.path;
    int error = created.error;
    out_.fd = created.file.release();
    if (!error && !claimAhead(sizeof(FileHeader))) {
        error = out_.error;
        ::close(out_.fd);
        out_.fd = -1;
        ::unlink(path_.c_str());  // nothing was in it yet
    }
    if (error) {
        reason_ = created.why.empty()
                      ? "cannot create " + (path_.empty() ? "(no path)" : path_) + ": " + reasonOf(error)
                      : created.why;
        state_ = keepInMemory ? State::Memory : State::Closed;
        return keepInMemory ? 0 : error;
    }
    file_ = std::make_unique<BlockFile<Writer>>(Writer{&out_});
    state_ = State::File;
    return 0;
}

std::pair<uint64_t, uint64_t> RecordingOutput::deviceAndInode() const {
    struct stat status {};
    if (out_.fd < 0 || ::fstat(out_.fd, &status) != 0) return {0, 0};
    return {static_cast<uint64_t>(status.st_dev), static_cast<uint64_t>(status.st_ino)};
}

void RecordingOutput::leaveFile() {
    if (out_.fd >= 0) ::close(out_.fd);
    out_.fd = -1;
}

void RecordingOutput::writeHeader(const FileHeader& header) {
    header_ = header;
    if (state_ != State::File) return;
    if (!claimAhead(sizeof header) || !file_->writeHeader(header)) return fail(reasonOf(out_.error));
    written_ += sizeof header;
}

/// Claims room for `bytes` and for ending the file afterwards.
bool RecordingOutput::claimAhead(size_t bytes) {
    const uint64_t needed = written_ + bytes + (blocks_ + 4) * sizeof(IndexEntry) + kRoomForReason;
    rlimit most{};  // of the size of a file: counts as a full disk, before it is met
    if (getrlimit(RLIMIT_FSIZE, &most) == 0 && most.rlim_cur != RLIM_INFINITY && needed > most.rlim_cur) {
        out_.error = EFBIG;
        return false;
    }
    while (claimed_ < needed) {
        if (fallocate(out_.fd, FALLOC_FL_KEEP_SIZE, static_cast<off_t>(claimed_), static_cast<off_t>(kClaimBytes)) ==
            0) {
            claimed_ += kClaimBytes;
        } else if (errno == ENOSPC || errno == EDQUOT || errno == EFBIG) {
            out_.error = errno;
            return false;
        } else if (errno != EINTR) {
            claimed_ = UINT64_MAX;  // this kind of file takes no claims
        }
    }
    return true;
}

bool RecordingOutput::writeBlock(BlockType type, uint32_t lane, uint32_t count, uint64_t firstTicks, uint64_t lastTicks,
                                 std::string_view payload, uint32_t position) {
    if (state_ == State::File) {
        const size_t bytes = sizeof(BlockHeader) + payload.size() + padding(payload.size());
        if (claimAhead(bytes) && file_->writeBlock(type, lane, count, firstTicks, lastTicks, payload, position)) {
            written_ += bytes;
            ++blocks_;
            return true;
        }
        fail(reasonOf(out_.error));
    }
    return state_ == State::Memory && keep({type, lane, count, firstTicks, lastTicks, std::string(payload)});
}

bool RecordingOutput::keep(Kept block) {
    if (block.type == BlockType::Definitions) return true;  // save() is given them all
    keptBytes_ += block.payload.size() + sizeof(Kept);
    kept_.push_back(std::move(block));
    while (keptBytes_ > memoryBytes_ && kept_.size() > 1) {
        const Kept& oldest = kept_.front();
        if (oldest.type == BlockType::Events) {
            dropped_[oldest.lane] += oldest.count;
            droppedInAll_ += oldest.count;
        }
        keptBytes_ -= oldest.payload.size() + sizeof(Kept);
        kept_.pop_front();
    }
    return true;
}

/// The file can take no more: says why in it, ends it, and goes on in memory where that is wanted.
void RecordingOutput::fail(const std::string& why) {
    reason_ = "writing " + path_ + " stopped: " + why;
    finishFile();
    state_ = keepInMemory_ ? State::Memory : State::Failed;
}

void RecordingOutput::finishFile() {
    // A block that was cut in the middle is taken away; what follows needs the room claimed for it.
    if (!reason_.empty() && ::ftruncate(out_.fd, static_cast<off_t>(written_)) == 0)
        ::lseek(out_.fd, static_cast<off_t>(written_), SEEK_SET);
    bool good = true;
    if (!reason_.empty()) {
        std::string record;
        appendFact(record, "recording stopped", reason_);
        good = file_->writeBlock(BlockType::Definitions, 0, 1, 0, 0, record);
    }
    if (good) good = file_->writeIndex();
    const off_t end = ::lseek(out_.fd, 0, SEEK_END);
    if (claimed_ != UINT64_MAX && end > 0 && static_cast<uint64_t>(end) < claimed_)
        (void)fallocate(out_.fd, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, end,
                        static_cast<off_t>(claimed_ - static_cast<uint64_t>(end)));
    if (!good && reason_.empty()) reason_ = "writing " + path_ + " stopped: " + reasonOf(out_.error);
    ::close(out_.fd);
    out_.fd = -1;
    file_.reset();
}

void RecordingOutput::look() {
    struct stat status {};
    if (state_ == State::File && ::fstat(out_.fd, &status) == 0 && S_ISREG(status.st_mode) && status.st_nlink == 0)
        fail("the file was removed");
}

void RecordingOutput::close() {
    if (state_ == State::File) finishFile();
    if (state_ != State::Memory) state_ = State::Closed;
}

int RecordingOutput::save(const std::string& path, std::string_view definitions, uint32_t definitionCount) {
    if (kept_.empty()) return ENODATA;
    Out out;
    CreatedFile created = createRecording(path, Existing::Replace);
    if (created.error) return created.error;
    out.fd = created.file.get();
    BlockFile<Writer> file(Writer{&out});
    std::string all(definitions);
    appendFact(all, "recording stopped", reason_);
    bool good = file.writeHeader(header_) && file.writeBlock(BlockType::Definitions, 0, definitionCount + 1, 0, 0, all);
    std::map<uint32_t, uint64_t> dropped = dropped_;
    for (const Kept& block : kept_) {
        if (!good) break;
        if (const auto lane = dropped.find(block.lane); block.type == BlockType::Events && lane != dropped.end()) {
            std::string payload;
            uint64_t previous = block.firstTicks;
            appendEvent(payload, {block.firstTicks, Kind::Lost, 0, lane->second, 1, {}}, previous);
            dropped.erase(lane);
            good = file.writeBlock(BlockType::Events, block.lane, 1, block.firstTicks, block.firstTicks, payload);
        }
        good = good &&
               file.writeBlock(block.type, block.lane, block.count, block.firstTicks, block.lastTicks, block.payload);
    }
    good = good && file.writeIndex();
    if (::close(created.file.release()) != 0 && good) return errno;
    return good ? 0 : out.error;
}

}  // namespace fugato::recording
