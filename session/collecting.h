// SPDX-License-Identifier: GPL-3.0-or-later
//
// What can be collected beside what programs tell themselves, on this machine and for this user; found out by recording
// for an instant. Takes some milliseconds; any thread, one at a time.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "format/events.h"
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

/// Whether "memory" is among the words: what an unmodified program allocates.
bool collectsMemory(const std::string& words);

struct CollectingCost {
    double ofRunning = 0;                  // share of the time of a thread that computes all the time
    double nsASwitch = 0;                  // of a thread that waits and is woken again
    std::optional<double> nsAnAllocation;  // and its release; where memory is collected
    std::string trouble;                   // why it could not be measured
};
/// Measured by recording two threads of this program for a second or two, with these words of FUGATO_COLLECT and
/// without, in turns. Null where `progress` says so.
std::shared_ptr<const CollectingCost> measureCollecting(const std::string& words, const Progress& progress);
/// As a sentence.
std::string costText(const CollectingCost& cost);

}  // namespace fugato
