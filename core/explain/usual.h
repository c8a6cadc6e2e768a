// SPDX-License-Identifier: GPL-3.0-or-later
//
// What is usual: the usual frame of a stage, and how a marker runs in usual frames whether or not anybody
// waits for it there. Only the parts of core/explain use this.
#pragma once

#include <unordered_map>

#include "explanation.h"

namespace fugato {

/// Fills e.baselines, and the baseline of each frame. The frames must have been judged.
void makeBaselines(Explanation& e);

struct UsualOccurrence {
    double calls = 0;      // median per frame of the sample
    double mostCalls = 0;  // 95th percentile
    double meanNs = 0;
    double middleNs = 0;     // median duration
    uint64_t presentIn = 0;  // a bit for each frame of the sample in which it occurs
};

/// Looks into a baseline's sample when first asked. Belongs to one thread; the explanation outlives it.
class UsualOccurrences {
public:
    explicit UsualOccurrences(const Explanation& e);
    UsualOccurrence of(uint32_t baseline, uint32_t group, PathId path);
    /// Whether it hardly ever occurs in usual frames, other than those just before late ones: what makes a frame late
    /// may have begun there.
    bool rare(const UsualOccurrence& usual, uint32_t frame) const;

private:
    void look(uint32_t baseline);
    const Explanation& e_;
    std::vector<uint64_t>
        beforeLate_;  // by baseline: a bit for each frame of the sample that lies just before a late one
    std::vector<std::unordered_map<uint64_t, UsualOccurrence>> known_;  // by baseline
};

}  // namespace fugato
