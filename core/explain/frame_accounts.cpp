// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_accounts.h"

#include <algorithm>

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

template <class Key>
uint32_t intern(std::unordered_map<Key, uint32_t, Hash>& map, std::vector<Key>& list, const Key& key) {
    const auto [at, isNew] = map.try_emplace(key, static_cast<uint32_t>(list.size()));
    if (isNew) list.push_back(key);
    return at->second;
}

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
    std::unordered_map<PlaceKey, uint32_t, Hash> places;
};

uint32_t FrameAccounts::place(const PlaceKey& key) const {
    const auto found = index->places.find(key);
    return found == index->places.end() ? kNone : found->second;
}

std::shared_ptr<const FrameAccounts> accountFrames(const Recording& recording, uint32_t series,
                                                   const Progress& progress) {
    auto accounts = std::make_shared<FrameAccounts>();
    FrameAccounts& a = *accounts;
    a.series = series;
    std::unordered_map<PartKey, uint32_t, Hash> keyOf;
    auto index = std::make_shared<FrameAccounts::Index>();
    Accountant accountant(recording);
    Sums time, calls;
    // The instance last counted, per lane and row: the walk runs backwards on each lane.
    std::vector<std::vector<uint32_t>> counted(recording.lanes.size());
    for (size_t i = 0; i < counted.size(); ++i) counted[i].resize(recording.lanes[i].rows.size());

    const auto& frames = recording.series[series].frames;
    a.partsFrom.push_back(0);
    a.callsFrom.push_back(0);
    for (size_t f = 0; f < frames.size(); ++f) {
        if (progress && f % 256 == 0 && !progress(static_cast<double>(f) / static_cast<double>(frames.size())))
            return nullptr;
        for (auto& rows : counted) std::fill(rows.begin(), rows.end(), kNone);
        int64_t pacing = 0;
        for (const Piece& piece : accountant.account(frames[f].lane, frames[f].begin, frames[f].end)) {
            const Lane& lane = recording.lanes[piece.lane];
            const PartKey key{lane.group, piece.path, piece.kind, piece.lock.object, piece.lock.holder};
            time.add(intern(keyOf, a.keys, key), piece.duration());
            if (piece.kind == PieceKind::WaitPacing) pacing += piece.duration();
            if (!piece.marker.valid()) continue;
            PathId path = piece.path;
            uint32_t at = piece.marker.index;
            for (uint32_t row = piece.marker.row;; --row) {
                if (counted[piece.lane][row] == at) break;  // and with it everything above
                counted[piece.lane][row] = at;
                calls.add(intern(index->places, a.places, PlaceKey{lane.group, path}), 1);
                if (row == 0) break;
                at = lane.rows[row].parent[at];
                path = recording.paths[path].parent;
            }
        }
        std::sort(time.touched.begin(), time.touched.end());
        for (const uint32_t key : time.touched) {
            a.parts.push_back({key, time.values[key]});
            time.values[key] = 0;
        }
        std::sort(calls.touched.begin(), calls.touched.end());
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
    a.index = std::move(index);
    accounts->measuring = measuringOf(recording, series);
    return accounts;
}

}  // namespace fugato
