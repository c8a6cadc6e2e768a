// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once

#include <algorithm>
#include <cstddef>

namespace fugato {

/// The first place from `from` on for which, and all after it, `beyond` holds; `end` where there is none before. Looks
/// at few where it is near, wherever `end` is: for one part after another of a long list.
template <class Beyond>
size_t firstFrom(size_t from, size_t end, Beyond&& beyond) {
    size_t low = from, high = from;
    for (size_t step = 1; high < end && !beyond(high); step *= 2) {
        low = high + 1;
        high = end - high > step ? high + step : end;
    }
    for (high = std::min(high, end); low < high;) {
        const size_t middle = low + (high - low) / 2;
        beyond(middle) ? void(high = middle) : void(low = middle + 1);
    }
    return low;
}

}  // namespace fugato
