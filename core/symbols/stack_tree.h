// SPDX-License-Identifier: GPL-3.0-or-later
//
// Call stacks added up: which function was called from which, and in how many samples. Belongs to one thread.
#pragma once

#include <algorithm>

#include "symbols.h"

namespace fugato {

/// Which samples of all threads lie in [begin, end), in Recording::samples.
inline std::pair<size_t, size_t> samplesIn(const Recording& r, int64_t begin, int64_t end) {
    const auto at = [&](int64_t time) {
        return static_cast<size_t>(std::lower_bound(r.samples.begin(), r.samples.end(), time,
                                                    [](const StackSample& s, int64_t t) { return s.time < t; }) -
                                   r.samples.begin());
    };
    return {at(begin), at(end)};
}

/// The samples of a thread's lane in [begin, end), in order of time. Costs a look at those of all threads in between.
template <class Take>
void forEachSample(const Recording& r, const Lane& lane, int64_t begin, int64_t end, Take&& take) {
    if (!lane.osId || lane.kind != LaneKind::Thread) return;
    const auto [from, to] = samplesIn(r, begin, end);
    for (size_t i = from; i < to; ++i)
        if (r.samples[i].thread == lane.osId) take(r.samples[i]);
}

class StackTree {
public:
    struct Node {
        FunctionId function = 0;
        uint32_t parent = 0;
        uint32_t samples = 0, self = 0;  // in which it was being executed; in which it was the innermost
        std::vector<uint32_t> children;
    };
    static constexpr uint32_t kRoot = 0;

    void add(const Symbols& symbols, const Recording& recording, const StackSample& sample) {
        symbols.stackOf(recording, sample, places_);
        uint32_t node = kRoot;
        ++nodes_[kRoot].samples;
        for (const Symbols::Place& place : places_) {
            node = childOrNew(node, place.function);
            ++nodes_[node].samples;
        }
        ++nodes_[node].self;
    }
    const std::vector<Node>& nodes() const { return nodes_; }
    uint32_t samples() const { return nodes_[kRoot].samples; }
    /// kNone: nobody called this from there.
    uint32_t childOf(uint32_t node, FunctionId function) const {
        for (const uint32_t child : nodes_[node].children)
            if (nodes_[child].function == function) return child;
        return kNone;
    }

private:
    uint32_t childOrNew(uint32_t node, FunctionId function) {
        if (const uint32_t child = childOf(node, function); child != kNone) return child;
        const auto made = static_cast<uint32_t>(nodes_.size());
        nodes_.push_back({function, node, 0, 0, {}});
        nodes_[node].children.push_back(made);
        return made;
    }
    std::vector<Node> nodes_{1};
    std::vector<Symbols::Place> places_;
};

}  // namespace fugato
