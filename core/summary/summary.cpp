// SPDX-License-Identifier: GPL-3.0-or-later
#include "summary.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "core/ask/nested_markers.h"
#include "core/explain/words/sentences.h"
#include "core/model/keys.h"
#include "core/store/long_work.h"

namespace fugato {

namespace {

/// Of durations in ascending order; nearest rank, as everywhere.
int64_t percentileOf(const std::vector<int64_t>& sorted, double part) {
    const auto rank = static_cast<size_t>(std::ceil(part * static_cast<double>(sorted.size())));
    return sorted[std::clamp<size_t>(rank, 1, sorted.size()) - 1];
}

std::vector<StageSummary> stagesOf(const Explanation& e) {
    const Recording& r = *e.recording;
    if (!r.stages()) return {};
    struct Gathered {
        StageSummary stage;
        std::vector<int64_t> durations;
    };
    std::map<std::string, Gathered> byName;
    for (uint32_t f = 0; f < e.frames.size(); ++f) {
        const StateSpan* span = r.stageAt(e.frame(f).begin);
        if (!span) continue;
        Gathered& stage = byName[std::string(r.text(span->value))];
        stage.durations.push_back(e.frame(f).duration());
        stage.stage.over += e.frames[f].state == FrameState::Over;
        stage.stage.late += e.frames[f].overrun;
    }
    std::vector<StageSummary> out;
    for (auto& [name, gathered] : byName) {
        std::vector<int64_t>& durations = gathered.durations;
        std::sort(durations.begin(), durations.end());
        StageSummary& stage = gathered.stage;
        stage.name = name;
        stage.frames = durations.size();
        stage.median = percentileOf(durations, 0.5);
        stage.p95 = percentileOf(durations, 0.95);
        stage.p99 = percentileOf(durations, 0.99);
        stage.worst = durations.back();
        out.push_back(std::move(stage));
    }
    return out;
}

CauseSummary causeOf(const Explanation& e, uint32_t index, bool predicted) {
    const Recording& r = *e.recording;
    const Cause& cause = e.causes[index];
    CauseSummary out;
    out.key = causeKey(e, cause);
    out.letter = cause.letter;
    out.title = causeTitle(e, cause);
    out.laneKey = groupKey(r, cause.group);
    out.lane = r.groups[cause.group].name;
    out.path = r.namesOf(cause.path);
    if (cause.object != kNone) out.lock = r.objects[cause.object];
    out.contention = cause.contention;
    for (const auto& [holder, late] : byHolder(cause.contentionParts))
        out.holders.emplace_back(coreHolderText(r, holder), late);
    for (const auto& [group, late] : byGroup(cause.contentionParts))
        out.waitingLanes.emplace_back(r.groups[group].name, late);
    out.kind = cause.kind;
    out.startUp = cause.key.startUp;
    out.outside = cause.key.outside;
    out.arguments = cause.arguments;
    if (cause.function != kNone) {
        const Symbols& symbols = *e.symbols;
        const Symbols::Function& function = symbols.functions[cause.function];
        out.function = {symbols.nameOf(cause.function),
                        symbols.moduleOf(cause.function),
                        function.file,
                        cause.caller == kNone ? std::string() : symbols.nameOf(cause.caller),
                        function.line,
                        cause.samples,
                        cause.ofSamples};
    }
    out.spikes = cause.spikes.size();
    out.frames = cause.frames.size();
    out.late = cause.late;
    out.worstFrame = e.worstFrameOf(cause);
    out.confidence = confidenceOf(e, out.worstFrame, cause, e.segmentsOf(out.worstFrame));
    if (predicted) out.saved = predict(e, {{index, false}})->saved;
    return out;
}

std::vector<MarkerSummary> markersOf(const Recording& r, size_t most, const Progress& progress) {
    const auto table = nestedMarkers(r, wholeOf(r), progress);
    if (!table) return {};
    std::map<std::pair<uint32_t, PathId>, MarkerSummary> sums;  // by lane group and path
    for (const NestedMarker& row : table->rows) {
        if (!row.path) continue;
        MarkerSummary& sum = sums[{r.lanes[row.lane].group, row.path}];
        sum.count += row.count;
        sum.total += row.total;
        sum.self += row.self;
        sum.longest = std::max(sum.longest, row.longest);
    }
    std::vector<MarkerSummary> out;
    for (auto& [at, sum] : sums) {
        sum.laneKey = groupKey(r, at.first);
        sum.key = joinedKeys({sum.laneKey, pathKey(r, at.second)});
        sum.name = r.nameOf(at.second);
        out.push_back(std::move(sum));
    }
    std::stable_sort(out.begin(), out.end(), [](const auto& a, const auto& b) { return a.total > b.total; });
    if (out.size() > most) out.resize(most);
    return out;
}

std::string contextOf(const Recording& r, const char* key) {
    const auto found = r.context.find(key);
    return found == r.context.end() ? std::string() : found->second;
}

}  // namespace

std::string causeKey(const Explanation& e, const Cause& cause) {
    const Recording& r = *e.recording;
    const CauseKey& key = cause.key;
    std::vector<std::string> parts{groupKey(r, key.group), pathKey(r, key.path)};
    if (key.object != kNone) parts.push_back(keyOf({"lock", r.objects[key.object]}));
    if (key.contention != Contention::None)
        return keyOf({"core", contentionName(key.contention) + std::string(key.startUp ? " start-up" : "")});
    if (key.waiting) parts.push_back("waiting");
    if (key.unexplained) parts.push_back(key.outside ? "outside" : "unexplained");
    if (key.startUp) parts.push_back("start-up");
    if (key.function != kNone)
        parts.push_back(keyOf({"function", e.symbols->moduleOf(key.function), e.symbols->nameOf(key.function)}));
    return joinedKeys(parts);
}

std::optional<Summary> summaryOf(const std::vector<std::shared_ptr<const Explanation>>& explanations,
                                 const SummaryOptions& options, const Progress& progress) {
    longWork("a summary");
    Summary out;
    if (explanations.empty()) return out;
    const Recording& r = *explanations.front()->recording;
    out.recordingId = recordingId(r);
    out.program = contextOf(r, "program");
    out.build = contextOf(r, "build");
    out.startedUnixNs = r.startedUnixNs;
    out.length = r.end - r.begin;
    out.markerCount = r.markerCount();
    for (const auto& e : explanations) {
        SeriesSummary series{r.series[e->series].name, e->figures, stagesOf(*e), {}};
        for (uint32_t c = 0; c < e->causes.size(); ++c) {
            if (progress && !progress(static_cast<double>(c) / static_cast<double>(e->causes.size()))) return {};
            series.causes.push_back(causeOf(*e, c, c < options.predicted));
        }
        out.series.push_back(std::move(series));
    }
    if (options.markers) out.markers = markersOf(r, options.markers, progress);
    if (progress && !progress(1)) return {};
    return out;
}

}  // namespace fugato
