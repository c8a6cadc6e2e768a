// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where in a recording one marker occurs, chunk by chunk, and its durations in buckets: what its figures and the list
// of its occurrences are made with.
#pragma once

#include <array>
#include <atomic>
#include <numeric>

#include "core/store/side_by_side.h"
#include "marker_statistics.h"

namespace fugato {

/// What the paths of one lane are to a marker.
struct LanePaths {
    std::vector<uint8_t> isSite;     // the path ends in the marker
    std::vector<uint8_t> outermost;  // and it does not lie in another of it
    std::vector<uint8_t> below;      // the path ends directly below the marker
    bool any = false;

    LanePaths(const Recording& r, const Lane& lane, uint32_t site)
        : isSite(lane.paths.size()), outermost(lane.paths.size()), below(lane.paths.size()) {
        for (size_t i = 1; i < lane.paths.size(); ++i) {
            const PathTable::Node& node = r.paths[lane.paths[i]];
            below[i] = node.parent && r.paths[node.parent].site == site;
            if (node.site != site) continue;
            any = true;
            isSite[i] = outermost[i] = 1;
            for (PathId above = node.parent; above && outermost[i]; above = r.paths[above].parent)
                outermost[i] = r.paths[above].site != site;
        }
    }
};

/// By lane; where the marker does not occur, or the scope has not the lane, none is `any`.
inline std::vector<LanePaths> lanePathsOf(const Recording& r, uint32_t site, const Scope& scope) {
    std::vector<LanePaths> paths;
    for (uint32_t l = 0; l < r.lanes.size(); ++l) {
        paths.emplace_back(r, r.lanes[l], site);
        paths.back().any &= scope.has(l);
    }
    return paths;
}

/// Durations in buckets whose borders lie at most 1/128 apart.
class Buckets {
public:
    static size_t of(int64_t duration) {
        const auto value = static_cast<uint64_t>(duration);
        if (value < 128) return static_cast<size_t>(value);
        const int shift = 56 - __builtin_clzll(value);  // keeps the leading bit and seven more
        return static_cast<size_t>(shift + 1) * 128 + static_cast<size_t>((value >> shift) - 128);
    }
    /// The least duration of a bucket, and that of the next.
    static std::pair<int64_t, int64_t> bordersOf(size_t bucket) {
        if (bucket < 128) return {static_cast<int64_t>(bucket), static_cast<int64_t>(bucket) + 1};
        const size_t shift = bucket / 128 - 1;
        const auto low = static_cast<int64_t>(128 + bucket % 128) << shift;
        return {low, low + (int64_t{1} << shift)};
    }
    void add(int64_t duration) { ++counts_[of(duration)]; }
    std::vector<DurationBar> bars() const {
        std::vector<DurationBar> bars;
        for (size_t i = 0; i < counts_.size(); ++i)
            if (counts_[i]) bars.push_back({bordersOf(i).first, bordersOf(i).second, counts_[i]});
        return bars;
    }
    void add(const Buckets& other) {
        for (size_t i = 0; i < counts_.size(); ++i) counts_[i] += other.counts_[i];
    }
    uint64_t count() const { return std::accumulate(counts_.begin(), counts_.end(), uint64_t{0}); }
    /// The bucket in which the value of a rank (from 0, below count()) lies, and the rank within it.
    std::pair<size_t, uint64_t> at(uint64_t rank) const {
        size_t bucket = 0;
        while (rank >= counts_[bucket]) rank -= counts_[bucket++];
        return {bucket, rank};
    }

private:
    std::array<uint64_t, 58 * 128> counts_{};
};

/// Markers of a row, at most a chunk of them, among which the marker occurs.
struct ChunkPart {
    uint32_t lane, row, from, to;
};

inline std::vector<ChunkPart> partsWith(const Recording& r, const std::vector<LanePaths>& paths, const Scope& scope) {
    std::vector<ChunkPart> parts;
    for (uint32_t l = 0; l < r.lanes.size(); ++l) {
        if (!paths[l].any) continue;
        for (uint32_t rowIndex = 0; rowIndex < r.lanes[l].rows.size(); ++rowIndex) {
            const MarkerRow& row = r.lanes[l].rows[rowIndex];
            uint32_t looked = 0;  // those before it are in parts, as far as they are in any
            for (const TimeRange& stretch : scope.stretches) {
                auto [at, past] = row.overlapping(stretch.begin, stretch.end, looked);
                at = std::max(at, looked);
                for (uint32_t to; at < past; at = to) {
                    to = std::min(past, (at | (MarkerRow::kChunk - 1)) + 1);
                    const auto [sum, end] = row.sumsOf(at >> MarkerRow::kChunkBits);
                    if (std::any_of(sum, end, [&](const PathSum& s) { return paths[l].isSite[s.path]; }))
                        parts.push_back({l, rowIndex, at, to});
                }
                looked = std::max(looked, past);
            }
            if (!looked) break;
        }
    }
    return parts;
}

/// As many threads as are worth it for them.
inline size_t threadsFor(const std::vector<ChunkPart>& parts) { return threadsFor(parts.size() / 16); }

/// Calls `work(thread, part)` for all parts, shared out among threads in ranges. Returns false where
/// `progress`, which goes from `from` to `to`, cancelled it.
template <class Work>
bool eachPart(const std::vector<ChunkPart>& parts, size_t threads, const Progress& progress, double from, double to,
              Work&& work) {
    std::atomic<bool> stop{false};
    const auto run = [&](size_t thread) {
        const size_t first = parts.size() * thread / threads, past = parts.size() * (thread + 1) / threads;
        for (size_t i = first; i < past && !stop; ++i) {
            if (thread == 0 && progress && i % 64 == 0 &&
                !progress(from + (to - from) * static_cast<double>(i - first) / static_cast<double>(past - first)))
                stop = true;
            work(thread, parts[i]);
        }
    };
    sideBySide(threads, run);
    return !stop;
}

}  // namespace fugato
