// SPDX-License-Identifier: GPL-3.0-or-later
#include "lane_order.h"

#include <algorithm>

namespace fugato {

std::vector<uint32_t> lanesInOrder(const Recording& r) {
    std::vector<uint32_t> order;
    for (uint32_t i = 0; i < r.lanes.size(); ++i)
        if (!r.lanes[i].onlyCounts && !(r.lanes[i].fromSystem && r.lanes[i].schedule.empty())) order.push_back(i);
    const uint32_t owner = r.series.empty() || r.series[0].frames.empty() ? kNone : r.series[0].frames[0].lane;
    constexpr int kLast = 8;
    const auto rank = [&](uint32_t lane) {
        return lane == owner ? 0 : r.lanes[lane].fromSystem ? kLast : 1 + static_cast<int>(r.lanes[lane].kind);
    };
    std::stable_sort(order.begin(), order.end(), [&](uint32_t x, uint32_t y) { return rank(x) < rank(y); });
    return order;
}

}  // namespace fugato
