// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_accounts.h"

#include <algorithm>
#include <atomic>
#include <functional>
#include <thread>

namespace fugato {

namespace {

struct Hash {
    static size_t mix(size_t seed, uint64_t value) { return (seed ^ value) * 0x9e3779b97f4a7c15ull + (seed >> 29); }
    size_t operator()(const PartKey& k) const {
        size_t h = mix(k.path, k.group);
        h = mix(h, static_cast<uint64_t>(k.kind));
        h = mix(h, k.object);
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

/// The accounts of the frames [from, to), with keys and places of their own.
struct Stretch {
    FrameAccounts a;
    FrameAccounts::Index index;
};

/// Returns false where `goOn` said so.
bool accountStretch(const Recording& recording, const Column<Frame>& frames, size_t from, size_t to, Stretch& stretch,
                    const std::function<bool(size_t done)>& goOn) {
    FrameAccounts& a = stretch.a;
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
    for (size_t f = from; f < to; ++f) {
        if ((f - from) % 256 == 0 && !goOn(f - from)) return false;
        int64_t pacing = 0;
        for (const Piece& piece : accountant.account(frames[f].lane, frames[f].begin, frames[f].end)) {
            const Lane& lane = recording.lanes[piece.lane];
            const PartKey key{lane.group, piece.path, piece.kind, piece.lock.object, piece.lock.holder};
            time.add(keyOf.of(piece.path, a.keys, key, numbers), piece.duration());
            if (piece.kind == PieceKind::WaitPacing) pacing += piece.duration();
            if (!piece.marker.valid()) continue;
            PathId path = piece.path;
            uint32_t at = piece.marker.index;
            for (uint32_t row = piece.marker.row;; --row) {
                const uint64_t instance = static_cast<uint64_t>(f) << 32 | at;
                if (counted[piece.lane][row] == instance) break;  // and with it everything above
                counted[piece.lane][row] = instance;
                calls.add(placeOf.of(path, a.places, PlaceKey{lane.group, path}, stretch.index.places), 1);
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

/// Puts the frames of a stretch where they belong: `parts` and `calls` are the places of its first ones.
void put(FrameAccounts& a, const Stretch& stretch, const std::vector<uint32_t>& keys,
         const std::vector<uint32_t>& places, size_t frame, size_t part, size_t call) {
    const FrameAccounts& s = stretch.a;
    for (size_t f = 0; f < s.pacing.size(); ++f, ++frame) {
        const size_t firstPart = part, firstCall = call;
        for (size_t i = s.partsFrom[f]; i < s.partsFrom[f + 1]; ++i)
            a.parts[part++] = {keys[s.parts[i].key], s.parts[i].ns};
        std::sort(a.parts.begin() + static_cast<std::ptrdiff_t>(firstPart),
                  a.parts.begin() + static_cast<std::ptrdiff_t>(part),
                  [](const Part& x, const Part& y) { return x.key < y.key; });
        for (size_t i = s.callsFrom[f]; i < s.callsFrom[f + 1]; ++i)
            a.calls[call++] = {places[s.calls[i].place], s.calls[i].count};
        std::sort(a.calls.begin() + static_cast<std::ptrdiff_t>(firstCall),
                  a.calls.begin() + static_cast<std::ptrdiff_t>(call),
                  [](const Calls& x, const Calls& y) { return x.place < y.place; });
        a.partsFrom[frame + 1] = part;
        a.callsFrom[frame + 1] = call;
        a.pacing[frame] = s.pacing[f];
    }
}

/// Runs `work(0)` here and the others beside it.
void sideBySide(size_t threads, const std::function<void(size_t)>& work) {
    std::vector<std::thread> helpers;
    for (size_t i = 1; i < threads; ++i) helpers.emplace_back(work, i);
    work(0);
    for (std::thread& helper : helpers) helper.join();
}

}  // namespace

std::shared_ptr<const FrameAccounts> accountFrames(const Recording& recording, uint32_t series,
                                                   const Progress& progress) {
    const Column<Frame>& frames = recording.series[series].frames;
    auto accounts = std::make_shared<FrameAccounts>();
    FrameAccounts& a = *accounts;
    a.series = series;
    auto index = std::make_shared<FrameAccounts::Index>();
    const size_t threads = std::clamp<size_t>(std::thread::hardware_concurrency(), 1, frames.size() / 1024 + 1);
    std::vector<Stretch> stretches(threads);
    std::atomic<bool> stop{false};
    const auto work = [&](size_t i) {
        const size_t from = frames.size() * i / threads, to = frames.size() * (i + 1) / threads;
        const bool finished = accountStretch(recording, frames, from, to, stretches[i], [&](size_t done) {
            if (i == 0 && progress && !progress(static_cast<double>(done) / static_cast<double>(to - from)))
                stop = true;
            return !stop;
        });
        if (!finished) stop = true;
    };
    sideBySide(threads, work);
    if (stop) return nullptr;

    // Keys get the numbers in which the frames first meet them, so that the outcome does not depend on how
    // the frames were shared out.
    Numbers<PartKey> numbers;
    std::vector<std::vector<uint32_t>> keys(threads), places(threads);
    std::vector<size_t> parts{0}, calls{0};
    for (size_t i = 0; i < threads; ++i) {
        for (const PartKey& key : stretches[i].a.keys) keys[i].push_back(numbers.of(a.keys, key));
        for (const PlaceKey& place : stretches[i].a.places) places[i].push_back(index->places.of(a.places, place));
        parts.push_back(parts.back() + stretches[i].a.parts.size());
        calls.push_back(calls.back() + stretches[i].a.calls.size());
    }
    a.parts.resize(parts.back());
    a.calls.resize(calls.back());
    a.partsFrom.resize(frames.size() + 1);
    a.callsFrom.resize(frames.size() + 1);
    a.pacing.resize(frames.size());
    sideBySide(threads, [&](size_t i) {
        put(a, stretches[i], keys[i], places[i], frames.size() * i / threads, parts[i], calls[i]);
        stretches[i] = {};
    });
    a.index = std::move(index);
    accounts->measuring = measuringOf(recording, series);
    return accounts;
}

}  // namespace fugato
