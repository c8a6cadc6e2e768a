// SPDX-License-Identifier: GPL-3.0-or-later
//
// Single occurrences of one marker: the longest, those with some letters, the next. May run on any thread.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "scope.h"

namespace fugato {

struct Occurrence {
    MarkerRef marker;
    int64_t begin = 0, duration = 0;  // ns
    bool operator==(const Occurrence&) const = default;
};

/// The `most` longest occurrences of a marker that overlap the scope, the longest first; those of one
/// length by lane and time. Null where `progress` cancelled it.
std::shared_ptr<const std::vector<Occurrence>> longestOccurrences(const Recording& recording, uint32_t site,
                                                                  const Scope& scope, size_t most,
                                                                  const Progress& progress = {});

/// The first `most`, by lane and time, that overlap the scope and have these letters in their lane's name, the names of
/// the markers around them, or their arguments. Null where `progress` cancelled it.
std::shared_ptr<const std::vector<Occurrence>> occurrencesWith(const Recording& recording, uint32_t site,
                                                               const Scope& scope, const std::string& words,
                                                               size_t most, const Progress& progress = {});

/// The next occurrence of a marker in order of begin, then lane and row, on any lane: after `from` and `than`, one that
/// begins then (invalid: none in particular), or before. An invalid one where there is none. Null where `progress`
/// cancelled it.
std::shared_ptr<const MarkerRef> occurrenceBeside(const Recording& recording, uint32_t site, int64_t from,
                                                  const MarkerRef& than, bool forward, const Progress& progress = {});

}  // namespace fugato
