// SPDX-License-Identifier: GPL-3.0-or-later
#include "critical_path_sums.h"

#include <tsl/robin_map.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <filesystem>
#include <numeric>
#include <thread>
#include <utility>

#include "core/model/bounds.h"
#include "core/store/archive.h"
#include "core/store/cache_file.h"
#include "core/store/long_work.h"
#include "core/store/side_by_side.h"

namespace fugato {

// How each type is put into the cache file.
template <class A>
static void describe(A& a, PartKey& k) {
    a(k.group, k.path, k.kind, k.object, k.holder, k.coreHolder);
}
template <class A>
static void describe(A& a, PlaceKey& k) {
    a(k.group, k.path);
}
template <class A>
static void describe(A& a, CriticalPathSums::Slice& s) {
    a(s.parts, s.calls, s.partsFrom, s.callsFrom, s.pacing);
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

/// Gives keys numbers: positions in a list that lies elsewhere.
template <class Key>
class Numbers {
public:
    uint32_t of(std::vector<Key>& list, const Key& key) {
        const auto [at, isNew] = numbers_.try_emplace(key, static_cast<uint32_t>(list.size()));
        if (isNew) list.push_back(key);
        return at->second;
    }
    /// The numbers of a list that is there already.
    void take(const std::vector<Key>& list) {
        for (uint32_t i = 0; i < list.size(); ++i) numbers_.try_emplace(list[i], i);
    }
    uint32_t find(const Key& key) const {
        const auto at = numbers_.find(key);
        return at == numbers_.end() ? kNone : at->second;
    }

private:
    tsl::robin_map<Key, uint32_t, Hash> numbers_;
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
    int64_t take(uint32_t at) { return std::exchange(values[at], 0); }
};

}  // namespace

struct CriticalPathSums::Index {
    Numbers<PlaceKey> places;
};

uint32_t CriticalPathSums::place(const PlaceKey& key) const { return index->places.find(key); }

namespace {

/// Accounts for frames on one thread, with keys and places of its own numbers, in the order in which they are met.
class Walk : private SegmentSums {
public:
    explicit Walk(const Recording& recording)
        : recording_(recording),
          keyOf_(recording.paths.size()),
          placeOf_(recording.paths.size()),
          accountant_(recording) {}

    /// The frames [from, to). Each walk goes back in time, and so do the frames, so that no cursor goes forward: call
    /// it for later slices first.
    CriticalPathSums::Slice slice(const Column<Frame>& frames, size_t from, size_t to, Storage& storage) {
        std::vector<uint32_t> partCounts, callCounts;
        std::vector<int64_t> pacing;
        parts_.clear();
        calls_.clear();
        for (size_t f = to; f-- > from;) {
            pacing_ = 0;
            accountant_.sumUp(frames[f].lane, frames[f].begin, frames[f].end, *this);
            pacing.push_back(pacing_);
            for (const uint32_t key : time_.touched) parts_.push_back({key, time_.take(key)});
            for (const uint32_t place : counts_.touched)
                calls_.push_back({place, static_cast<uint32_t>(counts_.take(place))});
            partCounts.push_back(static_cast<uint32_t>(time_.touched.size()));
            callCounts.push_back(static_cast<uint32_t>(counts_.touched.size()));
            time_.touched.clear();
            counts_.touched.clear();
        }
        const auto inOrder = [&storage](auto& values) {
            std::reverse(values.begin(), values.end());
            return Column<typename std::remove_reference_t<decltype(values)>::value_type>::of(storage, values);
        };
        const auto ends = [&](std::vector<uint32_t>& counts) {
            std::reverse(counts.begin(), counts.end());
            counts.insert(counts.begin(), 0);
            std::partial_sum(counts.begin(), counts.end(), counts.begin());
            return Column<uint32_t>::of(storage, counts);
        };
        return {inOrder(parts_), inOrder(calls_), ends(partCounts), ends(callCounts), inOrder(pacing)};
    }

    std::vector<PartKey> keys;
    std::vector<PlaceKey> places;

private:
    void time(const Segment& like, int64_t ns) override {
        const PartKey key{recording_.lanes[like.lane].group,
                          like.path,
                          like.kind,
                          like.lock.object,
                          like.lock.holder,
                          like.coreHolder};
        time_.add(keyOf_.of(like.path, keys, key, keyNumbers_), ns);
        if (like.kind == SegmentKind::WaitPacing) pacing_ += ns;
    }
    void calls(uint32_t lane, PathId path, uint32_t count) override {
        const PlaceKey key{recording_.lanes[lane].group, path};
        counts_.add(placeOf_.of(path, places, key, placeNumbers_), count);
    }

    const Recording& recording_;
    Numbers<PartKey> keyNumbers_;
    Numbers<PlaceKey> placeNumbers_;
    Recent<PartKey> keyOf_;
    Recent<PlaceKey> placeOf_;
    CriticalPathWalker accountant_;
    Sums time_, counts_;  // of one frame
    std::vector<Part> parts_;
    std::vector<Calls> calls_;
    int64_t pacing_ = 0;  // likewise
};

/// Puts the common numbers in the place of one walk's own.
void renumber(CriticalPathSums::Slice& slice, const std::vector<uint32_t>& keys, const std::vector<uint32_t>& places) {
    Part* parts = slice.parts.writable();
    Calls* calls = slice.calls.writable();
    for (size_t i = 0; i < slice.parts.size(); ++i) parts[i].key = keys[parts[i].key];
    for (size_t i = 0; i < slice.calls.size(); ++i) calls[i].place = places[calls[i].place];
    for (size_t f = 0; f < slice.pacing.size(); ++f) {
        std::sort(parts + slice.partsFrom[f], parts + slice.partsFrom[f + 1],
                  [](const Part& x, const Part& y) { return x.key < y.key; });
        std::sort(calls + slice.callsFrom[f], calls + slice.callsFrom[f + 1],
                  [](const Calls& x, const Calls& y) { return x.place < y.place; });
    }
}

/// Adds the slices that `a` does not have yet, and their keys and places. Returns false where it was cancelled.
bool addSlices(CriticalPathSums& a, const Recording& recording, const Progress& progress) {
    const Column<Frame>& frames = recording.series[a.series].frames;
    const size_t first = a.slices.size(),
                 count = (frames.size() + CriticalPathSums::kSlice - 1) / CriticalPathSums::kSlice;
    a.slices.resize(std::max(first, count));
    const size_t missing = a.slices.size() - first;
    const size_t threads = threadsFor(missing / 16);
    // Several walks a thread, so that one that is held up does not hold up the others.
    const size_t parts = threads == 1 ? 1 : std::min(missing / 16 + 1, threads * 8);
    const auto range = [&](size_t part) {
        return std::pair(first + missing * part / parts, first + missing * (part + 1) / parts);
    };
    std::vector<std::unique_ptr<Walk>> walks(parts);
    std::atomic<size_t> next{0}, done{0};
    std::atomic<bool> stop{false};
    sideBySide(threads, [&](size_t thread) {
        for (size_t part; (part = next++) < parts;) {
            walks[part] = std::make_unique<Walk>(recording);
            const auto [from, to] = range(part);
            for (size_t s = to; s-- > from && !stop;) {
                if (thread == 0 && progress && !progress(static_cast<double>(done) / static_cast<double>(missing)))
                    stop = true;
                const size_t begin = s * CriticalPathSums::kSlice;
                a.slices[s] = walks[part]->slice(frames, begin,
                                                 std::min(frames.size(), begin + CriticalPathSums::kSlice), *a.storage);
                ++done;
            }
        }
    });
    if (stop) return false;

    // Keys get the numbers in which the frames, from the last, first meet them, so that the outcome does not
    // depend on how the frames were shared out.
    auto index = std::make_shared<CriticalPathSums::Index>();
    Numbers<PartKey> numbers;
    numbers.take(a.keys);
    index->places.take(a.places);
    std::vector<std::vector<uint32_t>> keys(parts), places(parts);
    for (size_t i = parts; i-- > 0;) {
        for (const PartKey& key : walks[i]->keys) keys[i].push_back(numbers.of(a.keys, key));
        for (const PlaceKey& place : walks[i]->places) places[i].push_back(index->places.of(a.places, place));
    }
    next = 0;
    sideBySide(threads, [&](size_t) {
        for (size_t part; (part = next++) < parts;) {
            const auto [from, to] = range(part);
            for (size_t s = from; s < to; ++s) renumber(a.slices[s], keys[part], places[part]);
        }
    });
    a.index = std::move(index);
    return true;
}

std::shared_ptr<CriticalPathSums> makeAccounts(const Recording& recording, uint32_t series,
                                               std::shared_ptr<Storage> storage, const Progress& progress) {
    auto pathSums = std::make_shared<CriticalPathSums>();
    pathSums->series = series;
    pathSums->storage = std::move(storage);
    bool whole = false;
    sideBySide(2, [&](size_t thread) {
        if (thread == 0)
            whole = addSlices(*pathSums, recording, progress);
        else
            pathSums->measuring = measuringOf(recording, series);
    });
    return whole ? pathSums : nullptr;
}

constexpr uint64_t kRules = 4;  // of these sums; another number makes cached ones be worked out anew

CacheKey accountsOf(const Recording& recording) {
    const uint64_t sizes[] = {kRules, sizeof(Part), sizeof(Calls)};
    return {"FUGFRAME", recording.fileState, layoutNumber(sizes)};
}

template <bool kWriting>
bool archive(CriticalPathSums& a, std::string& bytes) {
    Archive<kWriting> put(*a.storage, bytes);
    put(a.keys, a.places, a.slices, a.measuring);
    return put.good();
}

std::shared_ptr<CriticalPathSums> cachedSums(const Recording& recording, uint32_t series, const std::string& path) {
    auto kept = openCacheFile(path, accountsOf(recording));
    if (!kept) return nullptr;
    auto pathSums = std::make_shared<CriticalPathSums>();
    pathSums->series = series;
    pathSums->storage = std::move(kept->storage);
    if (!archive<false>(*pathSums, kept->archive) || !withinBounds(*pathSums, recording)) return nullptr;
    auto index = std::make_shared<CriticalPathSums::Index>();
    index->places.take(pathSums->places);
    pathSums->index = std::move(index);
    return pathSums;
}

}  // namespace

namespace {

/// Whether the sums of one frame, [from, to) of its slice, add up to no more than the frame.
bool sliceIsGood(const CriticalPathSums& a, const CriticalPathSums::Slice& s, const Frame* frames, size_t count) {
    if (s.pacing.size() != count || s.partsFrom.size() != count + 1 || s.callsFrom.size() != count + 1 ||
        !areStarts(s.partsFrom, s.parts.size()) || !areStarts(s.callsFrom, s.calls.size()))
        return false;
    for (size_t f = 0; f < count; ++f) {
        int64_t left = frames[f].duration();
        if (s.pacing[f] < 0 || s.pacing[f] > left) return false;
        for (uint32_t i = s.partsFrom[f]; i < s.partsFrom[f + 1]; ++i) {
            if (!below(s.parts[i].key, a.keys.size()) || s.parts[i].ns < 0 || s.parts[i].ns > left) return false;
            left -= s.parts[i].ns;
        }
    }
    return std::all_of(s.calls.begin(), s.calls.end(),
                       [&](const Calls& calls) { return below(calls.place, a.places.size()); });
}

bool measuringIsGood(const Measuring& m, const Recording& r, size_t frames) {
    return std::isfinite(m.markerCostNs) && std::isfinite(m.share) && std::isfinite(m.worstShare) &&
           isLength(m.inFrames) && belowOrNone(m.worstFrame, frames) &&
           std::all_of(m.most.begin(), m.most.end(), [&](const FrequentMarker& marker) {
               return below(marker.site, r.sites.size()) && std::isfinite(marker.perFrame) &&
                      std::isfinite(marker.shareOfFrames);
           });
}

}  // namespace

bool withinBounds(const CriticalPathSums& a, const Recording& r) {
    const Column<Frame>& frames = r.series[a.series].frames;
    const auto isPath = [&](PathId path) { return below(path, r.paths.size()); };
    const auto isGroup = [&](uint32_t group) { return below(group, r.groups.size()); };
    if (a.slices.size() != (frames.size() + CriticalPathSums::kSlice - 1) / CriticalPathSums::kSlice ||
        !measuringIsGood(a.measuring, r, frames.size()))
        return false;
    for (size_t s = 0; s < a.slices.size(); ++s) {
        const size_t from = s * CriticalPathSums::kSlice,
                     count = std::min<size_t>(CriticalPathSums::kSlice, frames.size() - from);
        if (!sliceIsGood(a, a.slices[s], frames.data() + from, count)) return false;
    }
    return std::all_of(a.keys.begin(), a.keys.end(),
                       [&](const PartKey& k) {
                           return isGroup(k.group) && isPath(k.path) &&
                                  below(static_cast<size_t>(k.kind), kSegmentKinds) &&
                                  belowOrNone(k.object, r.objects.size()) && isPath(k.holder) &&
                                  (k.coreHolder >= kOtherProgram || isGroup(k.coreHolder));
                       }) &&
           std::all_of(a.places.begin(), a.places.end(),
                       [&](const PlaceKey& k) { return isGroup(k.group) && isPath(k.path); });
}

std::shared_ptr<const CriticalPathSums> sumCriticalPaths(const Recording& recording, uint32_t series,
                                                         const Progress& progress) {
    longWork("the critical paths of all frames");
    if (!recording.fileState) return makeAccounts(recording, series, recording.storage->beside(), progress);
    const std::filesystem::path index(recording.storage->path());
    const std::string path =
        std::filesystem::path(index).replace_extension(".frames" + std::to_string(series)).string();
    if (auto known = cachedSums(recording, series, path)) {
        known->storage->keepWithin(recording.storage->limit());
        return known;
    }
    auto made = makeAccounts(recording, series, recording.storage->beside(), progress);
    std::string bytes;
    if (made && made->storage->inFile() && archive<true>(*made, bytes) &&
        completeCacheFile(*made->storage, bytes, accountsOf(recording)))
        made->storage->giveName(path);
    return made;
}

std::shared_ptr<const CriticalPathSums> accountFurther(const Recording& recording, const CriticalPathSums& previous,
                                                       uint32_t keep, const Progress& progress) {
    auto pathSums = std::make_shared<CriticalPathSums>(previous);
    pathSums->slices.resize(std::min<size_t>(keep, previous.frameCount()) / CriticalPathSums::kSlice);
    return addSlices(*pathSums, recording, progress) ? pathSums : nullptr;
}

}  // namespace fugato
