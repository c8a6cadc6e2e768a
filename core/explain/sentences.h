// SPDX-License-Identifier: GPL-3.0-or-later
//
// The explanation in plain words. Every screen, the command line and the reports use these.
#pragma once

#include "what_if.h"

namespace fugato {

std::string msText(int64_t ns, int decimals = 1);        // "41.3"
std::string durationText(int64_t ns);                    // "3.10 s", "41.3 ms", "820 µs", "95 ns"
std::string signedMsText(int64_t ns, int decimals = 1);  // "+18.6", "−0.4"
std::string countText(uint64_t count);                   // "9 402", with narrow spaces
std::string plural(uint64_t count, const std::string& one, const std::string& many);  // "1 frame"

/// "214 frames over budget, 3.10 s late in all, from 5 causes"; also for no frames and no late ones.
std::string verdictSentence(const Explanation& explanation);
/// "mostly bound by CPU work on main": what most late frames are bound by; empty where none is late.
std::string boundPhrase(const Explanation& explanation);
/// "CPU work on main", "waiting", "want of a core"…
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

/// One sentence about a frame and the place on the timeline that it speaks of.
struct Sentence {
    std::string text;
    int64_t begin = 0, end = 0;  // begin == end: no place
    uint32_t lane = kNone;
};
std::vector<Sentence> frameSentences(const Explanation& explanation, uint32_t frame);

/// One rung of the ladder from a usual frame to this one.
struct Rung {
    std::string title;
    int64_t excess = 0;
    PartKey key;
    bool rest = false;  // everything that got no rung of its own
    bool waiting = false;
};
/// The causes of a late frame, or the `most` largest differences of another, in order; then the rest, if any.
/// They add up to the whole difference.
std::vector<Rung> ladder(const Explanation& explanation, uint32_t frame, size_t most = 6);

}  // namespace fugato
