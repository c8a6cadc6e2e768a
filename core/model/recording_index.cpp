// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_index.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <fugato_layout.hpp>
#include <thread>

#include "format/byte_source.h"

namespace fugato {

namespace {

constexpr char kMagic[8] = {'F', 'U', 'G', 'I', 'N', 'D', 'E', 'X'};
constexpr uint32_t kVersion = 1;

struct Header {  // at the front of the file; all of it is zero until the file is complete
    char magic[8];
    uint32_t version;
    uint32_t onDisk;  // 1: all of the file had reached the disk
    uint64_t state;   // of the recording's file
    uint64_t boot;    // of the machine, while it was made
    uint64_t bytes;   // of the storage
    uint64_t archiveAt, archiveBytes, archiveChecksum;
    uint64_t checksum;  // of the bytes before, with onDisk 0
};
static_assert(sizeof(Header) <= 128);

uint64_t checksumOf(Header header) {
    header.onDisk = 0;
    return layout::checksum(&header, offsetof(Header, checksum));
}

/// Tells one start of the machine from the next: what a file says that never reached the disk is true
/// until then only.
uint64_t bootNumber() {
    std::ifstream file("/proc/sys/kernel/random/boot_id");
    std::string id;
    std::getline(file, id);
    return layout::checksum(id.data(), id.size());
}

/// Changes with the size of anything that is stored as it lies in memory, so that another version of the
/// program does not take its bytes for something else.
uint64_t layoutNumber() {
    const uint64_t sizes[] = {sizeof(MarkerRow::Chunk),
                              sizeof(MarkerRow::Group),
                              sizeof(PathSum),
                              sizeof(Wait),
                              sizeof(Lane::Blocked),
                              sizeof(LinkEnd),
                              sizeof(LostStretch),
                              sizeof(Argument),
                              sizeof(ScheduleSpan),
                              sizeof(CoreSpan),
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
                              MarkerRow::kChunk,
                              MarkerRow::kGroup};
    return layout::checksum(sizes, sizeof sizes);
}

/// Puts values into bytes, or takes them out again; one description of the fields serves both.
template <bool kWriting>
class Archive {
public:
    Archive(Storage& storage, std::string& bytes) : storage_(storage), bytes_(bytes) {}
    bool good() const { return good_; }

    template <class... Fields>
    void operator()(Fields&... fields) {
        (field(fields), ...);
    }

private:
    void raw(void* data, size_t size) {
        if constexpr (kWriting) {
            bytes_.append(static_cast<const char*>(data), size);
        } else {
            if (!good_ || size > bytes_.size() - at_) {
                good_ = false;
                return;
            }
            std::memcpy(data, bytes_.data() + at_, size);
            at_ += size;
        }
    }
    /// The number of things that follow; each takes at least `least` bytes.
    uint64_t count(uint64_t size, uint64_t least) {
        raw(&size, sizeof size);
        if (!kWriting && (!good_ || size > (bytes_.size() - at_) / least)) {
            good_ = false;
            return 0;
        }
        return size;
    }

    template <class T>
    requires(std::is_arithmetic_v<T> || std::is_enum_v<T>) void field(T& value) { raw(&value, sizeof value); }
    void field(std::string& text) {
        const uint64_t size = count(text.size(), 1);
        if constexpr (!kWriting) text.resize(size);
        raw(text.data(), size);
    }
    template <class T>
    void field(std::optional<T>& value) {
        bool has = value.has_value();
        field(has);
        if (has && !value) value.emplace();
        if (has) field(*value);
    }
    template <class T>
    void field(std::vector<T>& values) {
        const uint64_t size = count(values.size(), 1);
        if constexpr (!kWriting) values.resize(size);
        for (T& value : values) field(value);
    }
    template <class K, class V>
    void field(std::map<K, V>& values) {
        uint64_t size = count(values.size(), 1);
        if constexpr (kWriting) {
            for (auto& [key, value] : values) {
                K copy = key;
                (*this)(copy, value);
            }
        } else {
            for (; size && good_; --size) {
                K key{};
                field(key);
                field(values[key]);
            }
        }
    }
    template <class T>
    void field(Column<T>& column) {
        uint64_t at = column.empty() ? 0 : static_cast<uint64_t>(reinterpret_cast<const char*>(column.data()) - base()),
                 size = column.size();
        (*this)(at, size);
        if constexpr (!kWriting) {
            if (!good_ || at % 8 || at > storage_.size() || size > (storage_.size() - at) / sizeof(T)) {
                good_ = false;
                return;
            }
            column = size ? Column<T>(reinterpret_cast<const T*>(base() + at), size) : Column<T>();
        }
    }
    const char* base() const { return const_cast<Storage&>(storage_).at(0); }

    void field(PathTable& paths) {
        auto nodes = paths.nodes();
        field(nodes);
        if constexpr (!kWriting) paths = PathTable(std::move(nodes));
    }
    void field(PathTable::Node& n) { (*this)(n.parent, n.site, n.depth); }
    void field(MarkerRow& row) {
        MarkerRow::Parts parts = row.parts();
        (*this)(parts.size, parts.waits, parts.chunks, parts.groups, parts.groupWaits, parts.sums);
        if constexpr (!kWriting) row = MarkerRow(storage_, parts);
    }
    void field(Site& s) { (*this)(s.name, s.category, s.description, s.file, s.line, s.longestNs, s.detail); }
    void field(Lane& l) {
        (*this)(l.id, l.osId, l.kind, l.name, l.role, l.group, l.first, l.last, l.rows, l.paths, l.waits, l.blocked,
                l.linkIns, l.lost, l.arguments, l.schedule, l.coreSpans, l.onlyCounts);
        if constexpr (!kWriting)
            for (MarkerRow& row : l.rows) row.setPaths(l.paths.data());
    }
    void field(LaneGroup& g) { (*this)(g.name, g.lanes); }
    void field(Series& s) { (*this)(s.name, s.frames); }
    void field(Counter& c) { (*this)(c.name, c.unit, c.threshold, c.times, c.values); }
    void field(State& s) { (*this)(s.name, s.spans); }
    void field(Pool& p) { (*this)(p.name, p.times, p.bytesInUse); }
    void field(OsThread& t) { (*this)(t.process, t.name); }
    void field(Module& m) { (*this)(m.address, m.bytes, m.offset, m.path, m.buildId); }

    Storage& storage_;
    std::string& bytes_;
    size_t at_ = 0;
    bool good_ = true;
};

template <bool kWriting>
bool archive(Recording& r, std::string& bytes) {
    Archive<kWriting> a(*r.storage, bytes);
    a(r.sites, r.paths, r.lanes, r.groups, r.laneOrder, r.objects, r.holds, r.series, r.counters, r.points, r.states,
      r.keys, r.operations, r.operationSteps, r.allocations, r.pools, r.pictures, r.osThreads, r.samples,
      r.stackAddresses, r.modules, r.context, r.startedUnixNs, r.begin, r.end, r.linkSources);
    a(r.repairs.endsWithoutBegin, r.repairs.beginsWithoutEnd, r.repairs.timesBackwards, r.repairs.framesWithoutEnd,
      r.repairs.unknownNames, r.repairs.lostEvents);
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

bool completeIndex(Recording& recording, uint64_t state) {
    Storage& storage = *recording.storage;
    if (!storage.inFile() || storage.spilled()) return false;
    std::string bytes;
    archive<true>(recording, bytes);
    Header header{};
    std::memcpy(header.magic, kMagic, sizeof kMagic);
    header.version = kVersion;
    header.state = state ^ layoutNumber();
    header.boot = bootNumber();
    header.archiveAt = storage.allocate(bytes.size());
    header.archiveBytes = bytes.size();
    header.archiveChecksum = layout::checksum(bytes.data(), bytes.size());
    header.bytes = storage.size();
    if (storage.spilled()) return false;
    std::memcpy(storage.at(header.archiveAt), bytes.data(), bytes.size());
    header.checksum = checksumOf(header);
    std::memcpy(storage.at(0), &header, sizeof header);
    storage.trim();
    // It is of use at once; that it survives a fall of the machine is settled beside everything else.
    const int fd = ::fcntl(storage.file(), F_DUPFD_CLOEXEC, 0);
    if (fd >= 0)
        std::thread([fd, header]() mutable {
            if (::fdatasync(fd) == 0) {
                header.onDisk = 1;
                const ssize_t written = ::pwrite(fd, &header, sizeof header, 0);
                (void)written;  // else the index is made anew after the next start
            }
            ::close(fd);
        }).detach();
    return true;
}

std::shared_ptr<Recording> loadIndex(const std::string& indexPath, uint64_t state) {
    auto file = openFile(indexPath);
    Header header;
    if (!file || (*file)->read(0, reinterpret_cast<char*>(&header), sizeof header) != sizeof header) return nullptr;
    if (std::memcmp(header.magic, kMagic, sizeof kMagic) != 0 || header.version != kVersion ||
        header.checksum != checksumOf(header) || header.state != (state ^ layoutNumber()))
        return nullptr;
    if (!header.onDisk && header.boot != bootNumber()) return nullptr;
    if (header.bytes > (*file)->size() || header.archiveAt > header.bytes ||
        header.archiveBytes > header.bytes - header.archiveAt)
        return nullptr;
    std::string bytes(header.archiveBytes, '\0');
    if ((*file)->read(header.archiveAt, bytes.data(), bytes.size()) != bytes.size() ||
        layout::checksum(bytes.data(), bytes.size()) != header.archiveChecksum)
        return nullptr;
    auto storage = Storage::existing(indexPath, header.bytes);
    if (!storage) return nullptr;
    auto recording = std::make_shared<Recording>();
    recording->storage = std::move(*storage);
    if (!archive<false>(*recording, bytes)) return nullptr;
    ::utimensat(AT_FDCWD, indexPath.c_str(), nullptr, 0);  // used now
    return recording;
}

void limitIndexFolder(const std::string& folder, uint64_t bytes, const std::string& keep) {
    struct Entry {
        std::filesystem::path path;
        std::filesystem::file_time_type used;
        uint64_t size;
    };
    std::vector<Entry> entries;
    uint64_t sum = 0;
    std::error_code error;
    for (const auto& file : std::filesystem::directory_iterator(folder, error)) {
        if (file.path().extension() != ".index" || !file.is_regular_file(error)) continue;
        entries.push_back({file.path(), file.last_write_time(error), file.file_size(error)});
        sum += entries.back().size;
    }
    std::sort(entries.begin(), entries.end(), [](const Entry& x, const Entry& y) { return x.used < y.used; });
    for (const Entry& entry : entries) {
        if (sum <= bytes) return;
        if (entry.path == keep) continue;
        if (std::filesystem::remove(entry.path, error)) sum -= entry.size;
    }
}

}  // namespace fugato
