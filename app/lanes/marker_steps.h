// SPDX-License-Identifier: GPL-3.0-or-later
//
// Which marker lies beside another, as the arrow keys go: in its row, around it, inside it, and from lane to lane.
#pragma once

#include <vector>

#include "core/model/recording.h"

namespace fugato {

enum class MarkerStep : uint8_t { Next, Previous, In, Out };

/// The marker one step from `from`, or an invalid one where there is none. In goes on to the first marker of the next
/// lane where nothing lies inside, Out to the lane before where nothing lies around. `lanes`: from top to bottom; those
/// without a marker in [begin, end) are passed over. An invalid `from`: the first marker in sight.
MarkerRef markerBeside(const Recording& recording, const std::vector<uint32_t>& lanes, int64_t begin, int64_t end,
                       const MarkerRef& from, MarkerStep step);

}  // namespace fugato
