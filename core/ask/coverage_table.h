// SPDX-License-Identifier: GPL-3.0-or-later
//
// What no marker tells of, as tables.
#pragma once

#include "core/table/table.h"
#include "coverage.h"

namespace fugato {

/// Time in no marker below; a row leads to its longest stretch.
enum UnmarkedColumn : size_t {
    kUnmarkedInside,
    kUnmarkedLane,
    kUnmarkedLongest,
    kUnmarkedTotal,
    kUnmarkedPart,
    kUnmarkedStretches,
    kUnmarkedBegin
};
std::shared_ptr<const Table> unmarkedTable(std::shared_ptr<const Recording> recording,
                                           std::shared_ptr<const Coverage> coverage);

/// Markers that do not occur in the scope.
enum MissingColumn : size_t { kMissingMarker, kMissingWhere, kMissingCategory, kMissingSource };
std::shared_ptr<const Table> missingTable(std::shared_ptr<const Recording> recording,
                                          std::shared_ptr<const Coverage> coverage);

}  // namespace fugato
