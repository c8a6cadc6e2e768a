// SPDX-License-Identifier: GPL-3.0-or-later
//
// Skerry Regatta as a program: its threads, its simulated GPU, its recorded frames and its planted
// troubles, each of which can be switched on alone.
#pragma once

#include <cstdint>
#include <set>
#include <string>
#include <vector>

#include "runtime.h"

namespace skerry {

struct Trouble {
    const char* name;
    const char* summary;
    const char* lane;               // where the cause sits
    std::vector<std::string> path;  // its marker path
    const char* kind;               // as fugato-cli names kinds
};
/// Every trouble the demo knows, in a fixed order.
const std::vector<Trouble>& allTroubles();

struct Settings {
    double seconds = 150;
    std::set<std::string> troubles;
    uint64_t seed = 1;
    int detail = 0;  // 1: with the many fine markers
};

/// In which frames of the series "race" each trouble was at work.
struct Planted {
    std::string trouble;
    std::vector<uint32_t> frames;
};

/// Sails the race to its end, or until endRace; records through the fugato recorder where it is on.
std::vector<Planted> sail(Runtime& runtime, const Settings& settings);

/// The race that is being sailed ends after the frame it is in. From any thread, also in a signal handler.
void endRace();

}  // namespace skerry
