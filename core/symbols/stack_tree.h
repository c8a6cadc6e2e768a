// SPDX-License-Identifier: GPL-3.0-or-later
//
// Call stacks added up: which function was called from which, and in how many of them, or for how long a thread
// blocked there. Belongs to one thread.
#pragma once

#include <algorithm>

#include "symbols.h"

namespace fugato {

/// Which call stacks of all threads lie in [begin, end).
inline std::pair<size_t, size_t> stacksBetween(const Column<StackSample>& stacks, int64_t begin, int64_t end) {
    const auto at = [&](int64_t time) {
        return static_cast<size_t>(std::lower_bound(stacks.begin(), stacks.end(), time,
                                                    [](const StackSample& s, int64_t t) { return s.time < t; }) -
                                   stacks.begin());
    };
    return {at(begin), at(end)};
}

/// The samples of a thread's lane in [begin, end), in order of time. Costs a look at those of all threads in between.
template <class Take>
void forEachSample(const Recording& r, const Lane& lane, int64_t begin, int64_t end, Take&& take) {
    if (!lane.osId || lane.kind != LaneKind::Thread) return;
    const auto [from, to] = stacksBetween(r.samples, begin, end);
    for (size_t i = from; i < to; ++i)
        if (r.samples[i].thread == lane.osId) take(r.samples[i]);
}

/// Where a thread's lane blocked in [begin, end), and for how long of that, in order of time.
template <class Take>
void forEachStop(const Recording& r, const Lane& lane, int64_t begin, int64_t end, Take&& take) {
    if (r.stops.empty()) return;
    for (auto span = std::upper_bound(lane.schedule.begin(), lane.schedule.end(), begin,
                                      [](int64_t t, const ScheduleSpan&s) { return t < s.end; });
         span != lane.schedule.end() && span->begin < end; ++span) {
        if (span->state != ThreadState::Blocked) continue;
        const auto [from, to] = stacksBetween(r.stops, span->begin, span->begin + 1);
        for (size_t i = from; i < to; ++i)
            if (r.stops[i].thread == lane.osId)
                take(r.stops[i], std::min(span->end, end) - std::max(span->begin, begin));
    }
}

/// Counts samples, or ns in which threads were blocked.
class StackTree {
public:
    struct Node {
        FunctionId function = 0;
        uint32_t parent = 0;
        uint64_t total = 0, self = 0;  // what it was being executed in; what it was the innermost of
        std::vector<uint32_t> children;
    };
    static constexpr uint32_t kRoot = 0;

    void add(const Symbols& symbols, const Recording& recording, const StackSample& stack, uint64_t weight = 1) {
        symbols.stackOf(recording, stack, places_);
        uint32_t node = kRoot;
        nodes_[kRoot].total += weight;
        for (const Symbols::Place& place : places_) {
            node = childOrNew(node, place.function);
            nodes_[node].total += weight;
        }
        nodes_[node].self += weight;
    }
    /// Each of its call stacks from the innermost function out, with what was counted of it.
    StackTree fromInnermost() const {
        StackTree made;
        for (uint32_t at = 1; at < nodes_.size(); ++at) {
            if (!nodes_[at].self) continue;
            uint32_t node = kRoot;
            made.nodes_[kRoot].total += nodes_[at].self;
            for (uint32_t caller = at; caller != kRoot; caller = nodes_[caller].parent) {
                node = made.childOrNew(node, nodes_[caller].function);
                made.nodes_[node].total += nodes_[at].self;
            }
            made.nodes_[node].self += nodes_[at].self;
        }
        return made;
    }
    /// The functions of the call stack that was added last, the outermost first.
    const std::vector<Symbols::Place>& lastPlaces() const { return places_; }
    const std::vector<Node>& nodes() const { return nodes_; }
    uint64_t total() const { return nodes_[kRoot].total; }
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
