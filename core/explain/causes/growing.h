// SPDX-License-Identifier: GPL-3.0-or-later
//
// A recording that grows is explained further: what was worked out for frames that nothing can change any more is
// kept, and only what is new is worked out. What is usual is worked out anew, and with it everything, whenever there
// is an eighth more frames than the last time, so that all of it together costs a few times as much as explaining the
// whole once. May run on any thread.
#pragma once

#include "explain.h"

namespace fugato {

/// So many frames from the first on are the same in `now`, which was read later, and nothing that was added can
/// belong to their critical paths. 0 where numbers (of paths, lane groups, locks) do not mean the same any more.
uint32_t framesThatStand(const Explanation& before, const Recording& now);

/// Explains the same series of a recording that has grown. Null where cancelled.
std::shared_ptr<const Explanation> explainIncrementally(std::shared_ptr<const Recording> now, const Explanation& before,
                                                        const Progress& progress = {});

}  // namespace fugato
