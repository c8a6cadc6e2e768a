// SPDX-License-Identifier: GPL-3.0-or-later
//
// A list that grows at its end and is sorted now and then. Equal ones keep their order.
#pragma once

#include <algorithm>
#include <cstddef>
#include <type_traits>
#include <vector>

namespace fugato {

template <class T>
class SortedList {
public:
    void add(const T& value) { all_.push_back(value); }
    void add(const std::vector<T>& values) { all_.insert(all_.end(), values.begin(), values.end()); }
    template <class Less>
    const std::vector<T>& sorted(Less&& less) {
        const auto middle = all_.begin() + static_cast<std::ptrdiff_t>(sorted_);
        if (!std::is_sorted(middle, all_.end(), less)) std::stable_sort(middle, all_.end(), less);
        if (sorted_ && sorted_ < all_.size() && less(*middle, middle[-1]))  // mostly everything new is later
            std::inplace_merge(std::upper_bound(all_.begin(), middle, *middle, less), middle, all_.end(), less);
        sorted_ = all_.size();
        return all_;
    }
    /// Of those that are equal only the first stays. After sorted().
    template <class Equal>
    void unique(Equal&& equal) {
        all_.erase(std::unique(all_.begin(), all_.end(), equal), all_.end());
        sorted_ = all_.size();
    }
    const std::vector<T>& all() const { return all_; }

private:
    std::vector<T> all_;
    size_t sorted_ = 0;
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
