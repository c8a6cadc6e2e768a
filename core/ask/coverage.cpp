// SPDX-License-Identifier: GPL-3.0-or-later
#include "coverage.h"

#include <algorithm>

#include "adding.h"
#include "core/store/long_work.h"

namespace fugato {

namespace {

/// Adds up what lies in no marker, lane by lane.
class Finding {
public:
    Finding(const Recording& recording, const Scope& scope, const Progress& progress)
        : r_(recording), scope_(scope), progress_(progress) {}

    /// False where it was cancelled.
    bool lane(uint32_t index, std::vector<Unmarked>& out) {
        const Lane& lane = r_.lanes[index];
        byPath_.assign(lane.paths.size(), Unmarked{index, 0, 0, 0, 0, {}});
        outside_ = Unmarked{index, 0, 0, scope_.length(), 0, {}};
        bool any = false;
        for (const TimeRange& stretch : scope_.stretches) {
            if (lane.rows.empty()) break;
            const MarkerRow& top = lane.rows[0];
            const auto [from, to] = top.overlapping(stretch.begin, stretch.end);
            any = any || from < to;
            gaps(top, from, to, stretch, outside_);
            for (size_t row = 0; row < lane.rows.size(); ++row)
                if (!inRow(lane, row, stretch)) return false;
        }
        // A lane of which nothing lies there is idle, not unmarked.
        if (any && outside_.total) out.push_back(outside_);
        for (size_t path = 0; path < byPath_.size(); ++path)
            if (byPath_[path].total) {
                byPath_[path].path = lane.paths[path];
                out.push_back(byPath_[path]);
            }
        return true;
    }

private:
    static void add(Unmarked& to, int64_t begin, int64_t end) {
        if (begin >= end) return;
        addTime(to.total, end - begin);
        ++to.stretches;
        if (end - begin > to.longest.end - to.longest.begin) to.longest = {begin, end};
    }
    /// What of `in` lies in none of the markers [from, to).
    static void gaps(const MarkerRow& row, uint32_t from, uint32_t to, const TimeRange& in, Unmarked& out) {
        int64_t past = in.begin;
        row.forEach(from, to, [&](uint32_t, int64_t begin, int64_t duration, uint32_t, uint8_t) {
            add(out, past, std::min(begin, in.end));
            past = std::max(past, begin + duration);
        });
        add(out, past, in.end);
    }
    bool inRow(const Lane& lane, size_t at, const TimeRange& stretch) {
        const MarkerRow& row = lane.rows[at];
        const MarkerRow* const below = at + 1 < lane.rows.size() ? &lane.rows[at + 1] : nullptr;
        const auto [from, to] = row.overlapping(stretch.begin, stretch.end);
        uint32_t child = below ? below->overlapping(stretch.begin, stretch.end).first : 0;
        bool goesOn = true;
        row.forEach(from, to, [&](uint32_t index, int64_t begin, int64_t duration, uint32_t path, uint8_t flags) {
            if (++looked_ % 65536 == 0 && progress_ && !progress_(0)) goesOn = false;
            if (!goesOn || flags & kMarkerWait) return;
            const TimeRange in{std::max(begin, stretch.begin), std::min(begin + duration, stretch.end)};
            uint32_t past = child;
            while (below && past < below->size() && below->parent(past) < index) ++past;
            child = past;
            while (below && past < below->size() && below->parent(past) == index) ++past;
            Unmarked& of = byPath_[path];
            const int64_t before = of.total;
            if (below)
                gaps(*below, child, past, in, of);
            else
                add(of, in.begin, in.end);
            if (of.total > before) addTime(of.around, in.end - in.begin);
            child = past;
        });
        return goesOn;
    }

    const Recording& r_;
    const Scope& scope_;
    const Progress& progress_;
    std::vector<Unmarked> byPath_;
    Unmarked outside_;
    uint64_t looked_ = 0;
};

/// By site: how often its markers occur in the scope.
std::vector<uint64_t> occurrences(const Recording& r, const Scope& scope) {
    std::vector<uint64_t> counts(r.sites.size());
    const auto count = [&](const MarkerRow& row, uint32_t path, uint64_t times) {
        const uint32_t site = r.paths[row.pathOf(path)].site;
        if (site < counts.size()) counts[site] += times;
    };
    for (uint32_t l = 0; l < r.lanes.size(); ++l) {
        if (!scope.has(l)) continue;
        for (const MarkerRow& row : r.lanes[l].rows)
            walkScope(
                row, scope,
                [&](uint32_t chunk) {
                    for (auto [sum, to] = row.sumsOf(chunk); sum != to; ++sum) count(row, sum->path, sum->count);
                },
                [&](uint32_t, int64_t, int64_t, uint32_t path, uint8_t) { count(row, path, 1); },
                [](uint32_t, int64_t) {});
    }
    return counts;
}

}  // namespace

std::shared_ptr<const Coverage> coverageOf(const Recording& r, const Scope& scope, const Progress& progress) {
    longWork("what no marker tells of");
    auto made = std::make_shared<Coverage>();
    Finding finding(r, scope, progress);
    for (uint32_t l = 0; l < r.lanes.size(); ++l) {
        if (progress && !progress(static_cast<double>(l) / static_cast<double>(r.lanes.size()))) return nullptr;
        if (scope.has(l) && r.lanes[l].kind != LaneKind::Core && !finding.lane(l, made->unmarked)) return nullptr;
    }
    const auto longer = [](const Unmarked& a, const Unmarked& b) {
        if (!a.path != !b.path) return b.path == 0;
        return a.longest.end - a.longest.begin > b.longest.end - b.longest.begin;
    };
    std::stable_sort(made->unmarked.begin(), made->unmarked.end(), longer);
    if (made->unmarked.size() > kMostUnmarked) made->unmarked.resize(kMostUnmarked);

    const std::vector<uint64_t> here = occurrences(r, scope), all = occurrences(r, wholeOf(r));
    std::vector<uint8_t> others(r.sites.size());  // of what is no marker
    for (const Operation& operation : r.operations) others[operation.site] = 1;
    for (const OperationStep& step : r.operationSteps) others[step.site] = 1;
    for (uint32_t site = 0; site < r.sites.size(); ++site)
        if (!here[site] && !others[site]) made->missing.push_back(site);
    std::stable_sort(made->missing.begin(), made->missing.end(),
                     [&](uint32_t a, uint32_t b) { return r.sites[a].name < r.sites[b].name; });
    for (const uint32_t site : made->missing) made->elsewhere.push_back(all[site] > 0);
    return made;
}

}  // namespace fugato
