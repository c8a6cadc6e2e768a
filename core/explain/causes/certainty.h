// SPDX-License-Identifier: GPL-3.0-or-later
//
// How sure a finding is: certain where everything that it rests on was recorded and fits together, likely where
// something is missing that could make it look different, a hint where it is no more than a place to look at.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

enum class Certainty : uint8_t { Certain, Likely, Hint };
const char* certaintyName(Certainty certainty);  // "certain", "likely", "a hint"

struct Sureness {
    Certainty certainty = Certainty::Certain;
    std::vector<std::string> doubts;  // "it is compared with only 11 frames in budget"; none where it is certain
};

/// How sure it is that a cause made a late frame late. `segments`: the frame's critical path (Explanation::segmentsOf).
Sureness surenessOf(const Explanation& explanation, uint32_t frame, const Cause& cause,
                    std::span<const Segment> segments);
/// "Certain: …", "Likely, not certain: …", "No more than a hint: …".
std::string surenessSentence(const Sureness& sureness);

}  // namespace fugato
