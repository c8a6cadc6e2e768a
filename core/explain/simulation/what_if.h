// SPDX-License-Identifier: GPL-3.0-or-later
//
// What would be if causes were repaired: late frames and what led to them run again on paper, along the
// dependencies that were recorded, with the causes' work taken out. The method: docs/explanation.md.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

struct Repair {
    uint32_t cause = 0;  // index in Explanation::causes
    bool gone = false;   // true: it takes no time at all; false: its usual time
    bool operator==(const Repair&) const = default;
};

struct Prediction {
    std::vector<Repair> repairs;
    std::vector<int64_t> duration;  // per frame, as predicted
    std::vector<int64_t> overrun;
    std::vector<int64_t> lateBy;  // by cause: time late that is left to it; 0 for those repaired
    uint32_t over = 0;            // frames
    uint32_t saved = 0;           // late frames that then meet their deadline
    int64_t late = 0;
    uint32_t nextCause = kNone;  // the costliest of those that are left
};

/// Null where `progress` cancelled it. Any number of threads may predict at once.
std::shared_ptr<const Prediction> predict(const Explanation& explanation, std::vector<Repair> repairs,
                                          const Progress& progress = {});

/// A prediction for what a growing recording was, told of what it has become: with the same causes, and the frames that
/// have come since as they were recorded. Until it is worked out anew.
std::shared_ptr<const Prediction> carriedOver(const Prediction& prediction, const Explanation& from,
                                              const Explanation& to);

}  // namespace fugato
