// SPDX-License-Identifier: GPL-3.0-or-later
//
// Threads that must answer at once (the one of a window) say so; work that may take long says so where it begins. Where
// the two meet, somebody would wait: that is counted, and tests look at it. Costs nothing elsewhere.
#pragma once

#include <string>
#include <vector>

namespace fugato {

/// This thread must answer at once from now on, or no longer.
void keepThreadQuick(bool quick = true);
/// Work that may take long begins on this thread.
void longWork(const char* what);
/// What began on threads that must answer at once, since the program's start; for tests.
std::vector<std::string> longWorkOnQuickThreads();

}  // namespace fugato
