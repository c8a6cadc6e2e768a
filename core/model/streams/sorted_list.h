// SPDX-License-Identifier: GPL-3.0-or-later
//
// A list that grows at its end and is sorted now and then. Equal ones keep their order.
#pragma once

#include <algorithm>
#include <cstddef>
#include <type_traits>
#include <vector>

#include "core/store/growing_list.h"

namespace fugato {

/// What lanes tell is written so soon: nothing comes that lies so long before what came last, or hardly ever.
inline constexpr int64_t kUnsettledNs = 200'000'000;

/// Sorts those from `from` on; equal ones keep their order. What a lane told is mostly in order, and lanes come one
/// after another: these runs are merged, which takes as many passes as their number has binary digits.
template <class T, class Less>
void mergeRuns(std::vector<T>& all, size_t from, Less&& less) {
    const auto at = [&](std::vector<T>& in, size_t i) { return in.begin() + static_cast<std::ptrdiff_t>(i); };
    std::vector<size_t> bounds{from};  // of runs: where they begin, and the end
    while (bounds.back() < all.size())
        bounds.push_back(
            static_cast<size_t>(std::is_sorted_until(at(all, bounds.back()), all.end(), less) - all.begin()));
    if (bounds.size() < 3) return;
    std::vector<T> other(all.size());
    std::copy(all.begin(), at(all, from), other.begin());
    for (; bounds.size() > 2; std::swap(all, other)) {
        std::vector<size_t> merged{from};
        for (size_t i = 1; i < bounds.size(); i += 2) {
            const size_t middle = bounds[i], end = bounds[std::min(i + 1, bounds.size() - 1)];
            std::merge(at(all, bounds[i - 1]), at(all, middle), at(all, middle), at(all, end), at(other, bounds[i - 1]),
                       less);
            merged.push_back(end);
        }
        bounds = std::move(merged);
    }
}

template <class T>
class SortedList {
public:
    void add(const T& value) { list_.add(value); }
    void add(const std::vector<T>& values) { list_.add(values); }
    /// In order. Where something came late, `keep` of those before it may be changed again too.
    template <class Less>
    GrowingList<T>& sorted(Less&& less, size_t keep = 0) {
        std::vector<T>& tail = list_.tail();
        const size_t settled = list_.settled();
        mergeRuns(tail, std::max(sorted_, settled) - settled, less);
        auto middle = tail.begin() + static_cast<std::ptrdiff_t>(std::max(sorted_, settled) - settled);
        if (middle != tail.end() && settled && less(*middle, list_[settled - 1])) {
            const auto came = tail.end() - middle;
            size_t first = settled;
            while (first > 0 && less(*middle, list_[first - 1])) --first;
            list_.unsettle(first - std::min(first, keep));
            middle = tail.end() - came;
        }
        if (middle != tail.end() && middle != tail.begin() && less(*middle, middle[-1]))  // mostly all of it is later
            std::inplace_merge(std::upper_bound(tail.begin(), middle, *middle, less), middle, tail.end(), less);
        sorted_ = list_.size();
        return list_;
    }
    /// Of those that are equal only the first stays. After sorted().
    template <class Equal>
    void unique(Equal&& equal) {
        std::vector<T>& tail = list_.tail();
        tail.erase(std::unique(tail.begin(), tail.end(), equal), tail.end());
        if (list_.settled() && !tail.empty() && equal(list_[list_.settled() - 1], tail.front()))
            tail.erase(tail.begin());
        sorted_ = list_.size();
    }
    /// So many are settled: those that lie well before the last one, by this time of theirs.
    size_t settles(int64_t T::*time) const {
        size_t count = list_.size();
        while (count > list_.settled() && list_[count - 1].*time > list_.back().*time - kUnsettledNs) --count;
        return count;
    }
    const GrowingList<T>& list() const { return list_; }

private:
    GrowingList<T> list_;
    size_t sorted_ = 0;  // so many of the first are in order
};

/// Orders of the lists here.
constexpr auto byTime = [](const auto& x, const auto& y) { return x.time < y.time; };
constexpr auto byBegin = [](const auto& x, const auto& y) { return x.begin < y.begin; };
constexpr auto byEnd = [](const auto& x, const auto& y) { return x.end < y.end; };

/// The list of a thing by its position.
template <class T>
T& listAt(std::vector<T>& lists, size_t position) {
    if (lists.size() <= position) lists.resize(position + 1);
    return lists[position];
}

}  // namespace fugato
