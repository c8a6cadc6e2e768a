// SPDX-License-Identifier: GPL-3.0-or-later
//
// Everything that is known of one instant: the frames in it, what every lane does, states, counters, memory in use,
// operations that go on; and which picture of the screen is the nearest before it. May run on any thread; costs a
// search in each list.
#pragma once

#include "core/table/table.h"

namespace fugato {

enum InstantColumn : size_t { kInstantWhat, kInstantValue, kInstantFor, kInstantWhole };
std::shared_ptr<const Table> instantTable(std::shared_ptr<const Recording> recording, int64_t instant);

/// The last picture of the screen that was taken at an instant or before, or kNoPicture.
size_t pictureAt(const Recording& recording, int64_t instant);
inline constexpr size_t kNoPicture = static_cast<size_t>(-1);

}  // namespace fugato
