// SPDX-License-Identifier: GPL-3.0-or-later
#include "range_table.h"

#include "core/store/long_work.h"

namespace fugato {

namespace {

struct Sum {
    uint64_t count = 0;
    int64_t total = 0, longest = 0;
};

/// By the lane's own numbers of paths.
std::vector<Sum> sumLane(const Lane& lane, const TimeRange& range) {
    std::vector<Sum> sums(lane.paths.size());
    for (const MarkerRow& row : lane.rows) {
        const auto [from, to] = row.overlapping(range.begin, range.end);
        if (from == to) break;  // and so nothing is nested
        walkMarkers(
            row, from, to,
            [&](uint32_t chunk) {
                const auto [first, past] = row.sumsOf(chunk);
                for (const PathSum* part = first; part != past; ++part) {
                    Sum& sum = sums[part->path];
                    sum.count += part->count;
                    sum.total += part->total;
                    sum.longest = std::max(sum.longest, part->longest);
                }
            },
            [&](uint32_t, int64_t, int64_t duration, uint32_t path, uint8_t) {
                Sum& sum = sums[path];
                ++sum.count;
                sum.total += duration;
                sum.longest = std::max(sum.longest, duration);
            });
        // The first and the last may reach out of the range.
        sums[row.lanePath(from)].total -= std::max<int64_t>(0, range.begin - row.begin(from));
        sums[row.lanePath(to - 1)].total -= std::max<int64_t>(0, row.end(to - 1) - range.end);
    }
    return sums;
}

}  // namespace

std::shared_ptr<const RangeTable> tableOfRange(const Recording& r, const TimeRange& range, const Progress& progress) {
    longWork("the table of a range of time");
    auto table = std::make_shared<RangeTable>();
    table->range = range;
    std::vector<uint32_t> rowOf(r.paths.size(), kNone);  // of the lane in hand
    size_t done = 0;
    for (const uint32_t laneIndex : r.laneOrder) {
        if (progress && !progress(static_cast<double>(done++) / static_cast<double>(r.laneOrder.size())))
            return nullptr;
        const Lane& lane = r.lanes[laneIndex];
        const std::vector<Sum> sums = sumLane(lane, range);
        const auto laneRow = static_cast<uint32_t>(table->rows.size());
        // Paths of a lane are numbered from the outermost in, so a parent's row is there before its children's.
        for (size_t i = 0; i < sums.size(); ++i) {
            if (!sums[i].count) continue;
            if (table->rows.size() == laneRow) {
                RangeRow whole;
                whole.lane = laneIndex;
                table->rows.push_back(whole);
                table->lanes.push_back(laneRow);
            }
            RangeRow row;
            row.lane = laneIndex;
            row.path = lane.paths[i];
            row.count = sums[i].count;
            row.total = row.self = sums[i].total;
            row.longest = sums[i].longest;
            // Nested, unless its caller's markers were kept and cannot be read.
            const uint32_t caller = rowOf[r.paths[row.path].parent];
            const bool nested = caller != kNone && caller > laneRow;
            const uint32_t parent = nested ? caller : laneRow;
            const auto at = static_cast<uint32_t>(table->rows.size());
            rowOf[row.path] = at;
            table->rows[parent].children.push_back(at);
            if (nested) {
                table->rows[parent].self -= row.total;
            } else {
                table->rows[laneRow].total += row.total;
                table->rows[laneRow].count += row.count;
            }
            table->rows.push_back(std::move(row));
        }
    }
    for (RangeRow& row : table->rows)
        std::stable_sort(row.children.begin(), row.children.end(),
                         [&](uint32_t x, uint32_t y) { return table->rows[x].total > table->rows[y].total; });
    return table;
}

}  // namespace fugato
