// SPDX-License-Identifier: GPL-3.0-or-later
#include "targets.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <fugato_blocks.hpp>
#include <fugato_control.hpp>
#include <fugato_moments.hpp>
#include <own_files.hpp>
#include <unclosed_recording.hpp>

#include "core/ask/connections.h"
#include "core/ask/coverage.h"
#include "core/ask/edges.h"
#include "core/ask/event_table.h"
#include "core/ask/instant_table.h"
#include "core/ask/marker_statistics.h"
#include "core/ask/memory_table.h"
#include "core/ask/nested_markers.h"
#include "core/ask/occurrence_table.h"
#include "core/ask/search.h"
#include "core/explain/advice/advice.h"
#include "core/explain/causes/confidence.h"
#include "core/explain/causes/explain.h"
#include "core/explain/simulation/what_if.h"
#include "core/explain/words/frame_sentences.h"
#include "core/model/bounds.h"
#include "core/model/open_recording.h"
#include "core/model/recording_index.h"
#include "core/notes/notes.h"
#include "core/symbols/cached_symbols.h"
#include "format/merging.h"
#include "format/opening.h"
#include "format/packed_events.h"
#include "format/text_form.h"
#include "relay/line/chunks.h"
#include "testing/cache_files.h"

namespace fugato {

namespace {

constexpr uint32_t kFewFrames = 3, kFewSites = 4, kFewCauses = 2, kFewRows = 300, kFewColumns = 50;
constexpr uint32_t kFewLanes = 8, kFewMarkers = 20;

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

std::string bytesOf(const std::string& path) {
    std::ifstream file(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(file), {}};
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
    if (!r.storage->damaged() && !withinBounds(r)) std::abort();  // what the makers of a recording promise
    volatile int64_t used = readAll(r);
    (void)used;
    const TimeRange whole = wholeOf(r);
    nestedMarkers(r, whole);
    coverageOf(r, whole);
    poolTable(recording, memoryFigures(r, whole, r.begin));
    memoryCurve(r, kNone, whole, kFewColumns);
    EventFilter named;
    named.words = "a";
    for (const EventFilter& filter : {EventFilter(), named}) {
        const EventTable events(EventList::of(recording, whole, filter));
        const auto window = events.window(events.rowLimit() / 2, kFewRows);
        for (Table::Row row = 0; row < window->rowLimit(); ++row)
            for (size_t column = 0; column < window->columns().size(); ++column) window->value(row, column);
        for (const size_t column : {kEventName, kEventDuration, kEventDetails}) {
            const auto sorted = events.sorted(column, true, {});
            for (Table::Row row = 0; row < std::min(sorted->rowLimit(), kFewRows); ++row) sorted->value(row, column);
        }
    }
    for (const int64_t at : {r.begin, whole.begin + (whole.end - whole.begin) / 2, r.end}) {
        const auto instant = instantTable(recording, at);
        for (Table::Row row = 0; row < instant->rowLimit(); ++row)
            for (size_t column = 0; column < instant->columns().size(); ++column) instant->value(row, column);
        pictureAt(r, at);
        for (const EdgeOf of : {EdgeOf::Markers, EdgeOf::Frames, EdgeOf::Points, EdgeOf::Counters})
            for (const bool forward : {false, true}) edgeBeside(r, of, 0, 0, at, forward);
    }
    for (uint32_t lane = 0; lane < std::min<size_t>(r.lanes.size(), kFewLanes); ++lane)
        for (uint32_t row = 0; row < r.lanes[lane].rows.size(); ++row)
            for (uint32_t i = 0; i < std::min<uint32_t>(r.lanes[lane].rows[row].size(), kFewMarkers); ++i) {
                const auto found = connectionsOf(r, {lane, row, i});
                for (const Connection& connection : found->list) connectionText(r, connection);
            }
    search(r, "a");
    for (uint32_t site = 0; site < std::min<size_t>(r.sites.size(), kFewSites); ++site) {
        statisticsOf(r, site, whole, 0);
        longestOccurrences(r, site, whole, 5);
        occurrencesWith(r, site, whole, "a", 100);
        const auto occurrences =
            occurrenceTable(OccurrenceList::of(recording, site, whole, OccurrenceOrder::Begin, false), 0);
        for (size_t column = 0; column < occurrences->columns().size(); ++column) {
            const auto sorted = occurrences->sorted(column, true, {});
            for (Table::Row row = 0; row < std::min(sorted->rowLimit(), kFewMarkers); ++row) sorted->value(row, column);
            if (sorted->rowLimit()) sorted->rowOf(sorted->place(0).marker);
        }
    }
    for (uint32_t series = 0; series < r.series.size(); ++series) {
        if (r.series[series].frames.empty()) continue;
        const auto sums = sumCriticalPaths(r, series);
        if (!r.storage->damaged() && !withinBounds(*sums, r)) std::abort();
        const auto e = explain(recording, sums, 0);
        verdictSentence(*e);
        for (uint32_t f = 0; f < std::min<size_t>(e->late.size(), kFewFrames); ++f) frameSentences(*e, e->late[f]);
        for (uint32_t c = 0; c < std::min<size_t>(e->causes.size(), kFewCauses); ++c) {
            causeTitle(*e, e->causes[c]);
            confidenceOf(*e, e->worstFrameOf(e->causes[c]), e->causes[c], e->segmentsOf(e->worstFrameOf(e->causes[c])));
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
        const bool index = block.type == static_cast<uint16_t>(BlockType::Index);
        if (!index) block.type = static_cast<uint16_t>(1 + block.type % 5);
        if (!index && block.type == static_cast<uint16_t>(BlockType::Index)) block.type = 2;
        const size_t most = out.size() - at - sizeof block, size = std::min<size_t>(block.payloadBytes, most);
        sealBlock(block, {out.data() + at + sizeof block, size});
        std::memcpy(out.data() + at, &block, sizeof block);
        if (index && out.size() - at >= static_cast<size_t>(blockBytes(block.payloadBytes)) + sizeof(Trailer)) {
            const Trailer trailer = makeTrailer(at);  // then what the index says is believed
            std::memcpy(out.data() + out.size() - sizeof trailer, &trailer, sizeof trailer);
            break;
        }
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

void fuzzNotes(std::string_view bytes) {
    const auto read = notesIn(bytes, "notes");
    if (!read) return;
    for (const Note& note : read->notes)
        if (note.end < note.begin || note.id.empty()) std::abort();
    mergedNotes(read->notes, {}, read->notes);
    for (const Note& note : read->notes) noteText(note);
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

/// Two programs that say the same become one recording, which can be read.
void fuzzMerging(EventStore one, EventStore two) {
    std::erase_if(two.definitions, [](const Definition& d) { return std::holds_alternative<ContextDefinition>(d); });
    one.startedUnixNs = 1;
    two.startedUnixNs = 2;
    std::vector<MergePart> parts;
    parts.push_back({"one", std::move(one)});
    parts.push_back({"two", std::move(two)});
    const auto merged = mergeRecordings(parts);
    if (!merged) return;
    std::string text;
    writeText(*merged, [&](std::string_view part) { return text += part, true; }, {});
    MemorySource source(text);
    if (const auto opened = openRecording(source, "fuzz")) askOf(*opened);
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
    fuzzMerging(std::move(store), std::move(other));
}

void fuzzLine(std::string_view bytes) {
    // However it is cut, the same comes of it, and it can be sent again.
    const size_t piece = bytes.empty() ? 1 : 1 + static_cast<uint8_t>(bytes[0]);
    line::ChunkReader whole, pieces;
    whole.add(bytes);
    for (size_t at = 0; at < bytes.size(); at += piece) {
        pieces.add(bytes.substr(at, piece));
        while (const auto one = pieces.next()) {
            const auto same = whole.next();
            if (!same || line::bytesOf(*same) != line::bytesOf(*one)) std::abort();
            if (const auto word = control::messageIn(one->bytes)) (void)word->number("channel");
        }
    }
    if (whole.next() || whole.isBad() != pieces.isBad()) std::abort();
}

void fuzzControl(std::string_view bytes) {
    if (const auto message = control::messageIn(bytes)) {
        // What was read can be sent, and says the same when it is read again.
        const auto again = control::messageIn(control::packetOf(*message));
        if (bytes.find('\0') == std::string_view::npos && (!again || again->fields != message->fields)) std::abort();
        (void)message->number("frames");
    }
    const auto plan = momentPlanIn(bytes);
    if (plan && !momentPlanIn(textOf(*plan))) std::abort();
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

/// 40 frames with everything that can be told, as a file.
const std::string& smallRecording() {
    static const std::string file = [] {
        const std::string path = folder() + "/small.jsonl";
        std::string text =
            R"({"fugato":"text","version":1}
{"define":"lane","id":1,"name":"main","os":11,"role":"main"}
{"define":"lane","id":2,"name":"crew 1","os":12,"role":"crew"}
{"define":"lane","id":3,"name":"core 0","kind":"core"}
{"define":"counter","id":1,"name":"sails","threshold":3}
{"define":"os_thread","id":12,"process":9,"name":"crew 1"}
{"define":"module","address":4096,"bytes":4096,"path":"/skerry"}
{"define":"context","key":"marker cost ns","value":"20"}
)";
        const auto add = [&](int at, int lane, const char* rest) {
            text += "{\"at\":" + std::to_string(at) + ",\"lane\":" + std::to_string(lane) + "," + rest + "}\n";
        };
        for (int i = 0; i < 40; ++i) {
            const int at = i * 20'000, late = i % 7 == 3 ? 9000 : 0;
            const std::string number = std::to_string(i + 1), address = std::to_string(4096 + i / 2 * 64);
            add(at, 3, R"("do":"switch","thread":11)");
            add(at, 1, R"("do":"frame","series":"loop","deadline_ns":12000)");
            add(at, 1, R"("do":"state","state":"stage","value":"race")");
            add(at, 1, R"("do":"begin","site":"a")");
            add(at + 5, 1, R"("do":"argument","key":"course","value":"twice round")");
            add(at + 10, 1, ("\"do\":\"link_out\",\"link\":" + number).c_str());
            add(at + 20, 2, R"("do":"begin","site":"b")");
            add(at + 20, 2, ("\"do\":\"link_in\",\"link\":" + number).c_str());
            add(at + 30, 2, R"("do":"taken","object":"harbour")");
            add(at + 40, 1, ("\"do\":\"operation\",\"site\":\"load\",\"operation\":" + number).c_str());
            add(at + 50, 1, R"("do":"wait","object":"harbour","site":"wait for it","kind":"lock")");
            add(at + 60, 2, ("\"do\":\"step\",\"site\":\"unpack\",\"operation\":" + number).c_str());
            add(at + 70, 2, R"("do":"count","counter":1,"value":2.5)");
            add(at + 80, 2,
                (R"("do":"memory)" + std::string(i % 2 ? "_given" : "") + R"(","pool":"sails","address":)" + address +
                 (i % 2 ? "" : R"(,"bytes":64,"name":"jib")"))
                    .c_str());
            add(at + 4000 + late, 2, R"("do":"given","object":"harbour")");
            add(at + 4010 + late, 2, ("\"do\":\"operation_end\",\"code\":1,\"operation\":" + number).c_str());
            add(at + 4020 + late, 2, R"("do":"end")");
            add(at + 4100 + late, 1, R"("do":"wait_end")");
            add(at + 4200 + late, 1, R"("do":"point","severity":"warning","text":"gust")");
            add(at + 5000 + late, 3, R"("do":"switch","thread":12,"ready":true)");
            add(at + 5010 + late, 3, R"("do":"sample","thread":12,"stack":"8040")");
            add(at + 6000 + late, 1, R"("do":"end")");
            add(at + 7000 + late, 1, R"("do":"frame_end","series":"loop")");
        }
        add(810'000, 1, R"("do":"picture","picture":1,"width":1,"height":1,"pixels":"0000ff")");
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
    const auto taken = std::make_shared<Recording>();
    taken->storage = whole.storage;
    const bool good = takeArchive(*taken, archive);
    if (bytes.empty() && (!good || taken->markerCount() != whole.markerCount())) std::abort();
    if (good) askOf(taken);
}

void fuzzKept(std::string_view bytes) {
    const std::string& file = smallRecording();
    OpenOptions options;
    options.indexFolder = folder() + "/indexes";
    options.indexFromBytes = 1;
    const std::string index = indexPathFor(options.indexFolder, file);
    const std::string sums = std::filesystem::path(index).replace_extension(".frames0");
    struct Good {
        std::string index, sums;
        size_t markers = 0;
    };
    static const Good good = [&] {
        const auto opened = openRecording(file, {}, options);
        if (!opened) std::abort();
        sumCriticalPaths(**opened, 0);
        Good files{bytesOf(index), bytesOf(sums), (*opened)->markerCount()};
        std::filesystem::remove_all(options.indexFolder);
        std::filesystem::create_directory(options.indexFolder);
        return files;
    }();
    // The kept files, with the given bytes put over them at places that they name, and checksums that fit. The first
    // byte says which of both files.
    const bool ofSums = !bytes.empty() && bytes[0] & 1;
    std::string files[2] = {good.index, good.sums};
    std::string& changed = files[ofSums];
    eachChange(bytes.substr(std::min<size_t>(1, bytes.size())), changed.size(),
               [&](size_t at, char byte) { changed[at] = byte; });
    testing::mendCacheFile(changed);
    putFile(index, files[0]);
    putFile(sums, files[1]);
    const auto opened = openRecording(file, {}, options);
    if (!opened) std::abort();
    if (bytes.size() < 4 && (!(*opened)->fileState || (*opened)->markerCount() != good.markers)) std::abort();
    askOf(*opened);
    std::filesystem::remove_all(options.indexFolder);
    std::filesystem::create_directory(options.indexFolder);
}

void fuzzSymbols(std::string_view bytes) {
    const std::string path = folder() + "/0123456789abcdef.symbols";
    std::string file(24, '\0');  // magic, size and checksum of what follows: cached_symbols.cpp
    const uint64_t size = bytes.size(), checksum = layout::checksum(bytes.data(), bytes.size());
    std::memcpy(file.data(), "FUGSYM02", 8);
    std::memcpy(file.data() + 8, &size, sizeof size);
    std::memcpy(file.data() + 16, &checksum, sizeof checksum);
    putFile(path, file.append(bytes));
    CachedSymbols kept = readCachedSymbols(path);
    if (kept.places.empty()) return;
    cacheSymbols(path, kept);  // what could be read can be kept again
    if (readCachedSymbols(path).places != kept.places) std::abort();
}

}  // namespace fugato
