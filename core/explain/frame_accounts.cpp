// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_accounts.h"

#include <algorithm>
#include <atomic>
#include <filesystem>
#include <functional>
#include <thread>

#include "core/store/archive.h"
#include "core/store/kept_file.h"
#include "side_by_side.h"

namespace fugato {

// How each type is put into the kept file.
template <class A>
static void describe(A& a, PartKey& k) {
    a(k.group, k.path, k.kind, k.object, k.holder, k.coreHolder);
}
template <class A>
static void describe(A& a, PlaceKey& k) {
    a(k.group, k.path);
}
template <class A>
static void describe(A& a, FrequentMarker& m) {
    a(m.site, m.count, m.perFrame, m.shareOfFrames);
}
template <class A>
static void describe(A& a, Measuring& m) {
    a(m.markerCostNs, m.inFrames, m.share, m.worstShare, m.worstFrame, m.most);
}

namespace {

struct Hash {
    static size_t mix(size_t seed, uint64_t value) { return (seed ^ value) * 0x9e3779b97f4a7c15ull + (seed >> 29); }
    size_t operator()(const PartKey& k) const {
        size_t h = mix(k.path, k.group);
        h = mix(h, static_cast<uint64_t>(k.kind));
        h = mix(h, k.object);
        h = mix(h, k.coreHolder);
        return mix(h, k.holder) >> 7;
    }
    size_t operator()(const PlaceKey& k) const { return mix(mix(17, k.path), k.group) >> 7; }
};

/// Gives keys numbers: positions in a list that lies elsewhere. Open addressing, at most half full.
template <class Key>
class Numbers {
public:
    uint32_t of(std::vector<Key>& list, const Key& key) {
        if (2 * list.size() >= places_.size()) grow(list);
        for (size_t at = Hash()(key);; ++at) {
            uint32_t& place = places_[at & (places_.size() - 1)];
            if (place == kNone) {
                place = static_cast<uint32_t>(list.size());
                list.push_back(key);
                return place;
            }
            if (list[place] == key) return place;
        }
    }
    uint32_t find(const std::vector<Key>& list, const Key& key) const {
        for (size_t at = Hash()(key); !places_.empty(); ++at) {
            const uint32_t place = places_[at & (places_.size() - 1)];
            if (place == kNone || list[place] == key) return place;
        }
        return kNone;
    }

private:
    void grow(const std::vector<Key>& list) {
        places_.assign(std::max<size_t>(64, places_.size() * 4), kNone);
        for (uint32_t i = 0; i < list.size(); ++i) {
            size_t at = Hash()(list[i]);
            while (places_[at & (places_.size() - 1)] != kNone) ++at;
            places_[at & (places_.size() - 1)] = i;
        }
    }
    std::vector<uint32_t> places_;
};

/// Remembers for each path the number it had last: mostly it has it again.
template <class Key>
class Recent {
public:
    explicit Recent(size_t paths) : last_(paths) {}
    uint32_t of(PathId path, std::vector<Key>& list, const Key& key, Numbers<Key>& numbers) {
        uint32_t& last = last_[path];
        if (last >= list.size() || !(list[last] == key)) last = numbers.of(list, key);
        return last;
    }

private:
    std::vector<uint32_t> last_;
};

/// Sums that are cleared by visiting only what was touched.
struct Sums {
    std::vector<int64_t> values;
    std::vector<uint32_t> touched;
    void add(uint32_t at, int64_t value) {
        if (values.size() <= at) values.resize(at + 64);
        if (values[at] == 0) touched.push_back(at);
        values[at] += value;
    }
};

}  // namespace

struct FrameAccounts::Index {
    Numbers<PlaceKey> places;
};

uint32_t FrameAccounts::place(const PlaceKey& key) const { return index->places.find(places, key); }

namespace {

/// The accounts of the frames [from, to), last frame first, with keys and places of their own.
struct Stretch {
    std::vector<PartKey> keys;
    std::vector<PlaceKey> places;
    Numbers<PlaceKey> placeNumbers;
    std::vector<Part> parts;
    std::vector<Calls> calls;
    std::vector<size_t> partsFrom, callsFrom;
    std::vector<int64_t> pacing;
};

/// Returns false where `goOn` said so.
bool accountStretch(const Recording& recording, const Column<Frame>& frames, size_t from, size_t to, Stretch& stretch,
                    const std::function<bool(size_t done)>& goOn) {
    Stretch& a = stretch;
    Numbers<PartKey> numbers;
    Recent<PartKey> keyOf(recording.paths.size());
    Recent<PlaceKey> placeOf(recording.paths.size());
    Accountant accountant(recording);
    Sums time, calls;
    // The instance last counted, per lane and row: the walk runs backwards on each lane. The frame stands
    // beside it, so that nothing is cleared between frames.
    std::vector<std::vector<uint64_t>> counted(recording.lanes.size());
    for (size_t i = 0; i < counted.size(); ++i) counted[i].resize(recording.lanes[i].rows.size(), UINT64_MAX);

    a.partsFrom.push_back(0);
    a.callsFrom.push_back(0);
    for (size_t f = to; f-- > from;) {  // each walk goes back in time, and so do the frames: no cursor goes forward
        if ((f - from) % 256 == 0 && !goOn(to - 1 - f)) return false;
        int64_t pacing = 0;
        for (const Piece& piece : accountant.account(frames[f].lane, frames[f].begin, frames[f].end)) {
            const Lane& lane = recording.lanes[piece.lane];
            const PartKey key{lane.group,        piece.path,        piece.kind,
                              piece.lock.object, piece.lock.holder, piece.coreHolder};
            time.add(keyOf.of(piece.path, a.keys, key, numbers), piece.duration());
            if (piece.kind == PieceKind::WaitPacing) pacing += piece.duration();
            if (!piece.marker.valid()) continue;
            PathId path = piece.path;
            uint32_t at = piece.marker.index;
            for (uint32_t row = piece.marker.row;; --row) {
                const uint64_t instance = static_cast<uint64_t>(f) << 32 | at;
                if (counted[piece.lane][row] == instance) break;  // and with it everything above
                counted[piece.lane][row] = instance;
                calls.add(placeOf.of(path, a.places, PlaceKey{lane.group, path}, stretch.placeNumbers), 1);
                if (row == 0) break;
                at = lane.rows[row].parent(at);
                path = recording.paths[path].parent;
            }
        }
        for (const uint32_t key : time.touched) {
            a.parts.push_back({key, time.values[key]});
            time.values[key] = 0;
        }
        for (const uint32_t place : calls.touched) {
            a.calls.push_back({place, static_cast<uint32_t>(calls.values[place])});
            calls.values[place] = 0;
        }
        time.touched.clear();
        calls.touched.clear();
        a.partsFrom.push_back(a.parts.size());
        a.callsFrom.push_back(a.calls.size());
        a.pacing.push_back(pacing);
    }
    return true;
}

/// The columns of accounts while they are filled.
struct Columns {
    Part* parts;
    Calls* calls;
    uint64_t *partsFrom, *callsFrom;
    int64_t* pacing;
};

/// Puts the frames of a stretch, of which `frame` is the first, where they belong: their parts and calls end
/// before `part` and `call`.
void put(const Columns& to, const Stretch& s, const std::vector<uint32_t>& keys, const std::vector<uint32_t>& places,
         size_t frame, uint64_t part, uint64_t call) {
    for (size_t back = 0; back < s.pacing.size(); ++back) {
        const size_t f = frame + s.pacing.size() - 1 - back;
        to.partsFrom[f + 1] = part;
        to.callsFrom[f + 1] = call;
        for (size_t i = s.partsFrom[back]; i < s.partsFrom[back + 1]; ++i)
            to.parts[--part] = {keys[s.parts[i].key], s.parts[i].ns};
        std::sort(to.parts + part, to.parts + to.partsFrom[f + 1],
                  [](const Part& x, const Part& y) { return x.key < y.key; });
        for (size_t i = s.callsFrom[back]; i < s.callsFrom[back + 1]; ++i)
            to.calls[--call] = {places[s.calls[i].place], s.calls[i].count};
        std::sort(to.calls + call, to.calls + to.callsFrom[f + 1],
                  [](const Calls& x, const Calls& y) { return x.place < y.place; });
        to.pacing[f] = s.pacing[back];
    }
}

template <class T>
T* columnIn(Storage& storage, Column<T>& column, size_t size) {
    auto* to = reinterpret_cast<T*>(storage.at(storage.allocate(size * sizeof(T))));
    column = Column<T>(to, size);
    return to;
}

std::shared_ptr<FrameAccounts> makeAccounts(const Recording& recording, uint32_t series,
                                            std::shared_ptr<Storage> storage, const Progress& progress) {
    const Column<Frame>& frames = recording.series[series].frames;
    auto accounts = std::make_shared<FrameAccounts>();
    FrameAccounts& a = *accounts;
    a.series = series;
    a.storage = std::move(storage);
    auto index = std::make_shared<FrameAccounts::Index>();
    const size_t threads = std::clamp<size_t>(std::thread::hardware_concurrency(), 1, frames.size() / 1024 + 1);
    std::vector<Stretch> stretches(threads);
    std::atomic<bool> stop{false};
    sideBySide(threads, [&](size_t i) {
        const size_t from = frames.size() * i / threads, to = frames.size() * (i + 1) / threads;
        const bool finished = accountStretch(recording, frames, from, to, stretches[i], [&](size_t done) {
            if (i == 0 && progress && !progress(static_cast<double>(done) / static_cast<double>(to - from)))
                stop = true;
            return !stop;
        });
        if (!finished) stop = true;
    });
    if (stop) return nullptr;

    // Keys get the numbers in which the frames, from the last, first meet them, so that the outcome does not
    // depend on how the frames were shared out.
    Numbers<PartKey> numbers;
    std::vector<std::vector<uint32_t>> keys(threads), places(threads);
    std::vector<uint64_t> partsEnd(threads), callsEnd(threads);
    for (size_t i = threads; i-- > 0;) {
        for (const PartKey& key : stretches[i].keys) keys[i].push_back(numbers.of(a.keys, key));
        for (const PlaceKey& place : stretches[i].places) places[i].push_back(index->places.of(a.places, place));
    }
    uint64_t parts = 0, calls = 0;
    for (size_t i = 0; i < threads; ++i) {
        partsEnd[i] = parts += stretches[i].parts.size();
        callsEnd[i] = calls += stretches[i].calls.size();
    }
    Columns to{};
    to.parts = columnIn(*a.storage, a.parts, parts);
    to.calls = columnIn(*a.storage, a.calls, calls);
    to.partsFrom = columnIn(*a.storage, a.partsFrom, frames.size() + 1);
    to.callsFrom = columnIn(*a.storage, a.callsFrom, frames.size() + 1);
    to.pacing = columnIn(*a.storage, a.pacing, frames.size());
    sideBySide(threads, [&](size_t i) {
        put(to, stretches[i], keys[i], places[i], frames.size() * i / threads, partsEnd[i], callsEnd[i]);
        stretches[i] = {};
    });
    a.index = std::move(index);
    a.measuring = measuringOf(recording, series);
    return accounts;
}

constexpr uint64_t kRules = 3;  // of accounting; another number makes kept accounts be worked out anew

KeptFor accountsOf(const Recording& recording) {
    const uint64_t sizes[] = {kRules, sizeof(Part), sizeof(Calls)};
    return {"FUGFRAME", recording.keptState, layoutNumber(sizes)};
}

template <bool kWriting>
bool archive(FrameAccounts& a, std::string& bytes) {
    Archive<kWriting> put(*a.storage, bytes);
    put(a.keys, a.places, a.parts, a.calls, a.partsFrom, a.callsFrom, a.pacing, a.measuring);
    return put.good();
}

/// Whether kept accounts can belong to these frames, so that reading them meets nothing that is not there.
bool fits(const FrameAccounts& a, const Recording& recording) {
    const size_t frames = recording.series[a.series].frames.size();
    return a.pacing.size() == frames && a.partsFrom.size() == frames + 1 && a.callsFrom.size() == frames + 1 &&
           a.partsFrom[frames] == a.parts.size() && a.callsFrom[frames] == a.calls.size();
}

std::shared_ptr<FrameAccounts> keptAccounts(const Recording& recording, uint32_t series, const std::string& path) {
    auto kept = openKept(path, accountsOf(recording));
    if (!kept) return nullptr;
    auto accounts = std::make_shared<FrameAccounts>();
    accounts->series = series;
    accounts->storage = std::move(kept->storage);
    if (!archive<false>(*accounts, kept->archive) || !fits(*accounts, recording)) return nullptr;
    auto index = std::make_shared<FrameAccounts::Index>();
    std::vector<PlaceKey> places;
    for (const PlaceKey& place : accounts->places) index->places.of(places, place);
    accounts->index = std::move(index);
    return accounts;
}

}  // namespace

std::shared_ptr<const FrameAccounts> accountFrames(const Recording& recording, uint32_t series,
                                                   const Progress& progress) {
    if (recording.keptAt.empty()) return makeAccounts(recording, series, Storage::inMemory(), progress);
    const std::filesystem::path index(recording.keptAt);
    const std::string path =
        std::filesystem::path(index).replace_extension(".frames" + std::to_string(series)).string();
    if (auto known = keptAccounts(recording, series, path)) {
        known->storage->keepWithin(recording.storage->limit());
        return known;
    }
    auto file = Storage::inFolder(index.parent_path().string());
    auto made = makeAccounts(recording, series, file ? *file : Storage::inMemory(), progress);
    std::string bytes;
    if (made && made->storage->inFile() && archive<true>(*made, bytes) &&
        completeFile(*made->storage, bytes, accountsOf(recording)) && made->storage->giveName(path))
        made->storage->keepWithin(recording.storage->limit());
    return made;
}

}  // namespace fugato
