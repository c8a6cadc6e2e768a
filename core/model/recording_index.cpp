// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_index.h"

#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fugato_layout.hpp>

#include "bounds.h"
#include "core/store/archive.h"
#include "core/store/cache_file.h"
#include "format/byte_source.h"
#include "format/log.h"
#include "streams/streams.h"

namespace fugato {

// How each type is put into an index.
template <class A>
static void describe(A& a, PathTable& paths) {
    auto nodes = paths.nodes();
    a(nodes);
    if constexpr (!A::kWriting) paths = PathTable(std::move(nodes));
}
template <class A>
static void describe(A& a, PathTable::Node& n) {
    a(n.parent, n.site, n.depth);
}
template <class A>
static void describe(A& a, MarkerRow& row) {
    MarkerRow::Parts parts = row.parts();
    a(parts.size, parts.waits, parts.chunks, parts.groups, parts.groupWaits, parts.sums);
    if constexpr (!A::kWriting) row = MarkerRow(a.storage(), parts);
}
template <class A>
static void describe(A& a, Site& s) {
    a(s.name, s.category, s.description, s.file, s.line, s.longestNs, s.detail);
}
template <class A>
static void describe(A& a, Lane& l) {
    a(l.id, l.osId, l.kind, l.name, l.role, l.program, l.group, l.first, l.last, l.rows, l.paths, l.waits, l.blocked,
      l.linkIns, l.lost, l.arguments, l.schedule, l.scheduleSums, l.wakeUps, l.coreSpans, l.onlyCounts, l.fromSystem);
    if constexpr (!A::kWriting)
        for (MarkerRow& row : l.rows) row.setPaths(l.paths.data());
}
template <class A>
static void describe(A& a, LaneGroup& g) {
    a(g.name, g.lanes);
}
template <class A>
static void describe(A& a, Series& s) {
    a(s.name, s.frames);
}
template <class A>
static void describe(A& a, Counter& c) {
    a(c.name, c.unit, c.threshold, c.times, c.values, c.extremes);
}
template <class A>
static void describe(A& a, State& s) {
    a(s.name, s.spans);
}
template <class A>
static void describe(A& a, OperationRow& row) {
    a(row.operations, row.failed);
}
template <class A>
static void describe(A& a, Pool& p) {
    a(p.name, p.times, p.bytesInUse, p.extremes);
}
template <class A>
static void describe(A& a, OsThread& t) {
    a(t.process, t.name, t.system);
}
template <class A>
static void describe(A& a, LikelyEnder& e) {
    a(e.lane, e.path, e.group);
}
template <class A>
static void describe(A& a, Module& m) {
    a(m.address, m.bytes, m.offset, m.path, m.buildId);
}

namespace {

CacheKey indexOf(uint64_t state) {
    constexpr uint64_t kRules = 11;  // another number: what stands in the structures means something else
    const uint64_t sizes[] = {kRules,
                              sizeof(MarkerRow::Chunk),
                              sizeof(MarkerRow::Group),
                              sizeof(PathSum),
                              sizeof(Wait),
                              sizeof(Lane::Blocked),
                              sizeof(LinkEnd),
                              sizeof(LostEvents),
                              sizeof(Argument),
                              sizeof(ScheduleSpan),
                              sizeof(TimeSplit),
                              sizeof(CoreSpan),
                              sizeof(WakeUp),
                              sizeof(Hold),
                              sizeof(Frame),
                              sizeof(Point),
                              sizeof(StateSpan),
                              sizeof(Operation),
                              sizeof(OperationStep),
                              sizeof(Allocation),
                              sizeof(Picture),
                              sizeof(StackSample),
                              sizeof(Recording::LinkSource),
                              sizeof(Extreme),
                              MarkerRow::kChunk,
                              MarkerRow::kGroup};
    return {"FUGINDEX", state, layoutNumber(sizes)};
}

template <bool kWriting>
bool archive(Recording& r, std::string& bytes) {
    Archive<kWriting> a(*r.storage, bytes);
    a(r.sites, r.paths, r.lanes, r.groups, r.keys, r.osThreads, r.modules, r.context, r.startedUnixNs, r.begin, r.end,
      r.wakeUps, r.likelyEnders);
    Streams::describe(a, r);
    a(r.repairs.endsWithoutBegin, r.repairs.beginsWithoutEnd, r.repairs.timesBackwards, r.repairs.framesWithoutEnd,
      r.repairs.unknownNames, r.repairs.lostEvents, r.repairs.tooDeep, r.repairs.mostOftenNeverEnded);
    a(r.damage.notes, r.damage.lostBlocks, r.damage.lostEvents, r.damage.wrongLines, r.damage.indexMissing);
    return a.good();
}

}  // namespace

std::string indexFolder() {
    const char* cache = std::getenv("XDG_CACHE_HOME");
    if (cache && *cache == '/') return std::string(cache) + "/fugato/indexes";
    const char* home = std::getenv("HOME");
    return home && *home ? std::string(home) + "/.cache/fugato/indexes" : std::string();
}

std::string indexPathFor(const std::string& folder, const std::string& path) {
    std::error_code error;
    const std::string whole = std::filesystem::weakly_canonical(path, error).string();
    const std::string& named = whole.empty() ? path : whole;
    char name[32];
    std::snprintf(name, sizeof name, "%016llx.index",
                  static_cast<unsigned long long>(layout::checksum(named.data(), named.size())));
    return folder + "/" + name;
}

uint64_t stateOfFile(const std::string& path) {
    struct stat status {};
    auto file = openFile(path);
    if (!file || ::stat(path.c_str(), &status) != 0) return 0;
    std::string bytes(2 * 4096, '\0');
    const uint64_t size = (*file)->size();
    (*file)->read(0, bytes.data(), 4096);
    (*file)->read(size > 4096 ? size - 4096 : 0, bytes.data() + 4096, 4096);
    const int64_t facts[] = {static_cast<int64_t>(size), status.st_mtim.tv_sec, status.st_mtim.tv_nsec};
    bytes.append(reinterpret_cast<const char*>(facts), sizeof facts);
    return layout::checksum(bytes.data(), bytes.size()) | 1;
}

std::string toArchive(Recording& recording) {
    std::string bytes;
    archive<true>(recording, bytes);
    return bytes;
}

bool takeArchive(Recording& recording, std::string& bytes) {
    return archive<false>(recording, bytes) && withinBounds(recording);
}

bool completeIndex(Recording& recording, uint64_t state) {
    if (!recording.storage->inFile()) return false;
    return completeCacheFile(*recording.storage, toArchive(recording), indexOf(state));
}

std::shared_ptr<Recording> loadIndex(const std::string& indexPath, uint64_t state) {
    auto kept = openCacheFile(indexPath, indexOf(state));
    if (!kept) return nullptr;
    auto recording = std::make_shared<Recording>();
    recording->storage = std::move(kept->storage);
    if (!takeArchive(*recording, kept->archive)) {
        log(LogLevel::Warning, indexPath + " is not used: its lists are damaged, or say what cannot be.");
        return nullptr;
    }
    recording->fileState = state;
    return recording;
}

void forgetIndex(const Recording& recording) {
    if (!recording.fileState) return;
    std::error_code error;
    const std::filesystem::path index(recording.storage->path());
    for (const auto& file : std::filesystem::directory_iterator(index.parent_path(), error))
        if (file.path().stem() == index.stem()) std::filesystem::remove(file, error);
}

void limitIndexFolder(const std::string& folder, uint64_t bytes, const std::string& keep) {
    struct Entry {  // an index and what was kept beside it, or the symbols of a program
        std::vector<std::filesystem::path> files;
        std::filesystem::file_time_type used = std::filesystem::file_time_type::min();
        uint64_t size = 0;
    };
    std::map<std::string, Entry> byName;
    uint64_t sum = 0;
    std::error_code error;
    for (const auto& file : std::filesystem::directory_iterator(folder, error)) {
        const std::string kind = file.path().extension().string();
        if ((kind != ".index" && kind != ".symbols" && kind.rfind(".frames", 0) != 0) || !file.is_regular_file(error))
            continue;
        Entry& entry = byName[file.path().stem().string()];
        entry.files.push_back(file.path());
        entry.used = std::max(entry.used, file.last_write_time(error));
        entry.size += file.file_size(error);
        sum += file.file_size(error);
    }
    byName.erase(std::filesystem::path(keep).stem().string());
    std::vector<Entry> entries;
    for (auto& [name, entry] : byName) entries.push_back(std::move(entry));
    std::sort(entries.begin(), entries.end(), [](const Entry& x, const Entry& y) { return x.used < y.used; });
    for (const Entry& entry : entries) {
        if (sum <= bytes) return;
        for (const auto& file : entry.files) {
            std::filesystem::remove(file, error);
            log(LogLevel::Info, error ? file.string() + " could not be removed: " + error.message() + "."
                                      : file.string() + " was removed, to make room.");
        }
        sum -= entry.size;
    }
}

}  // namespace fugato
