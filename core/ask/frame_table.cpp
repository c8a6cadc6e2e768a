// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_table.h"

#include <algorithm>
#include <map>

#include "core/store/long_work.h"
#include "core/symbols/stack_tree.h"

namespace fugato {

namespace {

using RowKey = std::pair<uint32_t, PathId>;

struct Sum {
    int64_t total = 0, below = 0, waits = 0, ran = 0;
    bool wait = false;
    uint32_t calls = 0;
    MarkerRef first;
};

/// What one range of time held, by lane and marker path; path 0 is the lane's busy time.
/// `split`: also how much of it ran.
std::map<RowKey, Sum> sumRange(const Recording& r, int64_t begin, int64_t end, bool split) {
    std::map<RowKey, Sum> sums;
    for (uint32_t l = 0; l < r.lanes.size(); ++l) {
        for (uint32_t row = 0; row < r.lanes[l].rows.size(); ++row) {
            const MarkerRow& markers = r.lanes[l].rows[row];
            const auto [from, to] = markers.overlapping(begin, end);
            if (from == to) break;  // and so nothing is nested
            markers.forEach(from, to, [&](uint32_t i, int64_t began, int64_t whole, uint32_t lanePath, uint8_t flags) {
                const PathId path = markers.pathOf(lanePath);
                const int64_t duration = std::min(end, began + whole) - std::max(begin, began);
                Sum& sum = sums[{l, path}];
                sum.total += duration;
                if (split) sum.ran += r.lanes[l].splitBetween(std::max(begin, began), std::min(end, began + whole)).ran;
                ++sum.calls;
                if (!sum.first.valid()) sum.first = {l, row, i};
                sums[{l, r.paths[path].parent}].below += duration;
                if (!(flags & kMarkerWait)) return;
                sums[{l, path}].wait = true;
                if (!(flags & kMarkerInsideWait)) sums[{l, 0}].waits += duration;
            });
        }
        if (const auto lane = sums.find({l, 0}); lane != sums.end())
            lane->second.total = lane->second.below - lane->second.waits;
        if (const auto lane = sums.find({l, 0}); lane != sums.end() && split)
            lane->second.ran = r.lanes[l].splitBetween(begin, end).ran;
    }
    return sums;
}

/// By call stacks: the functions in which a marker's own time went.
struct OwnStacks {
    std::map<FunctionId, uint32_t> functions;
    std::map<FunctionId, int64_t> blocked;  // ns in which it was blocked there
    uint32_t samples = 0;
    int64_t each = 0;  // ns that a sample stands for, or 0
};

std::map<RowKey, OwnStacks> functionsIn(const Symbols& symbols, const Recording& r, int64_t begin, int64_t end) {
    std::map<uint64_t, uint32_t> laneOf;  // by thread
    for (uint32_t l = 0; l < r.lanes.size(); ++l)
        if (r.lanes[l].kind == LaneKind::Thread && r.lanes[l].osId) laneOf[r.lanes[l].osId] = l;
    std::map<RowKey, OwnStacks> found;
    std::vector<Symbols::Place> places;
    /// The innermost function that tells something, and the marker around it; null: nothing is known of it.
    const auto add = [&](uint32_t lane, const StackSample& stack, FunctionId& function) -> OwnStacks* {
        symbols.stackOf(r, stack, places);
        if (places.empty()) return nullptr;
        const auto telling = std::find_if(places.rbegin(), places.rend(),
                                          [&](const auto& place) { return symbols.tells(place.function); });
        function = telling == places.rend() ? places.back().function : telling->function;
        const MarkerRef marker = r.innermostBefore(lane, stack.time);
        return &found[{lane, marker.valid() ? r.pathOf(marker) : 0}];
    };
    FunctionId function = kNone;
    for (const auto& of : laneOf)
        forEachStop(r, r.lanes[of.second], begin, end, [&](const StackSample& stop, int64_t ns) {
            if (OwnStacks* const own = add(of.second, stop, function)) own->blocked[function] += ns;
        });
    const int64_t each = r.samplePeriod();
    const auto [from, to] = stacksBetween(r.samples, begin, end);
    for (size_t i = from; i < to; ++i) {
        const StackSample& sample = r.samples[i];
        const auto lane = laneOf.find(sample.thread);
        if (lane == laneOf.end()) continue;
        OwnStacks* const own = add(lane->second, sample, function);
        if (!own) continue;
        ++own->functions[function];
        ++own->samples;
        own->each = each;
    }
    return found;
}

/// Rows for the functions with the most samples, and for those in which the most time was blocked; together they are no
/// more than the marker's own time.
void addFunctions(FrameTable& table, uint32_t marker, const OwnStacks& own) {
    constexpr uint32_t kFewest = 2;  // samples
    constexpr size_t kMost = 8;
    constexpr int64_t kShortest = 100'000;  // ns blocked
    std::vector<std::pair<uint32_t, FunctionId>> most;
    for (const auto& [function, samples] : own.functions)
        if (samples >= kFewest) most.emplace_back(samples, function);
    std::stable_sort(most.begin(), most.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    if (most.size() > kMost) most.resize(kMost);
    const auto addRow = [&](FunctionId function, uint32_t samples, int64_t total) {
        FrameTableRow row;
        row.lane = table.rows[marker].lane;
        row.path = table.rows[marker].path;
        row.function = function;
        row.samples = samples;
        row.total = total;
        const auto at = static_cast<uint32_t>(table.rows.size());
        table.rows.push_back(std::move(row));
        table.rows[marker].children.push_back(at);
    };
    std::vector<std::pair<int64_t, FunctionId>> longest;
    int64_t blocked = 0;
    for (const auto& [function, ns] : own.blocked) {
        blocked += ns;
        if (ns >= kShortest) longest.emplace_back(ns, function);
    }
    const bool hasMarker = table.rows[marker].path;
    const int64_t ran = std::max<int64_t>(0, table.rows[marker].self - blocked);
    for (const auto& [samples, function] : most) {
        const auto part = static_cast<double>(samples) / own.samples;
        addRow(function, samples,
               hasMarker ? static_cast<int64_t>(part * static_cast<double>(ran)) : samples * own.each);
    }
    std::stable_sort(longest.begin(), longest.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    if (longest.size() > kMost) longest.resize(kMost);
    for (const auto& [ns, function] : longest) addRow(function, 0, ns);
}

}  // namespace

struct FrameTables::Usual {
    std::map<RowKey, int64_t> times;
};

FrameTables::FrameTables(std::shared_ptr<const Explanation> explanation) : explanation_(std::move(explanation)) {}
FrameTables::~FrameTables() = default;

/// The medians over a baseline's sample; 0 where a frame of it has none. Null where `progress` cancelled it.
const FrameTables::Usual* FrameTables::usualOf(uint32_t baseline, const Progress& progress) {
    if (const auto known = usual_.find(baseline); known != usual_.end()) return known->second.get();
    auto usual = std::make_unique<Usual>();
    const Explanation& e = *explanation_;
    const std::vector<uint32_t>& good = e.baselines[baseline].sample;
    std::map<RowKey, std::vector<int64_t>> samples;
    double done = 0;
    for (const uint32_t i : good) {
        if (progress && !progress(done++ / static_cast<double>(good.size()))) return nullptr;
        for (const auto& [key, sum] : sumRange(*e.recording, e.frame(i).begin, e.frame(i).end, false))
            samples[key].push_back(sum.total);
    }
    for (auto& [key, values] : samples) {
        values.resize(good.size());  // absent: 0
        const auto middle =
            values.begin() + static_cast<std::ptrdiff_t>((values.size() - 1) / 2);  // the lower, as in baselines
        std::nth_element(values.begin(), middle, values.end());
        usual->times[key] = *middle;
    }
    return (usual_[baseline] = std::move(usual)).get();
}

std::optional<FrameTable> FrameTables::of(uint32_t frame, const Progress& progress) {
    longWork("the table of a frame");
    const std::lock_guard lock(mutex_);
    const Explanation& e = *explanation_;
    const Recording& r = *e.recording;
    const Frame& f = e.frame(frame);
    const Usual* const typical = usualOf(e.frames[frame].baseline, progress);
    if (!typical) return std::nullopt;
    auto sums = sumRange(r, f.begin, f.end, true);
    const std::map<RowKey, int64_t>& usual = typical->times;
    for (const auto& [key, time] : usual)
        if (time > 0) sums[key];  // shown also where this frame has none of it

    FrameTable table;
    std::map<RowKey, uint32_t> rowOf;
    const auto rowAt = [&](auto&& self, const RowKey& key) -> uint32_t {
        if (const auto found = rowOf.find(key); found != rowOf.end()) return found->second;
        const auto at = static_cast<uint32_t>(table.rows.size());
        rowOf[key] = at;
        FrameTableRow row;
        row.lane = key.first;
        row.path = key.second;
        const Sum& sum = sums[key];
        row.total = sum.total;
        row.self = key.second ? sum.total - sum.below : 0;
        if (!r.lanes[key.first].schedule.empty() && sum.calls + (key.second == 0)) row.ran = sum.ran;
        row.calls = sum.calls;
        row.first = sum.first;
        row.wait = sum.wait;
        row.usual = usual.count(key) ? usual.at(key) : 0;
        table.rows.push_back(row);
        if (key.second == 0) {
            table.lanes.push_back(at);
        } else {
            const uint32_t parent = self(self, {key.first, r.paths[key.second].parent});
            table.rows[parent].children.push_back(at);
        }
        return at;
    };
    std::vector<RowKey> keys;
    for (const auto& [key, sum] : sums) keys.push_back(key);
    for (const RowKey& key : keys) rowAt(rowAt, key);
    if (e.symbols)
        for (const auto& [key, stacks] : functionsIn(*e.symbols, r, f.begin, f.end))
            if (const auto row = rowOf.find(key); row != rowOf.end()) addFunctions(table, row->second, stacks);
    std::sort(table.lanes.begin(), table.lanes.end(),
              [&](uint32_t a, uint32_t b) { return table.rows[a].lane < table.rows[b].lane; });
    return table;
}

}  // namespace fugato
