// SPDX-License-Identifier: GPL-3.0-or-later
#include "stacks.h"

#include <algorithm>
#include <map>
#include <set>
#include <tuple>
#include <utility>

#include "core/model/stack_places.h"
#include "core/store/long_work.h"

namespace fugato {

namespace {

void sumByFunction(Stacks& stacks) {
    const auto& nodes = stacks.tree.nodes();
    std::map<FunctionId, FunctionRow> rows;
    std::map<std::pair<FunctionId, FunctionId>, uint64_t> calls;  // function and caller
    std::vector<uint32_t> depthOf;                                // by function: on the way from the root to here
    const auto visit = [&](auto&& self, uint32_t at) -> void {
        const StackTree::Node& node = nodes[at];
        const bool first = at != StackTree::kRoot && depthOf[node.function]++ == 0;
        if (at != StackTree::kRoot) {
            FunctionRow& row = rows[node.function];
            row.function = node.function;
            row.self += node.self;
            if (first) row.total += node.total;
            if (first && node.parent != StackTree::kRoot)
                calls[{node.function, nodes[node.parent].function}] += node.total;
        }
        for (const uint32_t child : node.children) self(self, child);
        if (at != StackTree::kRoot) --depthOf[node.function];
    };
    depthOf.resize(stacks.symbols->functions.size());
    visit(visit, StackTree::kRoot);  // no deeper than the longest call stack
    std::map<FunctionId, uint64_t> most;
    for (const auto& [who, total] : calls)
        if (total > most[who.first]) {
            most[who.first] = total;
            rows[who.first].caller = who.second;
        }
    for (const auto& [function, row] : rows) stacks.functions.push_back(row);
    std::stable_sort(stacks.functions.begin(), stacks.functions.end(), [](const FunctionRow& a, const FunctionRow& b) {
        return a.self != b.self ? a.self > b.self : a.total > b.total;
    });
}

/// Call stacks, each different one once, with what was counted of it; in the order in which they came first.
class DifferentStacks {
public:
    struct Counted {
        const StackSample* stack;
        uint64_t weight;
    };
    void add(const StackSample& stack, uint64_t weight) {
        const auto [at, isNew] = positions_.try_emplace(stackKey(stack), static_cast<uint32_t>(all_.size()));
        if (isNew) all_.push_back({&stack, 0});
        all_[at->second].weight += weight;
    }
    const std::vector<Counted>& all() const { return all_; }

private:
    tsl::robin_map<uint64_t, uint32_t> positions_;  // by key
    std::vector<Counted> all_;
};

/// Adds up by line: of each call stack a line once, however often it occurs there. What has no line goes by its
/// function.
class LineSums {
public:
    void add(const std::vector<Symbols::Place>& places, uint64_t weight) {
        constexpr uint64_t kOfFunction = uint64_t{1} << 63;
        ++stacks_;
        for (const Symbols::Place& place : places) {
            const bool known = place.file != kNone && place.line;
            const uint64_t key = known ? uint64_t{place.file} << 32 | place.line : kOfFunction | place.function;
            const auto [at, isNew] = rows_.try_emplace(key, Line());
            Line& line = at.value();
            if (isNew) line.row = {place.function, known ? place.file : kNone, known ? place.line : 0, 0, 0};
            if (std::exchange(line.seenIn, stacks_) != stacks_) line.row.total += weight;
            if (&place == &places.back()) line.row.self += weight;
        }
    }
    /// Those with the most of their own first.
    std::vector<LineRow> all() const {
        std::vector<LineRow> rows;
        for (const auto& [key, line] : rows_) rows.push_back(line.row);
        std::sort(rows.begin(), rows.end(), [](const LineRow& a, const LineRow& b) {
            return std::tuple(b.self, b.total, a.file, a.line, a.function) <
                   std::tuple(a.self, a.total, b.file, b.line, b.function);
        });
        return rows;
    }

private:
    struct Line {
        LineRow row;
        uint64_t seenIn = 0;  // the call stack in which it was counted last
    };
    tsl::robin_map<uint64_t, Line> rows_;
    uint64_t stacks_ = 0;
};

constexpr double kGathering = 0.5;  // of the progress

/// False where `progress` cancelled it.
bool addUp(const Recording& r, const DifferentStacks& different, Stacks& stacks, const Progress& progress) {
    constexpr size_t kTellEvery = 1 << 12;
    LineSums lines;
    size_t done = 0;
    for (const DifferentStacks::Counted& one : different.all()) {
        if (done++ % kTellEvery == 0 && progress &&
            !progress(kGathering +
                      (1 - kGathering) * static_cast<double>(done) / static_cast<double>(different.all().size() + 1)))
            return false;
        stacks.tree.add(*stacks.symbols, r, *one.stack, one.weight);
        lines.add(stacks.tree.lastPlaces(), one.weight);
    }
    sumByFunction(stacks);
    stacks.lines = lines.all();
    return true;
}

}  // namespace

std::shared_ptr<const Stacks> stacksIn(const Recording& r, std::shared_ptr<const Symbols> symbols,
                                       const StackScope& scope, const Progress& progress) {
    longWork("call stacks");
    auto stacks = std::make_shared<Stacks>();
    stacks->scope = scope;
    stacks->symbols = std::move(symbols);
    stacks->each = scope.blocked ? 1 : r.samplePeriod();
    DifferentStacks different;
    std::set<uint64_t> threads;
    for (uint32_t l = 0; l < r.lanes.size(); ++l)
        if (r.lanes[l].kind == LaneKind::Thread && scope.in.has(l)) threads.insert(r.lanes[l].osId);
    if (scope.blocked) {
        for (uint32_t l = 0; l < r.lanes.size(); ++l) {
            if (progress && !progress(static_cast<double>(l) / static_cast<double>(r.lanes.size()))) return nullptr;
            if (!scope.in.has(l)) continue;
            const StackSample* before = nullptr;  // a stop may reach from one stretch into the next
            for (const TimeRange& stretch : scope.in.stretches)
                forEachStop(r, r.lanes[l], stretch.begin, stretch.end, [&](const StackSample& stop, int64_t ns) {
                    different.add(stop, static_cast<uint64_t>(ns));
                    stacks->taken += &stop != before;
                    before = &stop;
                });
        }
        return addUp(r, different, *stacks, progress) ? stacks : nullptr;
    }
    std::vector<std::pair<size_t, size_t>> parts;
    size_t all = 0, done = 0;
    for (const TimeRange& stretch : scope.in.stretches) {
        parts.push_back(stacksBetween(r.samples, stretch.begin, stretch.end));
        all += parts.back().second - parts.back().first;
    }
    constexpr size_t kTellEvery = 1 << 14;
    for (const auto& [from, to] : parts)
        for (size_t i = from; i < to; ++i) {
            if (done++ % kTellEvery == 0 && progress &&
                !progress(kGathering * static_cast<double>(done) / static_cast<double>(all)))
                return nullptr;
            if (!threads.count(r.samples[i].thread)) continue;
            different.add(r.samples[i], 1);
            ++stacks->taken;
        }
    return addUp(r, different, *stacks, progress) ? stacks : nullptr;
}

}  // namespace fugato
