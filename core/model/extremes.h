// SPDX-License-Identifier: GPL-3.0-or-later
//
// The lowest and highest of any part of a long list of numbers: of every 64 of them, of every 64 of these, and so on.
// What a curve shows in a column of pixels costs a few looks, however many values lie there. Functions here share
// nothing and may run on any thread.
#pragma once

#include <algorithm>
#include <cmath>
#include <cstddef>
#include <limits>
#include <span>
#include <vector>

namespace fugato {

/// Of finite numbers only; low > high where there is none.
struct Extreme {
    double low = std::numeric_limits<double>::infinity(), high = -std::numeric_limits<double>::infinity();
    bool any() const { return low <= high; }
    void add(double value) {
        if (!std::isfinite(value)) return;
        low = std::min(low, value);
        high = std::max(high, value);
    }
    void add(const Extreme& other) {
        low = std::min(low, other.low);
        high = std::max(high, other.high);
    }
};

inline constexpr size_t kExtremeOf = 64;

/// The extremes of each 64 values of a list that grows. All of it belongs to one thread.
class GrowingExtremes {
public:
    /// Of all levels, the finest first, the last one of at most 64. Of the `count` values the first `same` are as the
    /// last time, and the first `settled` may be the same the next time.
    template <class ValueAt>
    std::vector<Extreme> of(size_t count, size_t same, size_t settled, ValueAt&& valueAt) {
        finest_.resize(std::min(finest_.size(), same / kExtremeOf));
        std::vector<Extreme> out = finest_;
        for (size_t i = out.size() * kExtremeOf; i < count; ++i) {
            if (i % kExtremeOf == 0) out.emplace_back();
            out.back().add(static_cast<double>(valueAt(i)));
        }
        finest_.assign(out.begin(),
                       out.begin() + static_cast<std::ptrdiff_t>(std::min(out.size(), settled / kExtremeOf)));
        addCoarser(out);
        return out;
    }

private:
    static void addCoarser(std::vector<Extreme>& out);
    std::vector<Extreme> finest_;  // of values that are settled
};

inline void GrowingExtremes::addCoarser(std::vector<Extreme>& out) {
    for (size_t from = 0, count = out.size(); count > kExtremeOf;) {
        const size_t next = out.size();
        out.resize(next + (count + kExtremeOf - 1) / kExtremeOf);
        for (size_t i = 0; i < count; ++i) out[next + i / kExtremeOf].add(out[from + i]);
        from = next;
        count = out.size() - next;
    }
}

/// The same of a list that is whole.
template <class Values>
std::vector<Extreme> extremesOf(const Values& values) {
    return GrowingExtremes().of(values.size(), 0, 0, [&](size_t i) { return values[i]; });
}

/// Of [from, to) of the values that `extremes` were made of.
template <class Values>
Extreme extremeIn(const Values& values, std::span<const Extreme> extremes, size_t from, size_t to) {
    Extreme out;
    to = std::min<size_t>(to, values.size());
    for (; from < to && from % kExtremeOf; ++from) out.add(static_cast<double>(values[from]));
    for (; from < to && to % kExtremeOf; --to) out.add(static_cast<double>(values[to - 1]));
    size_t count = (values.size() + kExtremeOf - 1) / kExtremeOf;
    while (from < to) {
        from /= kExtremeOf;
        to /= kExtremeOf;
        if (count <= kExtremeOf) {
            for (; from < to; ++from) out.add(extremes[from]);
            break;
        }
        for (; from < to && from % kExtremeOf; ++from) out.add(extremes[from]);
        for (; from < to && to % kExtremeOf; --to) out.add(extremes[to - 1]);
        extremes = extremes.subspan(count);
        count = (count + kExtremeOf - 1) / kExtremeOf;
    }
    return out;
}

}  // namespace fugato
