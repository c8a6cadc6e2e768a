// SPDX-License-Identifier: GPL-3.0-or-later
//
// What measuring itself cost: each marker takes as long as the recorder measured at its start (the fact
// "marker cost ns"), so the markers that begin in a range of a lane tell how much of it was measuring.
#pragma once

#include "core/model/recording.h"

namespace fugato {

/// Above this share of a series' frames measuring is worth a word to the person.
inline constexpr double kMeasuringLimit = 0.02;

struct FrequentMarker {
    uint32_t site = 0;
    uint64_t count = 0;
    double perFrame = 0;       // in the frames of the series, on their own lane
    double shareOfFrames = 0;  // of the frames' time that measuring this marker took
};

struct Measuring {
    double markerCostNs = 0;  // 0: not recorded, and nothing below is known
    int64_t inFrames = 0;     // ns, on the frames' own lanes
    double share = 0;         // of the frames' time
    double worstShare = 0;    // the frame with the most
    uint32_t worstFrame = kNone;
    std::vector<FrequentMarker> most;  // entered most often in all lanes, at most ten
    bool overLimit() const { return share > kMeasuringLimit; }
};

Measuring measuringOf(const Recording& recording, uint32_t series);
/// Nanoseconds of one frame, on its own lane, that were measuring.
int64_t measuringInFrame(const Recording& recording, const Frame& frame, double markerCostNs);
/// One sentence with what to do; empty where measuring stayed below the limit.
std::string measuringAdvice(const Recording& recording, const Measuring& measuring);

}  // namespace fugato
