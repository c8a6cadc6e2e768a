// SPDX-License-Identifier: GPL-3.0-or-later
#include "targets.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <fugato_blocks.hpp>
#include <own_files.hpp>
#include <unclosed_recording.hpp>

#include "core/ask/marker_statistics.h"
#include "core/ask/search.h"
#include "core/ask/stretch_table.h"
#include "core/explain/advice/advice.h"
#include "core/explain/causes/certainty.h"
#include "core/explain/causes/explain.h"
#include "core/explain/simulation/what_if.h"
#include "core/explain/words/frame_sentences.h"
#include "core/model/open_recording.h"
#include "core/model/recording_index.h"
#include "format/opening.h"
#include "format/packed_events.h"
#include "format/text_form.h"

namespace fugato {

namespace {

constexpr uint32_t kFewFrames = 3, kFewSites = 4, kFewCauses = 2;

/// A folder of this process, gone when it ends.
const std::string& folder() {
    struct Made {
        std::string path;
        Made() {
            char name[] = "/tmp/fugato-fuzz-XXXXXX";
            if (!mkdtemp(name)) std::abort();
            path = name;
        }
        ~Made() {
            std::error_code error;
            std::filesystem::remove_all(path, error);
        }
    };
    static const Made made;
    return made.path;
}

void putFile(const std::string& path, std::string_view bytes) {
    const int fd = ::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
    if (fd < 0 || ::write(fd, bytes.data(), bytes.size()) != static_cast<ssize_t>(bytes.size())) std::abort();
    ::close(fd);
}

/// Reads everything that a recording says of its markers.
int64_t readAll(const Recording& r) {
    int64_t sum = 0;
    for (const Lane& lane : r.lanes)
        for (const MarkerRow& row : lane.rows)
            row.forEach(0, row.size(), [&](uint32_t i, int64_t begin, int64_t duration, uint32_t, uint8_t) {
                sum ^= begin ^ duration ^ row.parent(i) ^ static_cast<int64_t>(r.nameOf(row.path(i)).size());
            });
    for (const Point& point : r.points) sum ^= static_cast<int64_t>(r.text(point.text).size());
    return sum;
}

void askOf(const std::shared_ptr<const Recording>& recording) {
    const Recording& r = *recording;
    volatile int64_t used = readAll(r);
    (void)used;
    const Stretch whole = wholeOf(r);
    tableOfStretch(r, whole);
    search(r, "a");
    for (uint32_t site = 0; site < std::min<size_t>(r.sites.size(), kFewSites); ++site) {
        statisticsOf(r, site, whole, 0);
        longestOccurrences(r, site, whole, 5);
    }
    for (uint32_t series = 0; series < r.series.size(); ++series) {
        if (r.series[series].frames.empty()) continue;
        const auto e = explain(recording, sumCriticalPaths(r, series), 0);
        verdictSentence(*e);
        for (uint32_t f = 0; f < std::min<size_t>(e->late.size(), kFewFrames); ++f) frameSentences(*e, e->late[f]);
        for (uint32_t c = 0; c < std::min<size_t>(e->causes.size(), kFewCauses); ++c) {
            causeTitle(*e, e->causes[c]);
            surenessOf(*e, e->worstFrameOf(e->causes[c]), e->causes[c], e->segmentsOf(e->worstFrameOf(e->causes[c])));
            whatIfSentence(*e, *predict(*e, {{c, c % 2 == 1}}));
        }
        if (series == 0) adviceFor(*e);
        explain(recording, e->pathSums, 1'000'000);  // under another budget
    }
}

}  // namespace

std::string withChecksums(std::string_view bytes) {
    using namespace layout;
    std::string out(bytes);
    if (out.size() < sizeof(FileHeader)) out.resize(sizeof(FileHeader));
    FileHeader header;
    std::memcpy(&header, out.data(), sizeof header);
    sealFileHeader(header);
    std::memcpy(out.data(), &header, sizeof header);
    for (size_t at = sizeof header; at + sizeof(BlockHeader) <= out.size();) {
        BlockHeader block;
        std::memcpy(&block, out.data() + at, sizeof block);
        if (block.type == static_cast<uint16_t>(BlockType::Index)) break;
        block.type = static_cast<uint16_t>(1 + block.type % 5);
        if (block.type == static_cast<uint16_t>(BlockType::Index)) block.type = 2;
        const size_t most = out.size() - at - sizeof block, size = std::min<size_t>(block.payloadBytes, most);
        sealBlock(block, {out.data() + at + sizeof block, size});
        std::memcpy(out.data() + at, &block, sizeof block);
        at += static_cast<size_t>(blockBytes(block.payloadBytes));
    }
    return out;
}

void fuzzBinary(std::string_view bytes) {
    MemorySource source{std::string(bytes)};
    if (const auto opened = openRecording(source, "fuzz")) readAll(**opened);
}

void fuzzWholeWay(std::string_view bytes) {
    MemorySource source{withChecksums(bytes)};
    if (const auto opened = openRecording(source, "fuzz")) askOf(*opened);
}

void fuzzPacked(std::string_view bytes) {
    if (bytes.size() < 4) return;
    uint32_t count = 0;
    std::memcpy(&count, bytes.data(), sizeof count);
    uint64_t sum = 0;
    unpackEvents(bytes.substr(4), count & 0xffff, 0, [&](std::span<const layout::RawEvent> events) {
        for (const layout::RawEvent& event : events)
            for (const char c : event.text) sum += static_cast<unsigned char>(c);
    });
}

void fuzzText(std::string_view bytes) {
    MemorySource source{std::string(bytes)};
    EventStore store;
    const auto read = readText(source, "fuzz", store, {});
    if (!read) return;
    // What was read can be written, and says the same when it is read again.
    std::string again;
    writeText(store, [&](std::string_view part) { return again += part, true; }, {});
    MemorySource second(again);
    EventStore other;
    const auto reread = readText(second, "fuzz", other, {});
    if (!reread || other.eventCount() != store.eventCount()) std::abort();
    if (const auto opened = openRecording(source, "fuzz")) askOf(*opened);
}

void fuzzUnclosed(std::string_view bytes) {
    if (bytes.size() < 4) return;
    uint32_t size = 0;
    std::memcpy(&size, bytes.data(), sizeof size);
    bytes.remove_prefix(4);
    const std::string file = folder() + "/unclosed.fugato", buffers = folder() + "/fugato-1-0.buffers";
    std::string recording = withChecksums(bytes.substr(0, std::min<size_t>(size, bytes.size())));
    std::string rest(bytes.substr(std::min<size_t>(size, bytes.size())));
    putFile(file, recording);
    // The header of the buffers is made to fit; table and rings are as they come, as sparse as they are.
    layout::FileHeader header;
    std::memcpy(&header, recording.data(), sizeof header);
    struct stat status {};
    if (::stat(file.c_str(), &status) != 0) std::abort();
    layout::BuffersHeader of{};
    std::memcpy(of.magic, layout::kBuffersMagic, sizeof of.magic);
    of.version = layout::kBuffersVersion;
    of.recording = 1;
    of.originTicks = header.originTicks;
    of.startedUnixNs = header.startedUnixNs;
    of.device = status.st_dev;
    of.inode = status.st_ino;
    std::string image(layout::kBufferRingsAt + 4096, '\0');
    std::memcpy(image.data(), &of, sizeof of);
    std::memcpy(image.data() + layout::kBufferTableAt, rest.data(), std::min<size_t>(rest.size(), 4096));
    if (rest.size() > 4096)
        std::memcpy(image.data() + layout::kBufferRingsAt, rest.data() + 4096,
                    std::min<size_t>(rest.size() - 4096, 4096));
    putFile(buffers, image);
    const auto counts = [&]() -> std::pair<size_t, size_t> {
        const auto opened = openRecording(file);
        return opened ? std::pair((*opened)->markerCount(), (*opened)->points.size()) : std::pair<size_t, size_t>();
    };
    const auto before = counts();
    const MadeWhole made = makeWhole(file);
    if (made.outcome == MadeWhole::Outcome::Done && counts() != before) std::abort();  // nothing gained, nothing lost
    ::unlink(buffers.c_str());
}

namespace {

/// 40 frames with a marker each, as a file.
const std::string& smallRecording() {
    static const std::string file = [] {
        const std::string path = folder() + "/small.jsonl";
        std::string text = "{\"fugato\":\"text\",\"version\":1}\n";
        for (int i = 0; i < 40; ++i) {
            const std::string at = std::to_string(i * 20);
            text += "{\"at\":" + at + ",\"lane\":\"main\",\"do\":\"frame\",\"series\":\"loop\"}\n";
            text += "{\"at\":" + at + ",\"lane\":\"main\",\"do\":\"begin\",\"site\":\"a\"}\n";
            text += "{\"at\":" + std::to_string(i * 20 + 9) + ",\"lane\":\"main\",\"do\":\"end\"}\n";
        }
        putFile(path, text);
        return path;
    }();
    return file;
}

/// Calls `put(place, byte)` for each change that the bytes name: a place of two bytes, and the byte to stand there.
template <class Put>
void eachChange(std::string_view bytes, size_t size, Put&& put) {
    for (size_t i = 0; i + 3 <= bytes.size() && size > 0; i += 3)
        put((static_cast<unsigned char>(bytes[i]) << 8 | static_cast<unsigned char>(bytes[i + 1])) % size,
            bytes[i + 2]);
}

}  // namespace

void fuzzArchive(std::string_view bytes) {
    static const auto opened = openRecording(smallRecording());
    if (!opened) std::abort();
    Recording whole = **opened;
    std::string archive = toArchive(whole);
    eachChange(bytes, archive.size(), [&](size_t at, char byte) { archive[at] = byte; });
    Recording taken;
    taken.storage = whole.storage;
    const bool good = takeArchive(taken, archive);
    if (bytes.empty() && (!good || taken.markerCount() != 40)) std::abort();
}

void fuzzKept(std::string_view bytes) {
    const std::string& file = smallRecording();
    OpenOptions options;
    options.indexFolder = folder() + "/indexes";
    options.indexFromBytes = 1;
    const auto good = openRecording(file, {}, options);
    if (!good) std::abort();
    // The kept index, with the given bytes put over it at places that they name.
    const std::string index = indexPathFor(options.indexFolder, file);
    const int fd = ::open(index.c_str(), O_WRONLY | O_CLOEXEC);
    const off_t size = ::lseek(fd, 0, SEEK_END);
    eachChange(bytes, static_cast<size_t>(size), [&](size_t at, char byte) {
        if (::pwrite(fd, &byte, 1, static_cast<off_t>(at)) != 1) std::abort();
    });
    ::close(fd);
    const auto opened = openRecording(file, {}, options);
    if (!opened || ((*opened)->markerCount() != 40 && !(*opened)->storage->damaged())) std::abort();
    readAll(**opened);
    forgetIndex(**opened);
    ::unlink(index.c_str());
}

}  // namespace fugato
