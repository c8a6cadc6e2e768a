// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once

#include "recording.h"

namespace fugato {

/// The lanes as they are shown and listed where nobody arranged them: the first series' own lane, threads, queues,
/// threads without markers. Those that only count, and threads that never ran, are left out.
std::vector<uint32_t> lanesInOrder(const Recording& recording);

}  // namespace fugato
