// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where markers tell nothing: time inside a marker, and on a lane outside all of them, that lies in no marker below and
// is no wait. Costs a look at every marker in the scope. May run on any thread.
#pragma once

#include <vector>

#include "scope.h"

namespace fugato {

struct Unmarked {
    uint32_t lane = 0;
    PathId path = 0;     // of the marker around it; 0: outside all markers
    int64_t total = 0;   // ns, in the scope
    int64_t around = 0;  // ns in the scope of the markers that have such time; of path 0: of the scope
    uint64_t stretches = 0;
    TimeRange longest;  // within one stretch of the scope
};

struct Coverage {
    std::vector<Unmarked> unmarked;  // the longest stretch first, outside all markers last; at most kMostUnmarked
    std::vector<uint32_t> missing;   // sites that the recording knows and that do not occur in the scope, by name
    std::vector<uint8_t> elsewhere;  // of each of these: 1 where it occurs elsewhere in the recording
};
inline constexpr size_t kMostUnmarked = 10'000;

/// Null where `progress` cancelled it.
std::shared_ptr<const Coverage> coverageOf(const Recording& recording, const Scope& scope,
                                           const Progress& progress = {});

}  // namespace fugato
