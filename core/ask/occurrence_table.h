// SPDX-License-Identifier: GPL-3.0-or-later
//
// Occurrences of a marker as a table: some of them, or all of a list, of which rows are read where they are looked at.
#pragma once

#include "core/table/table.h"
#include "occurrence_list.h"

namespace fugato {

enum OccurrenceColumn : size_t {
    kOccurrenceLane,
    kOccurrenceInside,
    kOccurrenceArguments,
    kOccurrenceDuration,
    kOccurrenceBegin,
    kOccurrenceFrame
};

/// Their frames are those of `series` (kNone: none).
std::shared_ptr<const Table> occurrenceTable(std::shared_ptr<const Recording> recording,
                                             std::shared_ptr<const std::vector<Occurrence>> occurrences,
                                             uint32_t series);
/// The same for the screen: more than kMostShownWhole rows would block the interface thread while they are laid out, so
/// longer lists are a table that is read through windows of rows.
inline constexpr size_t kMostShownWhole = 20'000;
std::shared_ptr<const Table> shownOccurrences(std::shared_ptr<const Recording> recording,
                                              std::shared_ptr<const std::vector<Occurrence>> occurrences,
                                              uint32_t series);
/// All of a list, in its order; in the order of their arguments the first 100 000.
std::shared_ptr<const Table> occurrenceTable(std::shared_ptr<const OccurrenceList> list, uint32_t series);

}  // namespace fugato
