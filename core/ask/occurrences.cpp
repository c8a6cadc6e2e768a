// SPDX-License-Identifier: GPL-3.0-or-later
#include "occurrences.h"

#include <algorithm>
#include <queue>

#include "core/store/long_work.h"
#include "core/table/letters.h"
#include "marker_parts.h"

namespace fugato {

std::shared_ptr<const std::vector<Occurrence>> longestOccurrences(const Recording& r, uint32_t site, const Scope& scope,
                                                                  size_t most, const Progress& progress) {
    longWork("the longest occurrences");
    const auto better = [](const Occurrence& x, const Occurrence& y) {
        if (x.duration != y.duration) return x.duration > y.duration;
        return std::tie(x.marker.lane, x.begin, x.marker.row, x.marker.index) <
               std::tie(y.marker.lane, y.begin, y.marker.row, y.marker.index);
    };
    std::priority_queue<Occurrence, std::vector<Occurrence>, decltype(better)> kept(better);  // the worst on top
    const auto offer = [&](const Occurrence& occurrence) {
        if (kept.size() == most && !better(occurrence, kept.top())) return;
        kept.push(occurrence);
        if (kept.size() > most) kept.pop();
    };
    // Whole chunks in the order of their longest occurrence: soon no other can hold a longer one.
    struct Candidate {
        uint32_t lane, row, chunk;
        int64_t longest;
    };
    std::vector<Candidate> candidates;
    const std::vector<LanePaths> paths = lanePathsOf(r, site, scope);
    for (uint32_t l = 0; l < r.lanes.size() && most; ++l) {
        if (!paths[l].any) continue;
        const Lane& lane = r.lanes[l];
        for (uint32_t rowIndex = 0; rowIndex < lane.rows.size(); ++rowIndex) {
            const MarkerRow& row = lane.rows[rowIndex];
            const bool any = walkScope(
                row, scope,
                [&](uint32_t chunk) {
                    int64_t longest = -1;
                    const auto [first, past] = row.sumsOf(chunk);
                    for (const PathSum* sum = first; sum != past; ++sum)
                        if (paths[l].isSite[sum->path]) longest = std::max(longest, sum->longest);
                    if (longest >= 0) candidates.push_back({l, rowIndex, chunk, longest});
                },
                [&](uint32_t i, int64_t begin, int64_t duration, uint32_t path, uint8_t) {
                    if (paths[l].isSite[path]) offer({{l, rowIndex, i}, begin, duration});
                },
                [](uint32_t, int64_t) {});
            if (!any) break;
        }
    }
    std::stable_sort(candidates.begin(), candidates.end(),
                     [](const Candidate& x, const Candidate& y) { return x.longest > y.longest; });
    size_t done = 0;
    for (const Candidate& c : candidates) {
        if (progress && !progress(static_cast<double>(done++) / static_cast<double>(candidates.size()))) return nullptr;
        if (kept.size() == most && c.longest < kept.top().duration) break;
        const MarkerRow& row = r.lanes[c.lane].rows[c.row];
        const uint32_t at = c.chunk << MarkerRow::kChunkBits;
        row.forEach(at, std::min(row.size(), at + MarkerRow::kChunk),
                    [&](uint32_t i, int64_t begin, int64_t duration, uint32_t path, uint8_t) {
                        if (paths[c.lane].isSite[path]) offer({{c.lane, c.row, i}, begin, duration});
                    });
    }
    auto made = std::make_shared<std::vector<Occurrence>>();
    for (; !kept.empty(); kept.pop()) made->push_back(kept.top());
    std::reverse(made->begin(), made->end());
    return made;
}

std::shared_ptr<const std::vector<Occurrence>> occurrencesWith(const Recording& r, uint32_t site, const Scope& scope,
                                                               const std::string& words, size_t most,
                                                               const Progress& progress) {
    longWork("the occurrences with some letters");
    const Letters letters(words);
    const std::vector<LanePaths> paths = lanePathsOf(r, site, scope);
    const std::vector<ChunkPart> parts = partsWith(r, paths, scope);
    // By lane and its own number of the path: whether its lane or the markers around it have the letters.
    std::vector<std::vector<uint8_t>> named(r.lanes.size());
    for (size_t l = 0; l < r.lanes.size(); ++l) {
        if (!paths[l].any) continue;
        named[l].resize(r.lanes[l].paths.size());
        const bool lane = letters.in(r.lanes[l].name);
        for (size_t p = 0; p < named[l].size(); ++p)
            if (paths[l].isSite[p]) named[l][p] = lane || letters.in(r.pathText(r.paths[r.lanes[l].paths[p]].parent));
    }
    auto made = std::make_shared<std::vector<Occurrence>>();
    for (size_t i = 0; i < parts.size() && made->size() < most; ++i) {
        if (progress && i % 16 == 0 && !progress(static_cast<double>(i) / static_cast<double>(parts.size())))
            return nullptr;
        const ChunkPart& part = parts[i];
        r.lanes[part.lane].rows[part.row].forEach(
            part.from, part.to, [&](uint32_t at, int64_t begin, int64_t duration, uint32_t path, uint8_t) {
                if (!paths[part.lane].isSite[path] || made->size() == most) return;
                const MarkerRef marker{part.lane, part.row, at};
                if (named[part.lane][path] || letters.in(r.argumentsText(marker)))
                    made->push_back({marker, begin, duration});
            });
    }
    return made;
}

std::shared_ptr<const MarkerRef> occurrenceBeside(const Recording& r, uint32_t site, int64_t from,
                                                  const MarkerRef& than, bool forward, const Progress& progress) {
    longWork("the occurrence beside");
    using Order = std::tuple<int64_t, uint32_t, uint32_t, uint32_t>;
    const auto orderOf = [](int64_t begin, const MarkerRef& m) { return Order(begin, m.lane, m.row, m.index); };
    const auto nearer = [&](const Order& a, const Order& b) { return forward ? a < b : a > b; };
    std::optional<Order> best;
    const auto offer = [&](int64_t begin, const MarkerRef& marker) {
        const Order order = orderOf(begin, marker);
        const bool beyond =
            than.valid() ? nearer(orderOf(from, than), order) : (forward ? begin >= from : begin <= from);
        if (beyond && (!best || nearer(order, *best))) best = order;
    };
    const auto holds = [](const MarkerRow& row, uint32_t chunk, const LanePaths& paths) {
        const auto [first, past] = row.sumsOf(chunk);
        return std::any_of(first, past, [&](const PathSum& sum) { return paths.isSite[sum.path]; });
    };
    for (uint32_t l = 0; l < r.lanes.size(); ++l) {
        if (progress && !progress(static_cast<double>(l) / static_cast<double>(r.lanes.size()))) return nullptr;
        const LanePaths paths(r, r.lanes[l], site);
        if (!paths.any) continue;
        for (uint32_t rowIndex = 0; rowIndex < r.lanes[l].rows.size(); ++rowIndex) {
            const MarkerRow& row = r.lanes[l].rows[rowIndex];
            if (row.empty()) break;
            // Chunk by chunk away from `from`, until one of them has an occurrence or lies beyond the best so far.
            const uint32_t start = forward ? row.firstFrom(from) : row.firstFrom(from + 1);
            const auto chunks = static_cast<int64_t>(row.chunks().size());
            const int64_t step = forward ? 1 : -1;
            for (int64_t c = std::min<int64_t>(start >> MarkerRow::kChunkBits, chunks - 1); c >= 0 && c < chunks;
                 c += step) {
                const auto chunk = static_cast<uint32_t>(c);
                if (progress && !progress(static_cast<double>(l) / static_cast<double>(r.lanes.size()))) return nullptr;
                if (forward && best && row.chunks()[chunk].begin > std::get<0>(*best)) break;
                if (!holds(row, chunk, paths)) continue;
                const auto before = best;
                const uint32_t first = chunk << MarkerRow::kChunkBits;
                row.forEach(first, std::min(row.size(), first + MarkerRow::kChunk),
                            [&](uint32_t i, int64_t begin, int64_t, uint32_t path, uint8_t) {
                                if (paths.isSite[path]) offer(begin, {l, rowIndex, i});
                            });
                if (best != before) break;
                if (!forward && best && row.chunks()[chunk].begin < std::get<0>(*best)) break;
            }
        }
    }
    return std::make_shared<const MarkerRef>(
        best ? MarkerRef{std::get<1>(*best), std::get<2>(*best), std::get<3>(*best)} : MarkerRef{});
}

}  // namespace fugato
