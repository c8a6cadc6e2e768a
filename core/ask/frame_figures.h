// SPDX-License-Identifier: GPL-3.0-or-later
//
// The figures of the frames that begin in a scope, and the markers by which two scopes differ most. May run on any
// thread.
#pragma once

#include "core/explain/model/explanation.h"
#include "marker_statistics.h"
#include "nested_markers.h"

namespace fugato {

struct FrameFigures {
    size_t frames = 0, over = 0, near = 0;
    int64_t late = 0;  // ns over their deadlines in all
    // Of their durations; percentiles by nearest rank.
    int64_t shortest = 0, median = 0, p95 = 0, p99 = 0, longest = 0;
    uint32_t longestFrame = kNone;
    int64_t deadline = 0;  // of most of them
    /// From one frame to the next: the mean difference of their durations, of such as follow each other.
    int64_t unevenness = 0;
    size_t lateInARow = 0;  // the most
    uint32_t lateFrom = kNone;
    std::vector<int64_t> durations;  // ascending
};

/// Null where `progress` cancelled it.
std::shared_ptr<const FrameFigures> figuresOfFrames(const Explanation& explanation, const Scope& scope,
                                                    const Progress& progress = {});
/// As a person reads them, without full stops.
std::vector<std::string> textsOf(const FrameFigures& figures);

/// What a marker takes in a frame of one scope and of another; of all lanes with one role together.
struct MarkerDifference {
    uint32_t group = 0;  // of lanes
    PathId path = 0;
    double here = 0, there = 0;  // ns a frame
    double difference() const { return here - there; }
};
/// The one that differs most first. What waits is left out, and so is what only holds others that differ as much:
/// markers count with their own time.
std::vector<MarkerDifference> differencesOf(const Recording& recording, const NestedMarkers& here, size_t framesHere,
                                            const NestedMarkers& there, size_t framesThere);

}  // namespace fugato
