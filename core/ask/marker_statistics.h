// SPDX-License-Identifier: GPL-3.0-or-later
//
// What can be said of one marker in a scope: how often, how long, per frame. May run on any thread.
#pragma once

#include <string>
#include <vector>

#include "scope.h"

namespace fugato {

/// Of a marker's occurrences those that have something in common.
struct MarkerPart {
    std::string name;
    uint64_t count = 0;
    int64_t total = 0, longest = 0;  // ns of whole occurrences
    int64_t mean() const { return count ? total / static_cast<int64_t>(count) : 0; }
    bool operator==(const MarkerPart&) const = default;
};
/// So many occurrences lasted from `from` to before `to` ns.
struct DurationBar {
    int64_t from = 0, to = 0;
    uint64_t count = 0;
};
/// An argument that some of them have, by its values.
struct MarkerArgument {
    std::string key;
    std::vector<MarkerPart> values;  // at most kMostArgumentValues, the most time first
    uint64_t others = 0;             // occurrences with other values
};
inline constexpr size_t kMostArgumentValues = 12;

struct MarkerStatistics {
    uint32_t site = 0;
    Scope scope;
    uint64_t count = 0;  // occurrences that overlap the scope
    // ns inside the scope. An occurrence inside another of the same marker does not add to the total.
    int64_t total = 0, self = 0;
    // ns of whole occurrences; percentiles by nearest rank: of n durations in order, the one at ⌈p·n⌉.
    int64_t shortest = 0, median = 0, p95 = 0, p99 = 0, longest = 0;
    // Of a series' frames that begin in the scope; an occurrence belongs to the frame it begins in.
    uint64_t frames = 0, framesWithIt = 0;
    double callsPerFrame = 0, nsPerFrame = 0;  // means over `frames`
    uint32_t worstFrame = kNone;               // with the most time in it
    int64_t worstFrameNs = 0;
    uint32_t firstFrame = 0;
    std::vector<int64_t> inFrame;        // ns by frame, from the first one on; below 0: it does not begin in the scope
    std::vector<DurationBar> durations;  // those that hold any, ascending; their borders lie at most 1/128 apart
    std::vector<MarkerPart> byStage, byCaller, byLane;  // the most time first
    std::vector<MarkerArgument> byArgument;             // the one that most of them have first
};

/// `series`: whose frames count; kNone: none. Null where `progress` cancelled it.
std::shared_ptr<const MarkerStatistics> statisticsOf(const Recording& recording, uint32_t site, const Scope& scope,
                                                     uint32_t series, const Progress& progress = {});

/// The same as a person reads it, without full stops: how often and how long in all; the lengths; by frame.
std::vector<std::string> figuresOf(const MarkerStatistics& statistics);

}  // namespace fugato
