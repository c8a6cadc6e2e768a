// SPDX-License-Identifier: GPL-3.0-or-later
//
// Instants that one measures from and to: begins and ends of markers and frames, points, changes of counters. Times are
// nanoseconds. May run on any thread; costs a search in each list it looks at.
#pragma once

#include <optional>

#include "core/model/recording.h"

namespace fugato {

enum class EdgeOf : uint8_t { Markers, Frames, Points, Counters };

/// The edge nearest after an instant, or before it; none where that was the last one. `lane`: of markers, all rows of
/// it; of points, kNone for those of every lane. `series`: of frames.
std::optional<int64_t> edgeBeside(const Recording& recording, EdgeOf of, uint32_t lane, uint32_t series, int64_t from,
                                  bool forward);

/// The begin or end of a marker of one row that lies nearest to an instant, at most `reach` away.
std::optional<int64_t> edgeNear(const MarkerRow& row, int64_t time, int64_t reach);

}  // namespace fugato
