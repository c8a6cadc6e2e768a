// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the plots of the page of one marker show.
#pragma once

#include "app/plots/bar_plot.h"
#include "app/plots/parts_list.h"
#include "core/ask/marker_statistics.h"
#include "core/explain/model/explanation.h"

namespace fugato {

/// How often it took how long; on a logarithmic axis where the longest is many times the shortest. `chosen`: ns of the
/// selected occurrence, or below 0.
BarPlot::Contents durationPlot(const Recording& recording, const MarkerStatistics& statistics, int64_t chosen);
/// Its time in each frame, over the recording. `choose`: selects a frame. `explanation`: says which are late; or null.
BarPlot::Contents framePlot(const Recording& recording, uint32_t series, const Explanation* explanation,
                            const MarkerStatistics& statistics, uint32_t frame,
                            const std::function<void(uint32_t)>& choose);
/// By caller, stage, lane, and the values of its arguments.
std::vector<PartsList::Section> partsOf(const MarkerStatistics& statistics);

}  // namespace fugato
