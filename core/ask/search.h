// SPDX-License-Identifier: GPL-3.0-or-later
//
// Finds markers and lanes by their names, and occurrences by their arguments. May run on any thread.
#pragma once

#include <unordered_map>

#include "core/model/recording.h"
#include "core/table/letters.h"

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
    std::vector<uint32_t> lanes;               // as they are shown
    std::vector<FoundArgument> arguments;      // the longest occurrences first; at most kMostFound
    std::vector<FoundPoint> points;            // in order of time; at most kMostFound
    uint64_t allArguments = 0, allPoints = 0;  // also those beyond kMostFound
};
inline constexpr size_t kMostFound = 10'000;

/// "key=value" asks for arguments with that key whose value holds the rest; a plain word for values of any key. Of one
/// thread; the recording outlives it.
class ArgumentLetters {
public:
    ArgumentLetters(const Recording& recording, std::string_view letters);
    bool fits(const Argument& argument);

private:
    const Recording& recording_;
    Letters value_;
    std::vector<bool> keyFits_;
    std::unordered_map<TextRef, bool> known_;  // equal texts mostly are one
};

/// Letters fit whatever their case (of the Latin alphabet without accents). "key=value" asks for
/// arguments with that key whose value holds the rest; a plain word for values of any key. Null where
/// `progress` cancelled it.
std::shared_ptr<const Found> search(const Recording& recording, const std::string& text, const Progress& progress = {});

}  // namespace fugato
