// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a range of time held, as nested markers per lane: the table of a selection. Costs what the
// summaries of the range cost, not its markers. May run on any thread.
#pragma once

#include "time_range.h"

namespace fugato {

struct RangeRow {
    uint32_t lane = 0;
    PathId path = 0;                 // 0: the lane itself; its total is the time inside markers
    uint64_t count = 0;              // occurrences that overlap the range
    int64_t total = 0, self = 0;     // ns inside the range; self: not in markers below
    int64_t longest = 0;             // ns of the longest occurrence, also outside the range
    std::vector<uint32_t> children;  // rows, the largest total first
};

struct RangeTable {
    TimeRange range;
    std::vector<RangeRow> rows;
    std::vector<uint32_t> lanes;  // the rows of the lanes that have markers in it, as lanes are shown
};

/// Null where `progress` cancelled it.
std::shared_ptr<const RangeTable> tableOfRange(const Recording& recording, const TimeRange& range,
                                               const Progress& progress = {});

}  // namespace fugato
