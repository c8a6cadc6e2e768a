// SPDX-License-Identifier: GPL-3.0-or-later
//
// Durations of frames, of which percentiles are asked. Copies share those of the frames that are settled: of a
// recording that grows, what is added costs what is new. A copy is only read.
#pragma once

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <memory>
#include <vector>

namespace fugato {

class Durations {
public:
    /// Those of the frames before this one are settled.
    uint32_t settledUpTo() const { return upTo_; }
    bool empty() const { return !size(); }
    size_t size() const { return settled_->size() + rest_.size(); }

    /// Adds those of the frames up to `upTo` to what is settled. `more` and the next one's are in order of length.
    void settle(const std::vector<int64_t>& more, uint32_t upTo) {
        auto all = std::make_shared<std::vector<int64_t>>(settled_->size() + more.size());
        std::merge(settled_->begin(), settled_->end(), more.begin(), more.end(), all->begin());
        settled_ = std::move(all);
        upTo_ = upTo;
    }
    /// Those of all other frames, instead of what was said of these before.
    void setRest(std::vector<int64_t> rest) { rest_ = std::move(rest); }

    /// The duration that this part of the frames does not exceed (the nearest rank); not of none.
    int64_t percentile(double part) const {
        const auto rank = static_cast<size_t>(std::ceil(part * static_cast<double>(size())));
        return shortest(std::clamp<size_t>(rank, 1, size()));
    }

private:
    /// The `count`-th of all. So many of the first ones are settled that no other one is shorter than these.
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
