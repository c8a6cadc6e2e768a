// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a recording comes to, under names that mean the same in another recording of its program (core/model/keys.h):
// figures, stages, causes, markers. Lists, reports and comparisons read this and need no recording. A Summary is plain
// data and stands by itself. Times are nanoseconds.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/explain/causes/confidence.h"

namespace fugato {

struct StageSummary {
    std::string name;
    uint64_t frames = 0, over = 0;
    int64_t late = 0, median = 0, p95 = 0, p99 = 0, worst = 0;
};

struct CauseSummary {
    std::string key;
    std::string letter, title;      // of this recording; words for a person
    std::string laneKey, lane;      // lane group
    std::vector<std::string> path;  // names of markers, outermost first
    std::string lock;               // empty where it is not about one
    Contention contention{};
    /// Of CPU contention: the time late by core holder, and by waiting lane group; the most first.
    std::vector<std::pair<std::string, int64_t>> holders, waitingLanes;
    CauseKind kind{};
    bool startUp = false;  // while the program was starting up or loading
    bool outside = false;  // the lane's time outside any marker
    struct InFunction {    // as call stacks tell
        std::string name, module, file, caller;
        uint32_t line = 0;                    // of its declaration; 0: not known
        uint64_t samples = 0, ofSamples = 0;  // in which it was seen, of those at this place in these frames
    };
    std::optional<InFunction> function;
    std::vector<CauseArgument> arguments;
    uint64_t spikes = 0, frames = 0;  // whose main cause it is; with a share
    int64_t late = 0;
    uint32_t worstFrame = 0;
    Confidence confidence;          // of that frame
    std::optional<uint64_t> saved;  // late frames that would meet their deadline; of the costliest causes
};

struct SeriesSummary {
    std::string name;  // and key
    Figures figures;
    std::vector<StageSummary> stages;  // in order of their names; empty where the recording tells none
    std::vector<CauseSummary> causes;  // costliest first
};

struct MarkerSummary {
    std::string key;  // of its lane group and path
    std::string laneKey, name;
    uint64_t count = 0;
    int64_t total = 0, self = 0, longest = 0;
};

struct Summary {
    std::string recordingId, program, build;
    int64_t startedUnixNs = 0, length = 0;
    uint64_t markerCount = 0;
    std::vector<SeriesSummary> series;   // those that were explained
    std::vector<MarkerSummary> markers;  // the most time first; at most SummaryOptions::markers
};

struct SummaryOptions {
    size_t predicted = 10;  // causes for which `saved` is worked out
    size_t markers = 1000;
};

/// Of one recording, whose series were explained. Nothing where `progress` cancelled it.
std::optional<Summary> summaryOf(const std::vector<std::shared_ptr<const Explanation>>& explanations,
                                 const SummaryOptions& options = {}, const Progress& progress = {});

/// The key of a cause: where, of what kind, behind which lock, in which function; of CPU contention only whose doing it
/// is.
std::string causeKey(const Explanation& explanation, const Cause& cause);

}  // namespace fugato
