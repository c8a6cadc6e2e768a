// SPDX-License-Identifier: GPL-3.0-or-later
#include "summary_json.h"

namespace fugato {

namespace {

using Json = nlohmann::ordered_json;

Json seriesJson(const SeriesSummary& series) {
    const Figures& f = series.figures;
    Json json{{"name", series.name},
              {"frames", f.frames},
              {"over", f.over},
              {"near", f.near},
              {"late_ms", milliseconds(f.late)},
              {"start_up_over", f.startUpOver},
              {"start_up_late_ms", milliseconds(f.startUpLate)},
              {"p50_ms", milliseconds(f.p50)},
              {"p95_ms", milliseconds(f.p95)},
              {"p99_ms", milliseconds(f.p99)},
              {"worst_ms", milliseconds(f.worst)}};
    for (const StageSummary& stage : series.stages)
        json["stages"].push_back({{"name", stage.name},
                                  {"frames", stage.frames},
                                  {"over", stage.over},
                                  {"late_ms", milliseconds(stage.late)},
                                  {"p50_ms", milliseconds(stage.median)},
                                  {"p95_ms", milliseconds(stage.p95)},
                                  {"p99_ms", milliseconds(stage.p99)},
                                  {"worst_ms", milliseconds(stage.worst)}});
    return json;
}

Json causeJson(const std::string& series, const CauseSummary& cause) {
    Json json{{"series", series},
              {"letter", cause.letter},
              {"key", cause.key},
              {"lane", cause.lane},
              {"path", cause.path},
              {"kind", causeKindName(cause.kind)},
              {"spikes", cause.spikes},
              {"frames", cause.frames},
              {"worst_frame", cause.worstFrame},
              {"late_ms", milliseconds(cause.late)},
              {"confidence", confidenceName(cause.confidence.level)},
              {"doubts", cause.confidence.doubts}};
    if (!cause.lock.empty()) json["lock"] = cause.lock;
    if (cause.contention != Contention::None) {
        json["contention"] = contentionName(cause.contention);
        for (const auto& [name, late] : cause.holders)
            json["holders"].push_back({{"name", name}, {"late_ms", milliseconds(late)}});
        for (const auto& [lane, late] : cause.waitingLanes)
            json["waiting_lanes"].push_back({{"lane", lane}, {"late_ms", milliseconds(late)}});
    }
    if (cause.startUp) json["start_up"] = true;
    if (cause.outside) json["outside_markers"] = true;
    if (cause.function) {
        const auto& f = *cause.function;
        Json function{{"name", f.name}, {"module", f.module}};
        if (f.ofSamples) {
            function["samples"] = f.samples;
            function["of_samples"] = f.ofSamples;
        } else {
            function["blocked"] = true;
        }
        if (!f.file.empty()) function["file"] = f.file;
        if (f.line) function["line"] = f.line;
        if (!f.caller.empty()) function["called_from"] = f.caller;
        json["function"] = std::move(function);
    }
    for (const CauseArgument& argument : cause.arguments) {
        Json one{{"key", argument.key},
                 {"value", argument.value},
                 {"frames", argument.frames},
                 {"of_frames", argument.ofFrames}};
        if (!argument.marker.empty()) one["marker"] = argument.marker;
        json["arguments"].push_back(std::move(one));
    }
    if (cause.saved) json["saved"] = *cause.saved;
    return json;
}

}  // namespace

Json summaryJson(const Summary& summary) {
    Json json{{"recording",
               {{"id", summary.recordingId},
                {"program", summary.program},
                {"build", summary.build},
                {"started_unix_ns", summary.startedUnixNs},
                {"length_ns", summary.length},
                {"markers", summary.markerCount}}},
              {"series", Json::array()},
              {"spikes", Json::array()},
              {"causes", Json::array()},
              {"markers", Json::array()}};
    for (const SeriesSummary& series : summary.series) {
        json["series"].push_back(seriesJson(series));
        for (const CauseSummary& cause : series.causes) json["causes"].push_back(causeJson(series.name, cause));
    }
    for (const MarkerSummary& marker : summary.markers)
        json["markers"].push_back({{"key", marker.key},
                                   {"name", marker.name},
                                   {"count", marker.count},
                                   {"total_ns", marker.total},
                                   {"self_ns", marker.self},
                                   {"longest_ns", marker.longest}});
    return json;
}

}  // namespace fugato
