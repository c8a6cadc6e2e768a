// SPDX-License-Identifier: MIT
#include "unclosed_recording.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#include <cerrno>
#include <fugato_blocks.hpp>
#include <map>

#include "own_files.hpp"

namespace fugato {

using namespace layout;

namespace {

constexpr char kSystemFolder[] = "/dev/shm";
/// The first thing that making whole writes. Where it did not come to an index, what follows is not believed
/// while the buffers are still there: it is made anew from them.
constexpr char kMakingWhole[] = "made whole";
/// So long buffers are kept whose recording is not where it was made: it may have been moved.
constexpr time_t kKeepSeconds = 24 * 60 * 60;
constexpr time_t kKeepNewSeconds = 60;
constexpr int kFrontBlocks = 16;  // among which facts of the start stand

bool endsWith(std::string_view text, std::string_view end) {
    return text.size() >= end.size() && text.substr(text.size() - end.size()) == end;
}

template <class Visit>
void forEachFile(const std::string& folder, Visit&& visit) {
    DIR* dir = opendir(folder.c_str());
    if (!dir) return;
    while (const dirent* found = readdir(dir)) {
        const std::string_view name = found->d_name;
        if (name.substr(0, sizeof kBuffersPrefix - 1) == kBuffersPrefix && !visit(name)) break;
    }
    closedir(dir);
}

/// An open file of buffers.
struct Buffers {
    Descriptor file;
    BuffersHeader header{};
    std::string path;

    static bool open(const std::string& path, Buffers& out) {
        out.path = path;
        out.file = openOwn(path, O_RDONLY);
        if (!out.file) return false;
        FileBytes bytes(out.file.get());
        return readStruct(bytes, 0, out.header) &&
               std::memcmp(out.header.magic, kBuffersMagic, sizeof kBuffersMagic) == 0 &&
               (out.header.version == kBuffersVersion || out.header.version == kBuffersVersionBefore) &&
               out.header.pathBytes <= sizeof out.header.path;
    }
    uint8_t firstDefinition() const {
        return header.version == kBuffersVersion ? kSlotDefinition : kSlotDefinitionBefore;
    }
    bool of(const FileHeader& recording) const {
        return header.recording && header.originTicks == recording.originTicks &&
               header.startedUnixNs == recording.startedUnixNs;
    }
    bool ofFile(const struct stat& recording) const {
        return header.device == static_cast<uint64_t>(recording.st_dev) &&
               header.inode == static_cast<uint64_t>(recording.st_ino);
    }
    std::string recording() const { return {header.path, header.pathBytes}; }
    /// A lock alone is no proof: a child of the program may still have it.
    bool writerLives() const { return byteIsLocked(file.get(), kWriterLockAt) && !surelyGone(header.process); }
};

/// Calls `visit(key, value)` for the facts in a block until it returns false; returns whether it never did.
template <class Visit>
bool eachFact(FileBytes& file, const IndexEntry& block, Visit&& visit) {
    std::string payload;
    if (block.type != static_cast<uint32_t>(BlockType::Definitions) || !readPayload(file, block, payload)) return true;
    const auto* at = reinterpret_cast<const uint8_t*>(payload.data());
    const auto* end = at + payload.size();
    while (at < end) {
        const auto type = static_cast<DefinitionType>(*at++);
        std::string_view fields;
        if (!readText(at, end, fields)) break;
        if (type != DefinitionType::Context) continue;
        const auto fact = getFields<ContextFields<std::string_view>>(FieldReader(fields));
        if (!visit(fact.key, fact.value)) return false;
    }
    return true;
}

/// Where the recording says that its buffers are; it says so among its first blocks.
std::string namedBuffers(FileBytes& file) {
    std::string path;
    BlockHeader header;
    uint64_t at = sizeof(FileHeader);
    for (int i = 0; i < kFrontBlocks && path.empty() && readBlockHeader(file, at, header); ++i) {
        eachFact(file, entryOf(at, header), [&](std::string_view key, std::string_view value) {
            if (key == "buffers") path = value;
            return path.empty();
        });
        at += blockBytes(header.payloadBytes);
    }
    return path;
}

/// The block at which somebody has begun to make it whole; the number of blocks where nobody has.
size_t wholeFrom(FileBytes& file, const std::vector<IndexEntry>& blocks) {
    size_t i = 0;
    while (i < blocks.size() &&
           eachFact(file, blocks[i], [](std::string_view key, std::string_view) { return key != kMakingWhole; }))
        ++i;
    return i;
}

/// All files of buffers of a recording: the one it names, and those beside that and in the usual places.
std::vector<Buffers> buffersOf(const FileHeader& recording, const struct stat& status, const std::string& named,
                               const std::string& path) {
    std::vector<Buffers> found;
    std::vector<std::string> folders = {kSystemFolder, folderOf(path)};
    bool isNamed = false;
    // Recordings by a clock of the host's may all begin alike: then the writer tells them apart, or the file.
    const auto belongs = [&](const Buffers& buffers) {
        if (!buffers.of(recording)) return false;
        if (isNamed)
            return std::memcmp(&buffers.header.process, &found[0].header.process, sizeof(ProcessIdentity)) == 0;
        return recording.startedUnixNs || buffers.path == named || buffers.ofFile(status);
    };
    const auto take = [&](const std::string& at) {
        for (const Buffers& known : found)
            if (known.path == at) return false;
        Buffers buffers;
        if (!Buffers::open(at, buffers) || !belongs(buffers)) return false;
        found.push_back(std::move(buffers));
        return true;
    };
    if (!named.empty() && named[0] == '/' && take(named)) {
        folders.push_back(folderOf(named));
        isNamed = true;
    }
    for (const std::string& folder : folders)
        forEachFile(folder, [&](std::string_view name) {
            if (endsWith(name, kBuffersSuffix)) take(folder + "/" + std::string(name));
            return true;
        });
    return found;
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
        if (blocks.empty() || blocks.back().lane != lane || blocks.back().payload.size() >= kBlockBytes)
            blocks.push_back({lane, 0, event.ticks, event.ticks, {}});
        Block& block = blocks.back();
        appendEvent(block.payload, event, block.last);
        ++block.count;
        ++events;
    }
    void addFact(std::string_view key, std::string_view value) {
        appendFact(definitions, key, value);
        ++definitionCount;
    }
};

/// Takes what was published in one buffer and is not in the recording's blocks. `slotsLeft`: rings cannot hold
/// more than their file does, whatever its table says.
void rescueBuffer(FileBytes& buffers, uint8_t firstDefinition, const BufferEntry& entry, const uint32_t* position,
                  bool copy, uint64_t& slotsLeft, Rescued& rescued) {
    const uint64_t slots = entry.mask + 1;
    if (!slots || (slots & entry.mask) || slots > slotsLeft) return;
    slotsLeft -= slots;
    uint64_t from = entry.tail, missing = 0;
    // A block may have been written just before the tail could be moved.
    const auto ahead = static_cast<int32_t>((position ? *position : 0) - static_cast<uint32_t>(from));
    if (ahead > 0 && static_cast<uint64_t>(ahead) <= slots && from + static_cast<uint64_t>(ahead) <= entry.head)
        from += static_cast<uint64_t>(ahead);
    else if (ahead < 0 && copy)  // it lacks blocks that were written after it was made
        missing = static_cast<uint64_t>(-static_cast<int64_t>(ahead));
    if (from > entry.head || entry.head - from > slots) return;
    std::vector<BufferSlot> ring(slots);
    const size_t bytes = slots * sizeof(BufferSlot);
    if (buffers.read(entry.offset, reinterpret_cast<char*>(ring.data()), bytes) != bytes) return;
    char text[kMostSlotText + 32];
    uint64_t lastTicks = 0;
    if (missing && from < entry.head)
        rescued.add(entry.lane, {ring[from & entry.mask].ticks, Kind::Lost, 0, missing, 1, {}});
    while (from < entry.head) {
        RawEvent event;
        uint8_t kind = 0;
        const uint64_t used = readSlots(ring.data(), entry.mask, from, entry.head, text, kind, event, firstDefinition);
        from += used ? used : 1;
        if (!used) continue;
        if (kind >= firstDefinition) {
            const auto type = static_cast<DefinitionType>(kind - firstDefinition);
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

/// How many slots of each lane's buffer the recording's blocks hold.
std::map<uint32_t, uint32_t> positionsIn(FileBytes& file, const std::vector<IndexEntry>& blocks) {
    std::map<uint32_t, uint32_t> positions;
    for (auto block = blocks.rbegin(); block != blocks.rend(); ++block) {
        BlockHeader header;
        if (block->type == static_cast<uint32_t>(BlockType::Events) && !positions.count(block->lane) &&
            readBlockHeader(file, block->offset, header))
            positions[block->lane] = header.position;
    }
    return positions;
}

void rescueAll(const std::vector<Buffers>& all, const struct stat& recording,
               const std::map<uint32_t, uint32_t>& positions, Rescued& rescued) {
    for (const Buffers& buffers : all) {
        FileBytes bytes(buffers.file.get());
        uint64_t slotsLeft = bytes.size() / sizeof(BufferSlot);
        for (uint32_t i = 0; i < kBufferEntries; ++i) {
            BufferEntry entry;
            if (!readStruct(bytes, kBufferTableAt + uint64_t{i} * sizeof entry, entry)) break;
            if (!entry.lane) continue;
            const auto position = positions.find(entry.lane);
            rescueBuffer(bytes, buffers.firstDefinition(), entry,
                         position == positions.end() ? nullptr : &position->second, !buffers.ofFile(recording),
                         slotsLeft, rescued);
        }
    }
}

/// What belongs behind the blocks that stay.
std::string bytesBehind(uint64_t keep, const std::vector<IndexEntry>& blocks, const Rescued& rescued) {
    std::string more, index(reinterpret_cast<const char*>(blocks.data()), blocks.size() * sizeof(IndexEntry));
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
    return more;
}

/// Puts bytes behind the first `keep` of a file, all of them or none. Returns 0 or an errno value.
int appendToFile(int fd, uint64_t keep, std::string_view bytes) {
    const auto room = static_cast<off_t>(bytes.size());
    int error = 0;
    // Room first: where there is none, nothing has changed.
    while (::fallocate(fd, FALLOC_FL_KEEP_SIZE, static_cast<off_t>(keep), room) != 0 && (error = errno) == EINTR) {
    }
    if (error == ENOSPC || error == EDQUOT || error == EFBIG) return error;
    error = 0;
    const uint64_t end = keep + bytes.size();
    for (uint64_t at = keep; at < end && !error;) {
        const ssize_t done = ::pwrite(fd, bytes.data() + (at - keep), end - at, static_cast<off_t>(at));
        if (done < 0 && errno == EINTR) continue;
        if (done <= 0)
            error = done < 0 ? errno : ENOSPC;
        else
            at += static_cast<uint64_t>(done);
    }
    if (!error && (::ftruncate(fd, static_cast<off_t>(end)) != 0 || ::fsync(fd) != 0)) error = errno;
    if (error && ::ftruncate(fd, static_cast<off_t>(keep)) == 0) ::fsync(fd);  // nothing half done stays
    return error;
}

}  // namespace

Unclosed lookAtUnclosed(int fd, const std::string& path, const GoOn& goOn) {
    Unclosed out;
    FileBytes file(fd);
    FileHeader header;
    struct stat status {};
    if (!readStruct(file, 0, header) || std::memcmp(header.magic, kFileMagic, sizeof kFileMagic) != 0 ||
        header.checksum != checksum(&header, offsetof(FileHeader, checksum)) || ::fstat(fd, &status) != 0)
        return out;
    FoundBlocks found;
    if (readIndex(file, found)) return out;

    const bool locked = byteIsLocked(fd, kWriterLockAt);
    std::vector<Buffers> buffers = buffersOf(header, status, namedBuffers(file), path);
    bool lives = locked, ours = true;
    for (const Buffers& it : buffers) {
        if (locked && surelyGone(it.header.process)) lives = false;
        if (!locked && it.writerLives()) lives = true, ours = ours && it.ofFile(status);
    }
    if (lives) {
        out.state = ours ? Unclosed::State::BeingWritten : Unclosed::State::CopyOfLive;
        return out;
    }
    out.state = Unclosed::State::Incomplete;
    if (buffers.empty()) return out;
    found = findBlocks(file, goOn);
    if (found.cancelled) return out;
    found.blocks.resize(wholeFrom(file, found.blocks));
    // The kill may have cut a block in the middle; what it held still is in the buffers.
    std::string payload;
    while (!found.blocks.empty() && !readPayload(file, found.blocks.back(), payload)) found.blocks.pop_back();
    Rescued rescued;
    rescued.addFact(kMakingWhole, "1");
    rescued.addFact("ended", "without closing the recording; the last events were rescued from the buffers");
    rescued.addFact("buffers", "");
    rescueAll(buffers, status, positionsIn(file, found.blocks), rescued);
    out.state = Unclosed::State::Ended;
    out.events = rescued.events;
    out.keep = found.blocks.empty() ? sizeof(FileHeader)
                                    : found.blocks.back().offset + blockBytes(found.blocks.back().payloadBytes);
    out.more = bytesBehind(out.keep, found.blocks, rescued);
    for (const Buffers& it : buffers) {
        // A copy leaves them to the recording it was copied from, where that still is there.
        struct stat original {};
        const bool moved = ::stat(it.recording().c_str(), &original) != 0 || !it.ofFile(original);
        if (it.ofFile(status) || moved) out.buffers.push_back(it.path);
    }
    return out;
}

MadeWhole makeWhole(const std::string& path, const GoOn& goOn) {
    using Outcome = MadeWhole::Outcome;
    const Descriptor file = openOwn(path, O_RDWR);
    if (!file) return {Outcome::Failed, errno, 0};
    if (lockByte(file.get(), kWholeLockAt) != 0) return {Outcome::InUse, 0, 0};
    const Unclosed unclosed = lookAtUnclosed(file.get(), path, goOn);
    if (unclosed.state == Unclosed::State::BeingWritten) return {Outcome::InUse, 0, 0};
    if (unclosed.state != Unclosed::State::Ended) return {};
    if (const int error = appendToFile(file.get(), unclosed.keep, unclosed.more)) return {Outcome::Failed, error, 0};
    for (const std::string& buffers : unclosed.buffers) ::unlink(buffers.c_str());
    return {Outcome::Done, 0, unclosed.events};
}

unsigned clearLeftBuffers(const std::string& folder, const std::function<bool()>& goOn) {
    std::vector<std::string> names;
    forEachFile(folder, [&](std::string_view name) {
        if (endsWith(name, kBuffersSuffix) || endsWith(name, kNewBuffersSuffix)) names.emplace_back(name);
        return true;
    });
    unsigned removed = 0;
    const time_t now = ::time(nullptr);
    for (const std::string& name : names) {
        if (goOn && !goOn()) break;
        const std::string path = folder + "/" + name;
        Buffers buffers;
        const bool good = Buffers::open(path, buffers);
        struct stat status {};
        if (!buffers.file || ::fstat(buffers.file.get(), &status) != 0) continue;
        if (!good || endsWith(name, kNewBuffersSuffix)) {  // its program ended while making it, or it is damaged
            if (now - status.st_mtime > kKeepNewSeconds && !byteIsLocked(buffers.file.get(), kWriterLockAt))
                removed += ::unlink(path.c_str()) == 0;
            continue;
        }
        if (buffers.writerLives()) continue;
        const std::string recording = buffers.recording();
        bool useless = !buffers.header.recording || recording.empty();  // it was held in memory, and has gone with it
        if (!useless) {
            const Descriptor file = openOwn(recording, O_RDONLY);
            FileHeader header{};
            if (file) {
                FileBytes bytes(file.get());
                readStruct(bytes, 0, header);
            }
            if (!file)
                useless = (errno == ENOENT || errno == ENOTDIR) && now - status.st_mtime > kKeepSeconds;
            else if (!buffers.of(header))
                useless = true;  // another recording took its place
            else
                useless = makeWhole(recording).outcome == MadeWhole::Outcome::NothingToDo;
        }
        if (useless) ::unlink(path.c_str());
        removed += ::access(path.c_str(), F_OK) != 0;
    }
    return removed;
}

}  // namespace fugato
