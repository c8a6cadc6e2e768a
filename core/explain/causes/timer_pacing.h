// SPDX-License-Identifier: GPL-3.0-or-later
//
// Loops that sleep until their next tick and do not say so: how such a loop is recognised, and what its frames may
// last. Only reads the recording; may be used on any thread.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

/// What a series' frames tell, or nothing (tick 0) where they are not held to a timer: at least half of them last one
/// tick, which is near their deadline, and usually a part of each is a wait on their own lane that nobody is known to
/// end.
TimerPacing findTimerPacing(const Explanation& explanation);

}  // namespace fugato
