// SPDX-License-Identifier: GPL-3.0-or-later
//
// What one frame's explanation says: its sentences, and its waterfall from a usual frame's time.
#pragma once

#include "sentences.h"

namespace fugato {

/// One sentence about a frame and the place on the timeline that it speaks of.
struct Sentence {
    std::string text;
    int64_t begin = 0, end = 0;  // begin == end: no place
    uint32_t lane = kNone;
};
/// `segments`: Explanation::segmentsOf(frame).
std::vector<Sentence> frameSentences(const Explanation& explanation, uint32_t frame, std::span<const Segment> segments);
std::vector<Sentence> frameSentences(const Explanation& explanation, uint32_t frame);

/// One step of the waterfall from a usual frame to this one.
struct WaterfallStep {
    std::string title;
    int64_t excess = 0;
    PartKey key;
    bool rest = false;       // everything that got no step of its own
    int64_t notRunning = 0;  // the part of the excess that was not running: waiting, blocked, without a core
};
/// The causes of a late frame, or the `most` largest differences of another, in order; then the rest, if any.
/// They add up to the whole difference.
std::vector<WaterfallStep> waterfallOf(const Explanation& explanation, uint32_t frame, size_t most = 6);

}  // namespace fugato
