// SPDX-License-Identifier: GPL-3.0-or-later
//
// What can be collected beside what programs tell themselves, on this machine and for this user; found out by recording
// for an instant. Takes some milliseconds; any thread, one at a time.
#pragma once

#include <string>
#include <vector>

#include "format/result.h"

namespace fugato {

struct Collectable {
    std::string word;  // as in FUGATO_COLLECT
    std::string what;  // "which thread had a core when"
    bool possible = false;
    std::string told;    // how it can be had, or why it cannot
    std::string advice;  // what to type to get it, or more of it; empty where all is had
};

Result<std::vector<Collectable>> whatCanBeCollected();

}  // namespace fugato
