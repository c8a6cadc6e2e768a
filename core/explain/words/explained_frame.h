// SPDX-License-Identifier: GPL-3.0-or-later
//
// Everything that is told and drawn of one frame: its critical path, what of it made it late and how strongly, the
// waterfall from a usual frame's time, its sentences. Worked out in one go, since a frame may hold very much; may run
// on any thread, and never changes afterwards.
#pragma once

#include <unordered_map>

#include "frame_sentences.h"

namespace fugato {

struct ExplainedFrame {
    std::shared_ptr<const Explanation> explanation;
    uint32_t frame = 0;

    std::vector<Segment> segments;  // of its critical path, latest first
    struct Stay {                   // of the critical path on one lane
        uint32_t lane = 0;
        int64_t begin = 0, end = 0;
    };
    std::vector<Stay> path;          // latest first
    std::vector<bool> onPath;        // by lane
    std::vector<Segment> contended;  // segments of CPU contention, where that made it late
    /// How strongly a marker path of a lane group shows what made the frame late: near 1 the causes themselves, little
    /// their callers; 0 the others.
    double strengthOf(uint32_t group, PathId marker) const {
        const auto found = strengths.find(uint64_t{group} << 32 | marker);
        return found == strengths.end() ? 0 : found->second;
    }
    std::unordered_map<uint64_t, double> strengths;

    std::vector<WaterfallStep> waterfall;
    std::vector<Sentence> sentences;

    const Frame& times() const { return explanation->frame(frame); }
    const FrameVerdict& verdict() const { return explanation->frames[frame]; }
};

std::shared_ptr<const ExplainedFrame> explainedFrame(std::shared_ptr<const Explanation> explanation, uint32_t frame);

}  // namespace fugato
