// SPDX-License-Identifier: GPL-3.0-or-later
//
// Cache of the symbols found in a program's or library's file: one cache file for each build id. Described in
// docs/index-file.md. Only a copy: one that does not fit is not read.
#pragma once

#include <map>

#include "debug_information.h"

namespace fugato {

struct CachedSymbols {
    DebugInformation::State state = DebugInformation::State::Missing;
    std::map<uint64_t, CodeFunctions> places;  // by offset in the file
};

/// Path of the cache file; empty where there can be none: no folder, or no valid build id.
std::string symbolCachePath(const std::string& folder, const std::string& buildId);
/// Empty where there is none, or it is damaged.
CachedSymbols readCachedSymbols(const std::string& path);
/// Replaces the cache file. A failure is not reported: the symbols are then read again the next time.
void cacheSymbols(const std::string& path, CachedSymbols& symbols);

}  // namespace fugato
