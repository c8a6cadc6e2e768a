// SPDX-License-Identifier: GPL-3.0-or-later
//
// Answers as tables (core/table): what the drawer shows and the command line writes. The columns of each stand here and
// nowhere else. Tables own what they read.
#pragma once

#include <set>

#include "core/explain/advice/advice.h"
#include "core/table/table.h"
#include "frame_table.h"
#include "marker_statistics.h"
#include "range_table.h"
#include "search.h"
#include "stacks.h"

namespace fugato {

/// A frame's nested markers against usual; sorted by `kFrameExcess` it begins with what was most above it. The last
/// column is there only where the operating system told when threads ran.
enum FrameColumn : size_t { kFrameMarker, kFrameTotal, kFrameSelf, kFrameCalls, kFrameUsual, kFrameExcess, kFrameRan };
std::shared_ptr<const Table> frameTable(const std::shared_ptr<const Explanation>& explanation, uint32_t frame,
                                        FrameTable made);
/// keyOf the row of a lane's marker path, in tables of frames and of selections.
inline uint64_t keyOfPath(uint32_t lane, PathId path) { return uint64_t{lane} << 32 | path; }

/// Everything nested in a range of time; of all lanes or of one.
enum RangeColumn : size_t { kRangeMarker, kRangeTotal, kRangeSelf, kRangeCount, kRangeMean, kRangeLongest };
std::shared_ptr<const Table> rangeTable(std::shared_ptr<const Recording> recording, const RangeTable& made,
                                        uint32_t onlyLane = kNone);

/// Occurrences of a marker; their frames are those of `series` (kNone: none).
enum OccurrenceColumn : size_t {
    kOccurrenceLane,
    kOccurrenceInside,
    kOccurrenceArguments,
    kOccurrenceDuration,
    kOccurrenceBegin,
    kOccurrenceFrame
};
std::shared_ptr<const Table> occurrenceTable(std::shared_ptr<const Recording> recording,
                                             std::shared_ptr<const std::vector<Occurrence>> occurrences,
                                             uint32_t series);

/// The functions of call stacks; those with the most samples of their own first. Times where it is known how long a
/// sample stands for.
enum FunctionColumn : size_t {
    kFunctionName,
    kFunctionSelf,
    kFunctionTotal,
    kFunctionModule,
    kFunctionCaller,
    kFunctionSource,
    kFunctionSelfSamples,  // not of blocked time, as the next one
    kFunctionSamples
};
std::shared_ptr<const Table> functionTable(std::shared_ptr<const Stacks> stacks);

/// What a search found: markers, then arguments, then points.
enum FoundColumn : size_t { kFoundWhat, kFoundKind, kFoundInside, kFoundLane, kFoundCount, kFoundTime, kFoundBegin };
std::shared_ptr<const Table> foundTable(std::shared_ptr<const Recording> recording, std::shared_ptr<const Found> found);

/// Findings, each with its evidence and what to look at next below it; the accepted ones last.
enum AdviceColumn : size_t { kAdviceFinding, kAdviceConfidence, kAdviceCost, kAdviceAccepted };
std::shared_ptr<const Table> adviceTable(std::shared_ptr<const std::vector<Advice>> advice,
                                         const std::set<std::string>& acceptedKeys);
/// The finding that a row of it belongs to.
uint32_t findingOf(Table::Row row);
/// The same with everything that is known of a finding in its one row; for other programs.
std::shared_ptr<const Table> adviceFacts(std::shared_ptr<const Recording> recording,
                                         std::shared_ptr<const std::vector<Advice>> advice);

}  // namespace fugato
