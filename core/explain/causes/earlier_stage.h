// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where several series of frames form a pipeline (loop, drawing, queue, display), a late frame of one may only pass on
// that a frame of another was late.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

/// A late frame of another series that ended before the frame asked about did, and on whose own critical path lies at
/// least half of the time that its main cause took. Where who ended the wait that is its main cause is not known,
/// likely also one that ended as the wait did, and was late by at least half of that time.
struct EarlierStage {
    uint32_t series = 0, frame = 0;
    int64_t overrun = 0;
    bool likely = false;
};
/// Those that a late frame came through, the earliest first.
/// `segments`: the frame's critical path (Explanation::segmentsOf).
std::vector<EarlierStage> earlierStages(const Explanation& explanation, uint32_t frame,
                                        std::span<const Segment> segments);

}  // namespace fugato
