// SPDX-License-Identifier: GPL-3.0-or-later
//
// A Summary as JSON; docs/cli.md describes it.
#pragma once

#include <nlohmann/json.hpp>

#include "core/summary/summary.h"

namespace fugato {

inline double milliseconds(int64_t ns) { return static_cast<double>(ns) * 1e-6; }

/// An object with `recording`, `series`, `spikes` (empty, to be filled), `causes` and `markers`.
nlohmann::ordered_json summaryJson(const Summary& summary);

}  // namespace fugato
