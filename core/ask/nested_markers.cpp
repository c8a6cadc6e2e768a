// SPDX-License-Identifier: GPL-3.0-or-later
#include "nested_markers.h"

#include "core/model/lane_order.h"
#include "core/store/long_work.h"

namespace fugato {

namespace {

/// Adds up a lane's markers, by the lane's own numbers of paths.
class LaneSums {
public:
    struct Sum {
        uint64_t count = 0;
        int64_t total = 0, longest = 0;
        MarkerRef first;
        uint32_t row = kNone, chunk = 0;  // where the first is, while only that is known
        bool wait = false;
    };

    LaneSums(const Recording& r, uint32_t lane, const Scope& scope)
        : r_(r), lane_(lane), sums_(r.lanes[lane].paths.size()) {
        for (uint32_t row = 0; row < r.lanes[lane].rows.size(); ++row)
            if (!addRow(row, scope)) break;  // and so nothing is nested
        findFirst();
    }
    const std::vector<Sum>& sums() const { return sums_; }

private:
    bool addRow(uint32_t rowIndex, const Scope& scope) {
        const MarkerRow& row = r_.lanes[lane_].rows[rowIndex];
        return walkScope(
            row, scope,
            [&](uint32_t chunk) {
                const auto [first, past] = row.sumsOf(chunk);
                for (const PathSum* part = first; part != past; ++part) {
                    Sum& sum = sums_[part->path];
                    if (!sum.count) sum.row = rowIndex, sum.chunk = chunk;
                    sum.count += part->count;
                    sum.total += part->total;
                    sum.longest = std::max(sum.longest, part->longest);
                }
            },
            [&](uint32_t index, int64_t, int64_t duration, uint32_t path, uint8_t flags) {
                Sum& sum = sums_[path];
                if (!sum.count) set(sum, rowIndex, index, flags);
                ++sum.count;
                sum.total += duration;
                sum.longest = std::max(sum.longest, duration);
            },
            [&](uint32_t index, int64_t ns) { sums_[row.lanePath(index)].total += ns; });
    }
    void set(Sum& sum, uint32_t row, uint32_t index, uint8_t flags) const {
        sum.first = {lane_, row, index};
        sum.wait = flags & kMarkerWait;
    }

    /// In the chunks of which only sums were read: as many of them, at most, as there are paths.
    void findFirst() {
        std::vector<std::pair<uint64_t, uint32_t>> wanted;  // row and chunk, path
        for (uint32_t path = 0; path < sums_.size(); ++path)
            if (const Sum& sum = sums_[path]; sum.row != kNone && !sum.first.valid())
                wanted.emplace_back(uint64_t{sum.row} << 32 | sum.chunk, path);
        std::sort(wanted.begin(), wanted.end());
        for (size_t i = 0; i < wanted.size(); ++i) {
            if (i && wanted[i].first == wanted[i - 1].first) continue;
            const auto rowIndex = static_cast<uint32_t>(wanted[i].first >> 32);
            const MarkerRow& row = r_.lanes[lane_].rows[rowIndex];
            const uint32_t from = static_cast<uint32_t>(wanted[i].first) << MarkerRow::kChunkBits;
            row.forEach(from, std::min(row.size(), from + MarkerRow::kChunk),
                        [&](uint32_t index, int64_t, int64_t, uint32_t path, uint8_t flags) {
                            if (!sums_[path].first.valid()) set(sums_[path], rowIndex, index, flags);
                        });
        }
    }

    const Recording& r_;
    const uint32_t lane_;
    std::vector<Sum> sums_;
};

}  // namespace

uint64_t NestedMarkers::markers() const {
    uint64_t sum = 0;
    for (const NestedMarker& row : rows)
        if (row.path && row.function == kNone) sum += row.count;
    return sum;
}

std::shared_ptr<NestedMarkers> nestedMarkers(const Recording& r, const Scope& scope, const Progress& progress) {
    longWork("the markers in a scope");
    auto made = std::make_shared<NestedMarkers>();
    made->scope = scope;
    std::vector<uint32_t> rowOf(r.paths.size(), kNone);  // of the lane in hand
    size_t done = 0;
    const std::vector<uint32_t> order = lanesInOrder(r);
    for (const uint32_t laneIndex : order) {
        if (progress && !progress(static_cast<double>(done++) / static_cast<double>(order.size()))) return nullptr;
        if (!scope.has(laneIndex)) continue;
        const Lane& lane = r.lanes[laneIndex];
        const LaneSums lanes(r, laneIndex, scope);
        const auto& sums = lanes.sums();
        const auto laneRow = static_cast<uint32_t>(made->rows.size());
        // Paths of a lane are numbered from the outermost in, so a parent's row is there before its children's.
        for (size_t i = 0; i < sums.size(); ++i) {
            if (!sums[i].count) continue;
            if (made->rows.size() == laneRow) {
                NestedMarker whole;
                whole.lane = laneIndex;
                for (const TimeRange& stretch : scope.stretches)
                    whole.total += lane.busyBetween(stretch.begin, stretch.end);
                made->rows.push_back(whole);
                made->lanes.push_back(laneRow);
            }
            NestedMarker row;
            row.lane = laneIndex;
            row.path = lane.paths[i];
            row.count = sums[i].count;
            row.total = row.self = sums[i].total;
            row.longest = sums[i].longest;
            row.first = sums[i].first;
            row.wait = sums[i].wait;
            // Nested, unless its caller's markers were kept and cannot be read.
            const uint32_t caller = rowOf[r.paths[row.path].parent];
            const bool nested = caller != kNone && caller > laneRow;
            const uint32_t parent = nested ? caller : laneRow;
            const auto at = static_cast<uint32_t>(made->rows.size());
            rowOf[row.path] = at;
            made->rows[parent].children.push_back(at);
            if (nested)
                made->rows[parent].self -= row.total;
            else
                made->rows[laneRow].count += row.count;
            made->rows.push_back(std::move(row));
        }
    }
    for (NestedMarker& row : made->rows)
        std::stable_sort(row.children.begin(), row.children.end(),
                         [&](uint32_t x, uint32_t y) { return made->rows[x].total > made->rows[y].total; });
    return made;
}

}  // namespace fugato
