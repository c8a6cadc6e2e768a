// SPDX-License-Identifier: GPL-3.0-or-later
//
// What was found in a program's or library's file, kept for the next time: one file for each build id. Described in
// docs/index-file.md. Only a copy: one that does not fit is not read.
#pragma once

#include <map>

#include "debug_information.h"

namespace fugato {

struct KeptSymbols {
    DebugInformation::State state = DebugInformation::State::Missing;
    std::map<uint64_t, CodeFunctions> places;  // by offset in the file
};

/// Where it lies; empty where nothing can be kept: no folder, or no build id that is one.
std::string keptSymbolsPath(const std::string& folder, const std::string& buildId);
/// Empty where there is none, or it is damaged.
KeptSymbols readKeptSymbols(const std::string& path);
/// Replaces what is there. Nothing is said where that cannot be: then it is worked out again.
void keepSymbols(const std::string& path, KeptSymbols& symbols);

}  // namespace fugato
