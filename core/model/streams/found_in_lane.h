// SPDX-License-Identifier: GPL-3.0-or-later
//
// What one lane found; each stream takes its own kind out of it.
#pragma once

#include "core/model/lane_builder.h"

namespace fugato {

struct FoundInLane {
    uint32_t lane;
    LaneFinds& finds;
    const Column<PathId>& paths;  // the recording's numbers by the lane's own
};

}  // namespace fugato
