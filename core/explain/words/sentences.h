// SPDX-License-Identifier: GPL-3.0-or-later
//
// The explanation in plain words. Every screen, the command line and the reports use these.
#pragma once

#include "core/explain/simulation/what_if.h"
#include "quantities.h"

namespace fugato {

/// "214 frames over budget, 3.10 s late in all, from 5 causes"; also for no frames and no late ones.
std::string verdictSentence(const Explanation& explanation);
/// "mostly bound by CPU work on main": what most late frames are bound by; empty where none is late.
std::string boundPhrase(const Explanation& explanation);
/// "CPU work on main", "waiting", "CPU contention"…
std::string boundText(const Recording& recording, BoundBy by, uint32_t group);
/// "With A and C repaired 12 frames are late instead of 50, 0.20 s in all"
std::string trialSentence(const Explanation& explanation, const Prediction& prediction);
/// "Replay ▸ Flush", or the lane's state where no marker is open.
std::string causeTitle(const Explanation& explanation, const Cause& cause);
/// "waits: lock held on autosave", "more calls: 96, usually 4", "never in a usual frame"…
std::string causeKindPhrase(const Explanation& explanation, const Cause& cause);
/// What the repairs of a prediction would bring: "If this took its usual time, 36 of its 38 late frames would meet
/// their deadline; 12 frames stay late, most of all from B."
std::string whatIfSentence(const Explanation& e, const Prediction& prediction);
/// What a part of a frame is called: "Replay ▸ Flush", "Wait for wind ▸ waking"…
std::string partTitle(const Recording& recording, const PartKey& key);

/// "waits for a lock", "waits in a queue"…: what a lane does during a segment.
const char* waitedFor(SegmentKind kind);
std::string callsText(double calls);  // "96", "2.5"

}  // namespace fugato
