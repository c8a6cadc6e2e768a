// SPDX-License-Identifier: GPL-3.0-or-later
//
// Which values of its marker's arguments go with a cause: this file, this level, so many of them. The rules:
// docs/explanation.md. Only the parts of core/explain use this.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

/// The longest occurrence of a cause's marker in one of its frames; not valid where the cause is no marker's, or has
/// none there. Costs a look at the frame's markers at that depth.
MarkerRef longestOccurrenceIn(const Explanation& e, uint32_t frame, const Cause& cause);
/// Fills Cause::arguments of the costliest causes.
void findArguments(Explanation& e);

}  // namespace fugato
