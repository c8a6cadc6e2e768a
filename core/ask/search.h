// SPDX-License-Identifier: GPL-3.0-or-later
//
// Finds markers by their names, and occurrences by their arguments. May run on any thread.
#pragma once

#include "core/model/recording.h"

namespace fugato {

/// A marker whose name, category or source file holds what was looked for.
struct FoundMarker {
    uint32_t site = 0;
    uint64_t count = 0;  // occurrences in the recording
    int64_t total = 0;   // ns
};
/// An occurrence with an argument that fits.
struct FoundArgument {
    MarkerRef marker;
    uint32_t argument = 0;  // in Lane::arguments of its row
    int64_t begin = 0, duration = 0;
};
struct FoundPoint {
    uint32_t point = 0;  // in Recording::points
};

struct Found {
    std::string text;
    std::vector<FoundMarker> markers;          // the most time first
    std::vector<FoundArgument> arguments;      // the longest occurrences first; at most kMostFound
    std::vector<FoundPoint> points;            // in order of time; at most kMostFound
    uint64_t allArguments = 0, allPoints = 0;  // also those beyond kMostFound
};
inline constexpr size_t kMostFound = 10'000;

/// Letters fit whatever their case (of the Latin alphabet without accents). "key=value" asks for
/// arguments with that key whose value holds the rest; a plain word for values of any key. Null where
/// `progress` cancelled it.
std::shared_ptr<const Found> search(const Recording& recording, const std::string& text, const Progress& progress = {});

}  // namespace fugato
