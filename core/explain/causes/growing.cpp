// SPDX-License-Identifier: GPL-3.0-or-later
#include "growing.h"

#include <algorithm>

namespace fugato {

namespace {

constexpr uint32_t kFewestFrames = 256;  // below, everything is worked out anew

template <class List, class Same>
bool beginsWith(const List& list, const List& first, Same&& same) {
    return list.size() >= first.size() && std::equal(first.begin(), first.end(), list.begin(), same);
}

bool numbersMeanTheSame(const Recording& before, const Recording& now) {
    const auto same = [](const auto& x, const auto& y) { return x == y; };
    return beginsWith(now.sites, before.sites, [](auto& x, auto& y) { return x.name == y.name; }) &&
           beginsWith(now.objects, before.objects, same) &&
           beginsWith(now.series, before.series, [](auto& x, auto& y) { return x.name == y.name; }) &&
           beginsWith(now.lanes, before.lanes, [](auto& x, auto& y) { return x.id == y.id && x.group == y.group; }) &&
           beginsWith(now.paths.nodes(), before.paths.nodes(),
                      [](auto& x, auto& y) { return x.parent == y.parent && x.site == y.site; });
}

/// Up to when nothing was added: the end of what was known of the lanes that have more now.
int64_t knownUntil(const Recording& before, const Recording& now) {
    int64_t until = INT64_MAX;
    for (size_t i = 0; i < now.lanes.size(); ++i) {
        const Lane& lane = now.lanes[i];
        if (i >= before.lanes.size())
            until = std::min(until, lane.first);
        else if (lane.last > before.lanes[i].last || lane.markerCount() != before.lanes[i].markerCount())
            until = std::min(until, before.lanes[i].last);
    }
    return until;
}

}  // namespace

uint32_t framesThatStand(const Explanation& before, const Recording& now) {
    const Recording& r = *before.recording;
    if (!before.found || before.series >= now.series.size() || !numbersMeanTheSame(r, now) ||
        now.likelyEnders != r.likelyEnders)
        return 0;
    const Column<Frame>& had = r.series[before.series].frames;
    const Column<Frame>& has = now.series[before.series].frames;
    const int64_t until = knownUntil(r, now);
    // Times change only near the end, where what is known of the clocks changes: once a slice of frames in a row is
    // the same, so is all before.
    auto stand = static_cast<uint32_t>(std::min(had.size(), has.size()));
    for (uint32_t same = 0; stand > same && same < CriticalPathSums::kSlice;) {
        const Frame &x = had[stand - 1 - same], &y = has[stand - 1 - same];
        const bool stands = x.begin == y.begin && x.end == y.end && x.deadline == y.deadline && x.lane == y.lane &&
                            x.end + kClockTolerance <= until;
        if (stands) {
            ++same;
        } else {
            stand -= same + 1;
            same = 0;
        }
    }
    return stand;
}

std::shared_ptr<const Explanation> explainIncrementally(std::shared_ptr<const Recording> now, const Explanation& before,
                                                        const Progress& progress) {
    // Whole slices, as the pathSums are kept.
    const uint32_t stand = framesThatStand(before, *now) / CriticalPathSums::kSlice * CriticalPathSums::kSlice;
    const size_t frames = before.series < now->series.size() ? now->series[before.series].frames.size() : 0;
    if (stand < kFewestFrames || frames > before.usualOver + std::max(kFewestFrames, before.usualOver / 8)) {
        const auto pathSums = sumCriticalPaths(*now, before.series, progress);
        return pathSums ? explain(std::move(now), pathSums, before.options(), progress, &before) : nullptr;
    }
    const auto pathSums = accountFurther(*now, *before.pathSums, stand, progress);
    return pathSums ? explain(std::move(now), pathSums, before.options(), progress, &before, stand) : nullptr;
}

}  // namespace fugato
