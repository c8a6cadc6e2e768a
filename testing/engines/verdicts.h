// SPDX-License-Identifier: GPL-3.0-or-later
//
// Puts an explanation beside the truth of an engine's run.
#pragma once

#include "core/explain/causes/explain.h"
#include "core/explain/simulation/what_if.h"
#include "engines.h"

namespace engines {

/// Runs an engine, without the troubles of `repaired`, and explains the series that its first trouble is about
/// (the first series where it has none).
struct Explained {
    std::shared_ptr<const fugato::Explanation> explanation;
    std::vector<Expected> expected;
};
Explained explainedRun(const Settings& settings, const std::set<Trouble>& repaired = {});

/// Whether a cause says what was planted: kind, lane and marker, or who had the cores.
bool names(const fugato::Explanation& explanation, const fugato::Cause& cause, const Expected& expected);
/// The index of the cause that names it, or kNone.
uint32_t causeOf(const fugato::Explanation& explanation, const Expected& expected);
/// Which noise goes with a seed: drift, a heavier every fourth frame, a warm-up, or none of them; a device's clock
/// that goes before, behind or with the others.
Noise noiseOf(uint64_t seed);
/// "main: Frame ▸ Tides, slower; …" of the costliest causes, for failures.
std::string causesText(const fugato::Explanation& explanation);

}  // namespace engines
