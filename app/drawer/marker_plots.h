// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the plots of the pages of one marker and of frames show.
#pragma once

#include "app/plots/bar_plot.h"
#include "app/plots/parts_list.h"
#include "core/ask/frame_figures.h"

namespace fugato {

/// How often it took how long; on a logarithmic axis where the longest is many times the shortest. Any thread.
BarPlot::Contents durationPlot(const Recording& recording, const MarkerStatistics& statistics);
/// The same of frames; two of them can be set side by side on one axis.
BarPlot::Contents frameLengthPlot(const QString& title, const FrameFigures& figures, int64_t shortest, int64_t longest);
/// Its time in each frame, over the recording. `choose`: selects a frame. `explanation`: says which are late; or null.
/// Costs a look at every frame in the scope. Any thread.
BarPlot::Contents framePlot(const Recording& recording, uint32_t series, const Explanation* explanation,
                            const MarkerStatistics& statistics, const std::function<void(uint32_t)>& choose);
/// The line that marks the selected occurrence, so many ns long, in the first of them, and a frame in the second.
BarPlot::Mark chosenDuration(const Recording& recording, const MarkerStatistics& statistics, int64_t duration);
BarPlot::Mark chosenFrame(const Recording& recording, uint32_t series, uint32_t frame);
/// By caller, stage, lane, and the values of its arguments.
std::vector<PartsList::Section> partsOf(const MarkerStatistics& statistics);

}  // namespace fugato
