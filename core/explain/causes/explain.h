// SPDX-License-Identifier: GPL-3.0-or-later
//
// Explains: judges frames, works out what is usual, finds causes and gathers them. May run on any thread. The method
// with its formulas: docs/explanation.md.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

/// budget: nanoseconds for every frame, 0 for each frame's own deadline. Causes that `previous` has too keep
/// their letters. Null where cancelled.
/// symbols: functions by which time without markers is named; null: it stays without names.
/// stands: so many frames are taken over from `previous`, with their causes, with what is usual and with what comes
/// before; then only what is new is worked out. See explainIncrementally() in growing.h.
std::shared_ptr<const Explanation> explain(std::shared_ptr<const Recording> recording,
                                           std::shared_ptr<const CriticalPathSums> pathSums, int64_t budget,
                                           const Progress& progress = {}, const Explanation* previous = nullptr,
                                           std::shared_ptr<const Symbols> symbols = nullptr, uint32_t stands = 0);

}  // namespace fugato
