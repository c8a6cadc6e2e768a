// SPDX-License-Identifier: GPL-3.0-or-later
#include "scope.h"

namespace fugato {

Scope::Scope(std::vector<TimeRange> ranges) {
    std::erase_if(ranges, [](const TimeRange& range) { return range.begin >= range.end; });
    std::sort(ranges.begin(), ranges.end(), [](const TimeRange& a, const TimeRange& b) { return a.begin < b.begin; });
    for (const TimeRange& range : ranges)
        if (!stretches.empty() && range.begin <= stretches.back().end)
            stretches.back().end = std::max(stretches.back().end, range.end);
        else
            stretches.push_back(range);
}

void Scope::keepOnly(const Recording& recording, uint32_t lane) {
    lanes.assign(recording.lanes.size(), 0);
    if (lane < lanes.size()) lanes[lane] = 1;
}

int64_t Scope::length() const {
    int64_t sum = 0;
    for (const TimeRange& stretch : stretches) sum += stretch.end - stretch.begin;
    return sum;
}

TimeRange Scope::around() const {
    return stretches.empty() ? TimeRange{} : TimeRange{stretches.front().begin, stretches.back().end};
}

bool Scope::contains(int64_t time) const {
    const auto after = std::partition_point(stretches.begin(), stretches.end(),
                                            [&](const TimeRange& stretch) { return stretch.begin <= time; });
    return after != stretches.begin() && time < std::prev(after)->end;
}

}  // namespace fugato
