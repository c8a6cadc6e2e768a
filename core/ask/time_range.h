// SPDX-License-Identifier: GPL-3.0-or-later
//
// A range of time, and how to add up what lies in it: whole chunks of a row from their sums, the
// markers at its edges one by one.
#pragma once

#include "core/model/recording.h"

namespace fugato {

/// From `begin` to before `end`.
struct TimeRange {
    int64_t begin = 0, end = 0;
    bool operator==(const TimeRange&) const = default;
};
inline TimeRange wholeOf(const Recording& recording) {
    return {recording.begin, std::max(recording.end, recording.begin) + 1};
}

/// Calls `whole(chunk)` for the chunks of a row that lie in [from, to) with all their markers, and
/// `each(index, begin, duration, lanePath, flags)` for every other marker there.
template <class Whole, class Each>
void walkMarkers(const MarkerRow& row, uint32_t from, uint32_t to, Whole&& whole, Each&& each) {
    constexpr uint32_t kChunk = MarkerRow::kChunk;
    while (from < to) {
        const uint32_t chunkEnd = std::min(row.size(), (from | (kChunk - 1)) + 1);
        if (from % kChunk == 0 && chunkEnd <= to) {
            whole(from >> MarkerRow::kChunkBits);
        } else {
            row.forEach(from, std::min(to, chunkEnd), each);
        }
        from = chunkEnd;
    }
}

}  // namespace fugato
