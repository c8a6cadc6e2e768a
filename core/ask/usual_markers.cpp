// SPDX-License-Identifier: GPL-3.0-or-later
#include "usual_markers.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "core/store/long_work.h"
#include "core/symbols/stack_tree.h"

namespace fugato {

namespace {

using RowKey = std::pair<uint32_t, PathId>;  // lane and path; path 0: the lane's busy time

/// Whether a scope has no more than kMostLookedAt of them; they are not counted any further.
bool fewMarkers(const Recording& r, const Scope& scope) {
    size_t sum = 0;
    for (uint32_t l = 0; l < r.lanes.size(); ++l)
        if (scope.has(l))
            for (const MarkerRow& row : r.lanes[l].rows)
                for (const TimeRange& stretch : scope.stretches) {
                    const auto [from, to] = row.overlapping(stretch.begin, stretch.end);
                    if ((sum += to - from) > kMostLookedAt) return false;
                }
    return true;
}

bool fewStacks(const Recording& r, const Scope& scope) {
    size_t sum = 0;
    for (const TimeRange& stretch : scope.stretches)
        for (const auto* stacks : {&r.samples, &r.stops}) {
            const auto [from, to] = stacksBetween(*stacks, stretch.begin, stretch.end);
            if ((sum += to - from) > kMostLookedAt) return false;
        }
    return true;
}

/// The rows of a table by lane and path.
std::map<RowKey, uint32_t> rowsByKey(const NestedMarkers& table) {
    std::map<RowKey, uint32_t> rowOf;
    for (uint32_t i = 0; i < table.rows.size(); ++i)
        if (table.rows[i].function == kNone) rowOf[{table.rows[i].lane, table.rows[i].path}] = i;
    return rowOf;
}

void addRan(const Recording& r, NestedMarkers& table) {
    const Scope& scope = table.scope;
    if (!fewMarkers(r, scope)) return;
    const auto rowOf = rowsByKey(table);
    for (const uint32_t laneRow : table.lanes) {
        const uint32_t l = table.rows[laneRow].lane;
        const Lane& lane = r.lanes[l];
        if (lane.schedule.empty()) continue;
        std::map<PathId, int64_t> ran;
        for (const TimeRange& stretch : scope.stretches) {
            ran[0] += lane.splitBetween(stretch.begin, stretch.end).ran;
            for (const MarkerRow& row : lane.rows) {
                const auto [from, to] = row.overlapping(stretch.begin, stretch.end);
                row.forEach(from, to, [&](uint32_t, int64_t begin, int64_t duration, uint32_t path, uint8_t) {
                    ran[row.pathOf(path)] +=
                        lane.splitBetween(std::max(begin, stretch.begin), std::min(begin + duration, stretch.end)).ran;
                });
            }
        }
        for (const auto& [path, ns] : ran)
            if (const auto row = rowOf.find({l, path}); row != rowOf.end()) table.rows[row->second].ran = ns;
    }
}

void addAllocated(const Recording& r, NestedMarkers& table) {
    if (r.allocations.empty()) return;
    const auto rowOf = rowsByKey(table);
    const auto at = [&](int64_t time) {
        return std::lower_bound(r.allocations.begin(), r.allocations.end(), time,
                                [](const Allocation& a, int64_t t) { return a.taken < t; });
    };
    for (const TimeRange& stretch : table.scope.stretches)
        for (auto a = at(stretch.begin), past = at(stretch.end); a != past; ++a) {
            if (!table.scope.has(a->lane)) continue;
            for (PathId path = a->path;; path = r.paths[path].parent) {
                if (const auto row = rowOf.find({a->lane, path}); row != rowOf.end()) {
                    ++table.rows[row->second].allocations;
                    table.rows[row->second].allocated += a->bytes;
                }
                if (!path) break;
            }
        }
}

/// By call stacks: the functions in which a marker's own time went.
struct OwnStacks {
    std::map<FunctionId, uint32_t> functions;
    std::map<FunctionId, int64_t> blocked;  // ns in which it was blocked there
    uint32_t samples = 0;
    int64_t each = 0;  // ns that a sample stands for, or 0
};

std::map<RowKey, OwnStacks> functionsIn(const Symbols& symbols, const Recording& r, const Scope& scope) {
    std::map<uint64_t, uint32_t> laneOf;  // by thread
    for (uint32_t l = 0; l < r.lanes.size(); ++l)
        if (r.lanes[l].kind == LaneKind::Thread && r.lanes[l].osId && scope.has(l)) laneOf[r.lanes[l].osId] = l;
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
    const int64_t each = r.samplePeriod();
    for (const TimeRange& stretch : scope.stretches) {
        for (const auto& of : laneOf)
            forEachStop(r, r.lanes[of.second], stretch.begin, stretch.end, [&](const StackSample& stop, int64_t ns) {
                if (OwnStacks* const own = add(of.second, stop, function)) own->blocked[function] += ns;
            });
        const auto [from, to] = stacksBetween(r.samples, stretch.begin, stretch.end);
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
    }
    return found;
}

/// Rows for the functions with the most samples, and for those in which the most time was blocked; together they are no
/// more than the marker's own time.
void addFunctions(NestedMarkers& table, uint32_t marker, const OwnStacks& own) {
    constexpr uint32_t kFewest = 2;  // samples
    constexpr size_t kMost = 8;
    constexpr int64_t kShortest = 100'000;  // ns blocked
    std::vector<std::pair<uint32_t, FunctionId>> most;
    for (const auto& [function, samples] : own.functions)
        if (samples >= kFewest) most.emplace_back(samples, function);
    std::stable_sort(most.begin(), most.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    if (most.size() > kMost) most.resize(kMost);
    const auto addRow = [&](FunctionId function, uint32_t samples, int64_t total) {
        NestedMarker row;
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

/// The row of a lane's path, made where there is none.
class RowsOf {
public:
    RowsOf(const Recording& r, NestedMarkers& table) : r_(r), table_(table), rowOf_(rowsByKey(table)) {}
    uint32_t at(const RowKey& key) {
        if (const auto found = rowOf_.find(key); found != rowOf_.end()) return found->second;
        const uint32_t parent = key.second ? at({key.first, r_.paths[key.second].parent}) : kNone;
        const auto row = static_cast<uint32_t>(table_.rows.size());
        rowOf_[key] = row;
        table_.rows.push_back({});
        table_.rows.back().lane = key.first;
        table_.rows.back().path = key.second;
        (parent == kNone ? table_.lanes : table_.rows[parent].children).push_back(row);
        return row;
    }

private:
    const Recording& r_;
    NestedMarkers& table_;
    std::map<RowKey, uint32_t> rowOf_;
};

}  // namespace

void addRanAndAllocated(const Recording& recording, NestedMarkers& made) {
    addRan(recording, made);
    addAllocated(recording, made);
}

struct UsualMarkers::Usual {
    std::map<RowKey, int64_t> times;
};

UsualMarkers::UsualMarkers(std::shared_ptr<const Explanation> explanation) : explanation_(std::move(explanation)) {}
UsualMarkers::~UsualMarkers() = default;

/// The medians over a baseline's sample; 0 where a frame of it has none. Null where `progress` cancelled it.
const UsualMarkers::Usual* UsualMarkers::usualOf(uint32_t baseline, const Progress& progress) {
    if (const auto known = usual_.find(baseline); known != usual_.end()) return known->second.get();
    auto usual = std::make_unique<Usual>();
    const Explanation& e = *explanation_;
    const std::vector<uint32_t>& good = e.baselines[baseline].sample;
    std::map<RowKey, std::vector<int64_t>> samples;
    double done = 0;
    for (const uint32_t i : good) {
        if (progress && !progress(done++ / static_cast<double>(good.size()))) return nullptr;
        const auto frame = nestedMarkers(*e.recording, TimeRange{e.frame(i).begin, e.frame(i).end});
        for (const NestedMarker& row : frame->rows) samples[{row.lane, row.path}].push_back(row.total);
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

bool UsualMarkers::addUsual(NestedMarkers& made, const Progress& progress) {
    const Explanation& e = *explanation_;
    const Column<Frame>& frames = e.recording->series[e.series].frames;
    std::map<uint32_t, double> often;  // by baseline: frames
    for (const TimeRange& stretch : made.scope.stretches) {
        size_t i = static_cast<size_t>(std::partition_point(frames.begin(), frames.end(),
                                                            [&](const Frame& f) { return f.begin < stretch.begin; }) -
                                       frames.begin());
        while (i && frames[i - 1].end > stretch.begin) --i;
        for (; i < e.frames.size() && frames[i].begin < stretch.end; ++i) {
            const Frame& frame = frames[i];
            if (frame.duration() <= 0) continue;
            const int64_t inside = std::min(frame.end, stretch.end) - std::max(frame.begin, stretch.begin);
            const double part = static_cast<double>(inside) / static_cast<double>(frame.duration());
            often[e.frames[i].baseline] += part;
            made.frames += part;
            made.frameTime += inside;
            made.budget += std::llround(part * static_cast<double>(e.deadlineOf(frame)));
            made.late |= e.frames[i].overrun > 0;
        }
    }
    if (often.empty()) return true;
    RowsOf rows(*e.recording, made);
    for (NestedMarker& row : made.rows) row.usual = 0;
    for (const auto& [baseline, frameCount] : often) {
        const Usual* const usual = usualOf(baseline, progress);
        if (!usual) return false;
        for (const auto& [key, ns] : usual->times) {
            if (ns <= 0 || !made.scope.has(key.first)) continue;
            NestedMarker& row = made.rows[rows.at(key)];  // shown also where there is none of it here
            row.usual = std::max<int64_t>(row.usual, 0) + std::llround(frameCount * static_cast<double>(ns));
        }
    }
    for (NestedMarker& row : made.rows) row.usual = std::max<int64_t>(row.usual, 0);
    return true;
}

std::shared_ptr<const NestedMarkers> UsualMarkers::of(const Scope& scope, const Progress& progress) {
    const Lock lock(mutex_);
    const Explanation& e = *explanation_;
    const Recording& r = *e.recording;
    const auto made = nestedMarkers(r, scope, progress);
    if (!made || !addUsual(*made, progress)) return nullptr;
    addRanAndAllocated(r, *made);
    if (e.symbols && fewStacks(r, scope)) {
        const auto rowOf = rowsByKey(*made);
        for (const auto& [key, stacks] : functionsIn(*e.symbols, r, scope))
            if (const auto row = rowOf.find(key); row != rowOf.end()) addFunctions(*made, row->second, stacks);
    }
    return made;
}

std::shared_ptr<const NestedMarkers> UsualMarkers::ofFrame(uint32_t frame, const Progress& progress) {
    const Frame& f = explanation_->frame(frame);
    return of(TimeRange{f.begin, f.end}, progress);
}

}  // namespace fugato
