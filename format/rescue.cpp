// SPDX-License-Identifier: GPL-3.0-or-later
#include "rescue.h"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <map>

#include "binary_form.h"

namespace fugato {

using namespace layout;

namespace {

/// The first `keep` bytes of a source, then others.
class ExtendedSource final : public ByteSource {
public:
    ExtendedSource(std::unique_ptr<ByteSource> first, uint64_t keep, std::string more)
        : first_(std::move(first)), keep_(keep), more_(std::move(more)) {}
    uint64_t size() const override { return keep_ + more_.size(); }
    size_t read(uint64_t offset, char* out, size_t count) override {
        size_t done = 0;
        if (offset < keep_) done = first_->read(offset, out, std::min<uint64_t>(count, keep_ - offset));
        if (offset + done >= keep_ && offset + done < size()) {
            const uint64_t from = offset + done - keep_;
            const size_t part = std::min<uint64_t>(count - done, more_.size() - from);
            std::memcpy(out + done, more_.data() + from, part);
            done += part;
        }
        return done;
    }

private:
    std::unique_ptr<ByteSource> first_;
    uint64_t keep_;
    std::string more_;
};

/// The last value that the recording's definitions give to a fact.
std::string factOf(ByteSource& source, const BlockDirectory& directory, std::string_view wanted) {
    std::string value, payload;
    for (const IndexEntry& block : directory.blocks) {
        if (block.type != static_cast<uint32_t>(BlockType::Definitions)) continue;
        payload.resize(std::min<uint64_t>(block.payloadBytes, source.size()));
        payload.resize(source.read(block.offset + sizeof(BlockHeader), payload.data(), payload.size()));
        const auto* at = reinterpret_cast<const uint8_t*>(payload.data());
        const auto* end = at + payload.size();
        while (at < end) {
            const auto type = static_cast<DefinitionType>(*at++);
            std::string_view fields, key, text;
            if (!readText(at, end, fields)) break;
            if (type != DefinitionType::Context) continue;
            const auto* from = reinterpret_cast<const uint8_t*>(fields.data());
            const auto* to = from + fields.size();
            if (readText(from, to, key) && readText(from, to, text) && key == wanted) value = text;
        }
    }
    return value;
}

struct Rescued {
    std::string definitions;
    uint32_t definitionCount = 0;
    uint64_t events = 0;
    struct Block {
        uint32_t lane = 0, count = 0;
        uint64_t first = 0, last = 0;
        std::string payload;
    };
    std::vector<Block> blocks;

    void add(uint32_t lane, const RawEvent& event) {
        if (blocks.empty() || blocks.back().lane != lane || blocks.back().payload.size() >= 64 * 1024)
            blocks.push_back({lane, 0, event.ticks, event.ticks, {}});
        Block& block = blocks.back();
        appendEvent(block.payload, event, block.last);
        ++block.count;
        ++events;
    }
};

/// Takes what was published in one buffer and is not in the recording's blocks.
void rescueBuffer(ByteSource& buffers, const BufferEntry& entry, const uint32_t* position, Rescued& rescued) {
    const uint64_t slots = entry.mask + 1;
    if (!slots || (slots & entry.mask) || slots > buffers.size() / sizeof(BufferSlot)) return;
    uint64_t from = entry.tail;
    if (position) {  // a block may have been written just before the tail could be moved
        const auto ahead = static_cast<uint32_t>(*position - static_cast<uint32_t>(from));
        if (ahead <= slots && from + ahead <= entry.head) from += ahead;
    }
    if (from > entry.head || entry.head - from > slots) return;
    std::vector<BufferSlot> ring(slots);
    const size_t bytes = slots * sizeof(BufferSlot);
    if (buffers.read(entry.offset, reinterpret_cast<char*>(ring.data()), bytes) != bytes) return;
    char text[kMostSlotText + 32];
    uint64_t lastTicks = 0;
    while (from < entry.head) {
        RawEvent event;
        uint8_t kind = 0;
        const uint64_t used = readSlots(ring.data(), entry.mask, from, entry.head, text, kind, event);
        from += used ? used : 1;
        if (!used) continue;
        if (kind >= kSlotDefinition) {
            const auto type = static_cast<DefinitionType>(kind - kSlotDefinition);
            // Those of sites begin with 24 bytes for the recorder's own use.
            const size_t skip = type == DefinitionType::Site ? std::min<size_t>(24, event.text.size()) : 0;
            appendDefinition(rescued.definitions, type, event.text.substr(skip));
            ++rescued.definitionCount;
        } else if (kindIsKnown(event.kind)) {
            rescued.add(entry.lane, event);
            lastTicks = event.ticks;
        }
    }
    if (entry.lost && lastTicks) rescued.add(entry.lane, {lastTicks, Kind::Lost, 0, entry.lost, 0, {}});
}

bool rescueAll(ByteSource& source, const BlockDirectory& directory, ByteSource& buffers, Rescued& rescued) {
    FileHeader file;
    BuffersHeader header;
    const auto get = [](ByteSource& from, uint64_t offset, auto& out) {
        return from.read(offset, reinterpret_cast<char*>(&out), sizeof out) == sizeof out;
    };
    if (!get(source, 0, file) || !get(buffers, 0, header)) return false;
    if (std::memcmp(header.magic, kBuffersMagic, sizeof kBuffersMagic) != 0 || header.version != kBuffersVersion ||
        !header.recording || header.originTicks != file.originTicks || header.startedUnixNs != file.startedUnixNs)
        return false;
    std::map<uint32_t, uint32_t> positions;
    for (const IndexEntry& block : directory.blocks) {
        BlockHeader blockHeader;
        if (block.type == static_cast<uint32_t>(BlockType::Events) && get(source, block.offset, blockHeader))
            positions[block.lane] = blockHeader.position;
    }
    for (uint32_t i = 0; i < kBufferEntries; ++i) {
        BufferEntry entry;
        if (!get(buffers, kBufferTableAt + uint64_t{i} * sizeof entry, entry)) break;
        if (!entry.lane) continue;
        const auto position = positions.find(entry.lane);
        rescueBuffer(buffers, entry, position == positions.end() ? nullptr : &position->second, rescued);
    }
    return true;
}

void addFact(Rescued& rescued, std::string_view key, std::string_view value) {
    std::string fields;
    appendText(fields, key);
    appendText(fields, value);
    appendDefinition(rescued.definitions, DefinitionType::Context, fields);
    ++rescued.definitionCount;
}

/// Puts bytes behind the first `keep` of a file. Returns whether it could be done.
bool appendToFile(const std::string& path, uint64_t keep, std::string_view bytes) {
    const int fd = ::open(path.c_str(), O_WRONLY | O_CLOEXEC);
    if (fd < 0) return false;
    struct flock lock {};
    lock.l_type = F_WRLCK;
    lock.l_whence = SEEK_SET;
    bool good = fcntl(fd, F_SETLK, &lock) == 0 && ::ftruncate(fd, static_cast<off_t>(keep)) == 0;
    for (uint64_t at = keep; good && !bytes.empty();) {
        const ssize_t done = ::pwrite(fd, bytes.data(), bytes.size(), static_cast<off_t>(at));
        if (done < 0 && errno == EINTR) continue;
        good = done > 0;
        if (!good) break;
        at += static_cast<uint64_t>(done);
        bytes.remove_prefix(static_cast<size_t>(done));
    }
    good = good && ::fsync(fd) == 0;
    return ::close(fd) == 0 && good;
}

}  // namespace

long writerOf(const std::string& path) {
    const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (fd < 0) return 0;
    struct flock lock {};
    lock.l_type = F_WRLCK;
    lock.l_whence = SEEK_SET;
    const bool held = fcntl(fd, F_GETLK, &lock) == 0 && lock.l_type != F_UNLCK;
    ::close(fd);
    return held ? static_cast<long>(lock.l_pid) : 0;
}

static std::string beingWrittenBy(long writer) {
    return "The recording is still being made (by process " + std::to_string(writer) +
           "); what is in the file so far is shown.";
}

Result<OpenedRecording> openRecordingSource(const std::string& path) {
    auto source = openFile(path);
    if (!source) return source.failure();
    OpenedRecording opened;
    opened.source = std::move(*source);
    if (opened.source->size() < sizeof(FileHeader) || !looksBinary(*opened.source)) return opened;
    BlockDirectory directory = findBlocks(*opened.source);
    if (directory.indexed) return opened;
    if (const long writer = writerOf(path)) {
        opened.beingWritten = true;
        opened.note = beingWrittenBy(writer);
        return opened;
    }
    // The kill may have cut a block in the middle; what it held still is in the buffers.
    std::string payload;
    while (!directory.blocks.empty() && !readPayload(*opened.source, directory.blocks.back(), payload))
        directory.blocks.pop_back();
    const std::string buffersPath = factOf(*opened.source, directory, "buffers");
    if (buffersPath.empty()) return opened;
    auto buffers = openFile(buffersPath);
    Rescued rescued;
    if (!buffers || !rescueAll(*opened.source, directory, **buffers, rescued)) return opened;
    opened.rescuedEvents = rescued.events;
    addFact(rescued, "ended", "without closing the recording; the last events were rescued from the buffers");
    addFact(rescued, "buffers", "");

    const uint64_t keep = directory.blocks.empty() ? sizeof(FileHeader)
                                                   : directory.blocks.back().offset + sizeof(BlockHeader) +
                                                         directory.blocks.back().payloadBytes +
                                                         padding(directory.blocks.back().payloadBytes);
    std::string more,
        index(reinterpret_cast<const char*>(directory.blocks.data()), directory.blocks.size() * sizeof(IndexEntry));
    BlockFile file(
        [&](std::string_view bytes) {
            more += bytes;
            return true;
        },
        keep, std::move(index));
    file.writeBlock(BlockType::Definitions, 0, rescued.definitionCount, 0, 0, rescued.definitions);
    for (const Rescued::Block& block : rescued.blocks)
        file.writeBlock(BlockType::Events, block.lane, block.count, block.first, block.last, block.payload);
    file.writeIndex();

    const std::string count = std::to_string(rescued.events) + (rescued.events == 1 ? " event" : " events");
    opened.note = "The program ended without closing its recording; " + count + " more, up to its last instant, " +
                  (rescued.events == 1 ? "was" : "were") + " found in its buffers";
    if (appendToFile(path, keep, more)) {
        ::unlink(buffersPath.c_str());
        auto again = openFile(path);
        if (!again) return again.failure();
        opened.source = std::move(*again);
        opened.note += " and saved with it.";
    } else {
        opened.source = std::make_unique<ExtendedSource>(std::move(opened.source), keep, std::move(more));
        opened.note +=
            ". The file cannot be written, so they are not saved: copy it to a place of your own and open "
            "it there before this machine restarts.";
    }
    return opened;
}

void noteBeingWritten(Damage& damage, long writer) {
    OpenedRecording opened;
    opened.beingWritten = true;
    opened.note = beingWrittenBy(writer);
    noteOpening(damage, opened);
}

void noteOpening(Damage& damage, const OpenedRecording& opened) {
    if (opened.note.empty()) return;
    if (opened.beingWritten && damage.indexMissing) {  // a growing file has no index yet
        damage.indexMissing = false;
        std::erase(damage.notes, kNotClosed);
    }
    damage.notes.insert(damage.notes.begin(), opened.note);
}

}  // namespace fugato
