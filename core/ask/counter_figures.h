// SPDX-License-Identifier: GPL-3.0-or-later
//
// Counters and states at an instant and over a scope, and which counters were beyond their thresholds when frames were
// late. Costs a look at every value in the scope. May run on any thread.
#pragma once

#include <optional>
#include <string>

#include "core/explain/model/explanation.h"
#include "scope.h"

namespace fugato {

struct CounterFigures {
    uint32_t counter = 0;
    std::optional<double> now;  // at the instant; nothing before its first value
    // Of the values that hold in the scope, where there are any; the mean by how long each holds.
    std::optional<double> least, mean, greatest;
    uint64_t values = 0;  // told in it
    // Frames in the scope in which it was above its threshold at some time.
    size_t lateBeyond = 0, otherBeyond = 0;
};
struct StateTime {
    std::string value;
    int64_t ns = 0;      // in the scope
    uint64_t times = 0;  // entered, or gone on with
};
struct StateFigures {
    uint32_t state = 0;
    std::string now;               // at the instant; empty: none
    std::vector<StateTime> times;  // the longest first
};
struct CounterAndStateFigures {
    std::vector<CounterFigures> counters;
    std::vector<StateFigures> states;
    size_t lateFrames = 0, otherFrames = 0;  // in the scope
};

/// `explanation`: of the frames; null: none are judged. Null where `progress` cancelled it.
std::shared_ptr<const CounterAndStateFigures> counterFigures(const Recording& recording, const Explanation* explanation,
                                                             const Scope& scope, int64_t instant,
                                                             const Progress& progress = {});

}  // namespace fugato
