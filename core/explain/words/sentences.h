// SPDX-License-Identifier: GPL-3.0-or-later
//
// The explanation in plain words. Every screen, the command line and the reports use these.
#pragma once

#include "core/explain/simulation/what_if.h"
#include "quantities.h"
#include "templates.h"

namespace fugato {

/// "214 frames over budget, 3.10 s late in all, from 5 causes"; also for no frames and no late ones.
std::string verdictSentence(const Explanation& explanation);
/// "from 12.0 s to 20.0 s, stage Race": which frames are explained; "the whole recording".
std::string scopeText(const Explanation& explanation);
/// "mostly bound by CPU work on main": what most late frames are bound by; empty where none is late.
std::string boundPhrase(const Explanation& explanation);
/// "CPU work on main", "waiting", "CPU contention"…
std::string boundText(const Recording& recording, BoundBy by, uint32_t group);
/// "With A and C repaired 12 frames are late instead of 50, 0.20 s in all"
std::string trialSentence(const Explanation& explanation, const Prediction& prediction);
/// "Replay ▸ Flush", or the lane's state where no marker is open.
std::string causePlace(const Explanation& explanation, const Cause& cause);
/// The same with all that tells it from other causes: "png_read_row in Load level" where call stacks tell the function,
/// "Starting up: Load level".
std::string causeTitle(const Explanation& explanation, const Cause& cause);
/// "waits: lock held on autosave", "more calls: 96, usually 4", "never in a usual frame"…
std::string causeKindPhrase(const Explanation& explanation, const Cause& cause);
/// "file = reef.png", "boats of ‘Race’ = 48, usually 12".
std::string argumentWords(const CauseArgument& argument);
/// Of those that are not listed: "7 smaller causes: 83 ms late in all".
std::string smallerCausesText(const Explanation& explanation);
/// What the repairs of a prediction would bring: "If this took its usual time, 36 of its 38 late frames would meet
/// their deadline; 12 frames stay late, most of all from B."
/// `selected`: the cause that “this” stands for; kNone: that of the only repair.
std::string whatIfSentence(const Explanation& e, const Prediction& prediction, uint32_t selected = kNone);
/// What a part of a frame is called: "Replay ▸ Flush", "Wait for wind ▸ waking"…
std::string partTitle(const Recording& recording, const PartKey& key);

/// Who has less than this part of the most is not named beside it.
inline constexpr double kHardlyAny = 0.02;
/// Who had the cores: "sh (26.0 ms), find (3.1 ms) and 2 more (0.8 ms)"; times only where there are several.
std::string holdersText(const Recording& recording, const std::vector<ContentionPart>& contentionParts, size_t most,
                        bool times);
std::string joined(const std::vector<std::string>& words);  // "A, B and C"

/// How it is told that a lane waited in some way, or ran and was waited for.
const say::WaitTemplates& waitTemplates(SegmentKind kind);
std::string callsText(double calls);  // "96", "2.5"

}  // namespace fugato
