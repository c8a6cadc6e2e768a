// SPDX-License-Identifier: GPL-3.0-or-later
//
// What can be said of one occurrence of a marker, and of a thread at an instant. May run on any thread; costs no more
// than a look at what lies in the marker.
#pragma once

#include "core/explain/model/explanation.h"

namespace fugato {

struct MarkerWords {
    std::string name, category;
    std::vector<std::string> lines;  // times, wait, share of its frame, links, arguments, source…
};
/// `explanation`: for its frames; may be null.
MarkerWords markerWords(const Recording& recording, const Explanation* explanation, const MarkerRef& marker);

/// "ran 42.0 ms, ready without a core 10.0 ms, blocked 25.0 ms"; empty where it is not known.
std::string splitText(const TimeSplit& split);

/// "ready but waiting for a core, for 2.0 ms; indexer (another program) had core 1"; empty where it is not known.
std::string scheduleText(const Recording& recording, const Lane& lane, int64_t time);

}  // namespace fugato
