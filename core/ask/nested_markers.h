// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a scope held, as markers nested on their lanes. Costs what the summaries of its stretches cost, not its markers.
// May run on any thread.
#pragma once

#include "core/symbols/symbols.h"
#include "scope.h"

namespace fugato {

/// What the occurrences of a marker come to.
struct MarkerSum {
    static constexpr int64_t kUnknown = -1;
    uint64_t count = 0;           // occurrences that overlap the scope
    int64_t total = 0, self = 0;  // ns inside the scope; self: not in markers below
    int64_t longest = 0;          // ns of the longest occurrence, also outside the scope
    bool wait = false;            // its first occurrence in the scope is one
    MarkerRef first;              // its first occurrence in the scope; not valid where there is none
    // Where they are known (usual_markers.h); else kUnknown.
    int64_t usual = kUnknown;  // of total
    int64_t ran = kUnknown;    // of total, while its thread had a core
    // While it was open, where allocations were recorded.
    uint64_t allocations = 0, allocated = 0;  // number, bytes
    int64_t excess() const { return total - usual; }
};

struct NestedMarker : MarkerSum {
    uint32_t lane = 0;
    PathId path = 0;  // 0: the lane itself; its total is its busy time, markers less waits
    /// Below a marker or a lane: a function that its own call stacks name, and in how many of them; 0: it was blocked
    /// there.
    FunctionId function = kNone;
    uint32_t samples = 0;
    std::vector<uint32_t> children;  // rows, the largest total first
};

struct NestedMarkers {
    Scope scope;
    std::vector<NestedMarker> rows;
    std::vector<uint32_t> lanes;  // the rows of the lanes that have any, as lanes are shown
    // Of the frames in the scope, where they are known (usual_markers.h); of one that lies in it in part, that part.
    double frames = 0;
    int64_t frameTime = 0, budget = 0;  // their durations, and what these may be; ns
    bool late = false;                  // some of them are
    uint64_t markers() const;           // occurrences
};

/// Null where `progress` cancelled it.
std::shared_ptr<NestedMarkers> nestedMarkers(const Recording& recording, const Scope& scope,
                                             const Progress& progress = {});

}  // namespace fugato
