// SPDX-License-Identifier: GPL-3.0-or-later
//
// The causes of all late frames together, gathered frame by frame, their spikes and what they are bound by. Of a
// recording that grows, what was gathered of the frames that stand is copied and goes on from there. Only the parts of
// core/explain use this.
#pragma once

#include <map>

#include "cause_functions.h"

namespace fugato {

class GatheredCauses {
public:
    /// The late frames before this frame are gathered.
    uint32_t upTo() const { return upTo_; }

    /// Adds the late frames before frame `upTo` that are not gathered yet, and stores in their verdicts which shares
    /// are theirs and to which spike they belong.
    void addUpTo(Explanation& e, uint32_t upTo, const FoundCauses& found, const std::vector<NamedFunction>& named);
    /// Whether the frames gathered so far had the same functions as in `named`; if not, gathering must start anew.
    bool goesOnWith(const std::vector<NamedFunction>& named) const;
    /// Settles kinds and means, and puts the costliest first: e.causes, shares, spikes and what most late frames are
    /// bound by. Moves its content to `e`. `previous`: causes that it has keep their letters; may be null.
    void finish(Explanation& e, const Explanation* previous);

private:
    struct Sum {
        std::array<int64_t, kCauseKinds> byKind{};
        std::array<int64_t, kSegmentKinds> byPiece{};
        double calls = 0, usualCalls = 0, slowdown = 0;
        bool oneFunction = true;                                             // in all frames the same one, or none
        std::map<std::pair<uint32_t, CoreHolder>, int64_t> contentionParts;  // by lane group and holder
    };
    std::span<const CauseShare> sharesOf(const FrameVerdict& verdict) const {
        return {shares_.data() + verdict.sharesFrom, verdict.sharesCount};
    }
    void addFrame(Explanation& e, uint32_t frame, std::span<const FoundCause> causes, const NamedFunction* named);
    uint32_t add(uint32_t frame, bool startUp, const FoundCause& found, const NamedFunction& named, int64_t late);
    void addToSpikes(Explanation& e, uint32_t frame);
    void endSpike(const Explanation& e);
    void tellBound(Explanation& e) const;
    static void addContention(Sum& sum, const FoundCause& found, int64_t late);
    static void giveLetters(Explanation& e, const Explanation* previous);

    size_t late_ = 0;  // number of late frames gathered
    uint32_t upTo_ = 0;
    std::vector<Cause> causes_;  // in the order in which they were found
    std::vector<Sum> sums_;      // by cause
    std::map<CauseKey, uint32_t> indexOf_;
    std::vector<CauseShare> shares_;
    std::vector<NamedFunction> named_;
    std::vector<Spike> spikes_;                            // `cause` is an index into causes_
    std::vector<std::pair<uint32_t, int64_t>> lastSpike_;  // time late by cause of the last spike
    std::map<std::pair<BoundBy, uint32_t>, size_t> bound_;
};

}  // namespace fugato
