// SPDX-License-Identifier: GPL-3.0-or-later
#include "stacks.h"

#include <algorithm>
#include <map>
#include <set>
#include <tuple>

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

/// Adds up by line: of each call stack a line once, however often it occurs there. What has no line goes by its
/// function.
class LineSums {
public:
    void add(const std::vector<Symbols::Place>& places, uint64_t weight) {
        constexpr uint64_t kOfFunction = uint64_t{1} << 63;
        seen_.clear();
        for (const Symbols::Place& place : places) {
            const bool known = place.file != kNone && place.line;
            const uint64_t key = known ? uint64_t{place.file} << 32 | place.line : kOfFunction | place.function;
            const auto [at, isNew] = rows_.try_emplace(key, LineRow());
            LineRow& row = at.value();
            if (isNew) row = {place.function, known ? place.file : kNone, known ? place.line : 0, 0, 0};
            if (std::find(seen_.begin(), seen_.end(), key) == seen_.end()) {
                seen_.push_back(key);
                row.total += weight;
            }
            if (&place == &places.back()) row.self += weight;
        }
    }
    /// Those with the most of their own first.
    std::vector<LineRow> all() const {
        std::vector<LineRow> rows;
        for (const auto& [key, row] : rows_) rows.push_back(row);
        std::sort(rows.begin(), rows.end(), [](const LineRow& a, const LineRow& b) {
            return std::tuple(b.self, b.total, a.file, a.line, a.function) <
                   std::tuple(a.self, a.total, b.file, b.line, b.function);
        });
        return rows;
    }

private:
    tsl::robin_map<uint64_t, LineRow> rows_;
    std::vector<uint64_t> seen_;  // in this call stack
};

}  // namespace

std::shared_ptr<const Stacks> stacksIn(const Recording& r, std::shared_ptr<const Symbols> symbols,
                                       const StackScope& scope, const Progress& progress) {
    longWork("call stacks");
    auto stacks = std::make_shared<Stacks>();
    stacks->scope = scope;
    stacks->symbols = std::move(symbols);
    stacks->each = scope.blocked ? 1 : r.samplePeriod();
    LineSums lines;
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
                    stacks->tree.add(*stacks->symbols, r, stop, static_cast<uint64_t>(ns));
                    lines.add(stacks->tree.lastPlaces(), static_cast<uint64_t>(ns));
                    stacks->taken += &stop != before;
                    before = &stop;
                });
        }
        sumByFunction(*stacks);
        stacks->lines = lines.all();
        return stacks;
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
            if (done++ % kTellEvery == 0 && progress && !progress(static_cast<double>(done) / static_cast<double>(all)))
                return nullptr;
            if (!threads.count(r.samples[i].thread)) continue;
            stacks->tree.add(*stacks->symbols, r, r.samples[i]);
            lines.add(stacks->tree.lastPlaces(), 1);
            ++stacks->taken;
        }
    sumByFunction(*stacks);
    stacks->lines = lines.all();
    return stacks;
}

}  // namespace fugato
