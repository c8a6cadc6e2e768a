// SPDX-License-Identifier: GPL-3.0-or-later
//
// The markers in a scope put together in several ways: from the outermost in or from the leaves up, by marker,
// category, lane or role, and around one marker: who calls it and what it calls. Costs what the nested ones cost to
// look at. May run on any thread.
#pragma once

#include <string>

#include "nested_markers.h"

namespace fugato {

enum class MarkersBy : uint8_t {
    Lane,      // nested on each lane
    Role,      // the same, of all lanes with one role together
    Leaves,    // each marker with its own time, below it who called it
    Marker,    // each marker, wherever it occurs
    Category,  // the same below their categories
    Around,    // one marker: who calls it, and what it calls
};

struct GroupedMarker : MarkerSum {
    std::string name;
    bool group = false;     // no marker, but what holds some: a lane, a role, a category
    uint32_t site = kNone;  // of a marker
    uint32_t lane = kNone;  // where it is one
    PathId path = 0;        // where it is one
    FunctionId function = kNone;
    uint32_t samples = 0;
    uint64_t key = 0;  // the same for the same thing in another scope
    std::vector<uint32_t> children;
};

struct GroupedMarkers {
    MarkersBy by{};
    std::shared_ptr<const NestedMarkers> from;
    std::vector<GroupedMarker> rows;
    std::vector<uint32_t> top;
};

/// The key of a lane's marker path among those by lane.
inline uint64_t keyOfPath(uint32_t lane, PathId path) { return uint64_t{lane} << 32 | path; }

/// `site`: of Around.
std::shared_ptr<const GroupedMarkers> groupedMarkers(const Recording& recording,
                                                     std::shared_ptr<const NestedMarkers> nested, MarkersBy by,
                                                     uint32_t site = kNone);

}  // namespace fugato
