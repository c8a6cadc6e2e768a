// SPDX-License-Identifier: GPL-3.0-or-later
//
// What regularly comes just before the spikes of a cause: an input, a message, a change of state. Only the parts
// of core/explain use this.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

/// When the work of a spike's origin may have been set off.
std::pair<int64_t, int64_t> justBefore(const Explanation& e, const Spike& spike);
/// Fills Cause::before of the costliest causes. Spikes must have been found.
void findWhatComesBefore(Explanation& e);

}  // namespace fugato
