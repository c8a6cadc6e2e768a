// SPDX-License-Identifier: GPL-3.0-or-later
//
// How much a finding can be relied on: high where everything that it rests on was recorded and fits together, medium
// where something is missing that could make it look different, low where it is no more than a place to look at.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

enum class ConfidenceLevel : uint8_t { High, Medium, Low };
const char* confidenceName(ConfidenceLevel level);  // "high", "medium", "low"

struct Confidence {
    ConfidenceLevel level = ConfidenceLevel::High;
    std::vector<std::string> doubts;  // "it is compared with only 11 frames in budget"; none where it is high
};

/// Of the finding that a cause made a late frame late. `segments`: the frame's critical path
/// (Explanation::segmentsOf).
Confidence confidenceOf(const Explanation& explanation, uint32_t frame, const Cause& cause,
                        std::span<const Segment> segments);
/// "Confidence: medium. It is compared with only 11 frames in budget."
std::string confidenceSentence(const Confidence& confidence);

}  // namespace fugato
