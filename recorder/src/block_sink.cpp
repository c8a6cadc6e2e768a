// SPDX-License-Identifier: MIT
#include "block_sink.hpp"

#include <fcntl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>

#include "recorder_state.hpp"

namespace fugato::recording {

using namespace layout;

namespace {
constexpr uint64_t kClaimBytes = 1 << 20;
constexpr uint64_t kRoomForReason = 4096;
}  // namespace

bool FileSink::Out::operator()(std::string_view bytes) {
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

FileSink::FileSink(Descriptor file) : file_(std::move(file)), blocks_(Writer{&out_}) {
    out_.fd = file_.get();
    struct stat status {};
    named_ = ::fstat(out_.fd, &status) == 0 && status.st_nlink > 0;
}

bool FileSink::removed() const {
    struct stat status {};
    return named_ && ::fstat(out_.fd, &status) == 0 && S_ISREG(status.st_mode) && status.st_nlink == 0;
}

std::pair<uint64_t, uint64_t> FileSink::deviceAndInode() const {
    struct stat status {};
    if (::fstat(out_.fd, &status) != 0) return {0, 0};
    return {static_cast<uint64_t>(status.st_dev), static_cast<uint64_t>(status.st_ino)};
}

/// Claims room for `bytes` and for ending the file afterwards.
bool FileSink::claimAhead(size_t bytes) {
    const uint64_t needed = written_ + bytes + (count_ + 4) * sizeof(IndexEntry) + kRoomForReason;
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

bool FileSink::writeHeader(const FileHeader& header) {
    if (!claimAhead(sizeof header) || !blocks_.writeHeader(header)) return false;
    written_ += sizeof header;
    return true;
}

bool FileSink::writeBlock(const Block& block) {
    const size_t bytes = sizeof(BlockHeader) + block.payload.size() + padding(block.payload.size());
    if (!claimAhead(bytes) || !blocks_.writeBlock(block.type, block.lane, block.count, block.firstTicks,
                                                  block.lastTicks, block.payload, block.position))
        return false;
    written_ += bytes;
    ++count_;
    return true;
}

bool FileSink::finish(const std::string& why) {
    // A block that was cut in the middle is taken away; what follows needs the room claimed for it.
    if (!why.empty() && ::ftruncate(out_.fd, static_cast<off_t>(written_)) == 0)
        ::lseek(out_.fd, static_cast<off_t>(written_), SEEK_SET);
    bool good = true;
    if (!why.empty()) {
        std::string record;
        appendFact(record, "recording stopped", why);
        good = blocks_.writeBlock(BlockType::Definitions, 0, 1, 0, 0, record);
    }
    good = good && blocks_.writeIndex();
    const off_t end = ::lseek(out_.fd, 0, SEEK_END);
    if (claimed_ != UINT64_MAX && end > 0 && static_cast<uint64_t>(end) < claimed_)
        (void)fallocate(out_.fd, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, end,
                        static_cast<off_t>(claimed_ - static_cast<uint64_t>(end)));
    if (::close(file_.release()) != 0 && good) {
        out_.error = errno;
        good = false;
    }
    out_.fd = -1;
    return good;
}

bool MemorySink::writeHeader(const FileHeader& header) {
    header_ = header;
    return true;
}

bool MemorySink::writeBlock(const Block& block) {
    if (block.type == BlockType::Definitions) return true;
    bytes_ += block.payload.size() + sizeof(Kept);
    const uint64_t now = mostNs_ ? monotonicNs() : 0;
    kept_.push_back(std::make_shared<const Kept>(Kept{block, std::string(block.payload), now}));
    while (kept_.size() > 1 && (bytes_ > most_ || (mostNs_ && now - kept_.front()->at > mostNs_))) dropOldest();
    return true;
}

void MemorySink::dropOldest() {
    const Kept& oldest = *kept_.front();
    if (oldest.block.type == BlockType::Events) dropped_[oldest.block.lane] += bytes_ > most_ ? oldest.block.count : 0;
    bytes_ -= oldest.payload.size() + sizeof(Kept);
    kept_.pop_front();
}

bool MemorySink::putInto(BlockSink& other, const Block& definitions) const {
    bool good = other.writeHeader(header_) && other.writeBlock(definitions);
    std::map<uint32_t, uint64_t> dropped = dropped_;
    for (const auto& kept : kept_) {
        if (!good) return false;
        Block block = kept->block;
        block.payload = kept->payload;
        if (const auto lane = dropped.find(block.lane); block.type == BlockType::Events && lane != dropped.end()) {
            std::string payload;
            uint64_t previous = block.firstTicks;
            appendEvent(payload, {block.firstTicks, Kind::Lost, 0, lane->second, 1, {}}, previous);
            dropped.erase(lane);
            good = other.writeBlock({BlockType::Events, block.lane, 1, block.firstTicks, block.firstTicks, 0, payload});
        }
        good = good && other.writeBlock(block);
    }
    return good;
}

}  // namespace fugato::recording
