// SPDX-License-Identifier: GPL-3.0-or-later
//
// Figures of memory as tables.
#pragma once

#include "core/table/table.h"
#include "memory_figures.h"

namespace fugato {

/// Pools, and below each its resources at the instant.
enum PoolColumn : size_t {
    kPoolName,
    kPoolNow,
    kPoolTimesMedian,
    kPoolGrowth,
    kPoolBegin,
    kPoolEnd,
    kPoolPeak,
    kPoolPeakAt,
    kPoolTaken,
    kPoolTakenBytes,
    kPoolReleased,
    kPoolReleasedBytes,
    kPoolTakenAt,
    kPoolTakenIn
};
std::shared_ptr<const Table> poolTable(std::shared_ptr<const Recording> recording,
                                       std::shared_ptr<const MemoryFigures> figures);

/// Markers by what they took and did not release.
enum KeptColumn : size_t {
    kKeptMarker,
    kKeptBytes,
    kKeptCount,
    kKeptNeverBytes,
    kKeptNever,
    kKeptTakenBytes,
    kKeptTaken
};
std::shared_ptr<const Table> keptTable(std::shared_ptr<const Recording> recording,
                                       std::shared_ptr<const MemoryFigures> figures);

}  // namespace fugato
