// SPDX-License-Identifier: GPL-3.0-or-later
//
// Sorted durations of frames, for percentiles; in nanoseconds. Copies share the part that is settled, so that while a
// recording grows an update costs only its new frames. Not thread safe while it is changed.
#pragma once

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <memory>
#include <vector>

namespace fugato {

class Durations {
public:
    /// The durations of the frames before this one are settled.
    uint32_t settledUpTo() const { return upTo_; }
    bool empty() const { return !size(); }
    size_t size() const { return settled_->size() + rest_.size(); }

    /// Adds the durations of the frames up to `upTo`, sorted, to the settled part.
    void settle(const std::vector<int64_t>& more, uint32_t upTo) {
        auto all = std::make_shared<std::vector<int64_t>>(settled_->size() + more.size());
        std::merge(settled_->begin(), settled_->end(), more.begin(), more.end(), all->begin());
        settled_ = std::move(all);
        upTo_ = upTo;
    }
    /// Replaces the durations of all frames that are not settled; sorted.
    void setRest(std::vector<int64_t> rest) { rest_ = std::move(rest); }

    /// The percentile by nearest rank; `part` from 0 to 1. Must not be empty.
    int64_t percentile(double part) const {
        const auto rank = static_cast<size_t>(std::ceil(part * static_cast<double>(size())));
        return shortest(std::clamp<size_t>(rank, 1, size()));
    }

private:
    /// The `count`-th shortest of both sorted parts, by a binary search for how many of the `count` are settled ones.
    int64_t shortest(size_t count) const {
        const std::vector<int64_t>& settled = *settled_;
        size_t least = count - std::min(count, rest_.size()), most = std::min(count, settled.size());
        while (least < most) {
            const size_t middle = (least + most) / 2;
            if (settled[middle] < rest_[count - middle - 1])
                least = middle + 1;
            else
                most = middle;
        }
        const int64_t ofSettled = least ? settled[least - 1] : INT64_MIN;
        return least < count ? std::max(ofSettled, rest_[count - least - 1]) : ofSettled;
    }

    std::shared_ptr<const std::vector<int64_t>> settled_ = std::make_shared<const std::vector<int64_t>>();
    std::vector<int64_t> rest_;
    uint32_t upTo_ = 0;
};

}  // namespace fugato
