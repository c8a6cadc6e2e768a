// SPDX-License-Identifier: GPL-3.0-or-later
//
// Explains: judges frames, works out what is usual, finds causes and gathers them. May run on any thread. The method
// with its formulas: docs/explanation.md.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

/// Causes that `previous` has too keep their letters. Null where cancelled.
/// stands: so many frames are taken over from `previous`, with their causes, with what is usual and with what comes
/// before; then only what is new is worked out. See explainIncrementally() in growing.h.
std::shared_ptr<const Explanation> explain(std::shared_ptr<const Recording> recording,
                                           std::shared_ptr<const CriticalPathSums> pathSums,
                                           const ExplainOptions& options, const Progress& progress = {},
                                           const Explanation* previous = nullptr, uint32_t stands = 0);

}  // namespace fugato
