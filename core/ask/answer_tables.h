// SPDX-License-Identifier: GPL-3.0-or-later
//
// Answers as tables (core/table): what the drawer shows and the command line writes. The columns of each stand here and
// nowhere else. Tables own what they read.
#pragma once

#include <set>

#include "core/explain/advice/advice.h"
#include "core/table/table.h"
#include "counter_figures.h"
#include "frame_figures.h"
#include "marker_groupings.h"
#include "operation_list.h"
#include "search.h"
#include "stacks.h"
#include "usual_markers.h"
#include "waits.h"

namespace fugato {

/// Markers in a scope, put together in some way; sorted by `kMarkerExcess` it begins with what was most above usual.
enum MarkerColumn : size_t {
    kMarkerName,
    kMarkerTotal,
    kMarkerSelf,
    kMarkerCalls,
    kMarkerMean,
    kMarkerLongest,
    kMarkerOfFrame,
    kMarkerOfBudget,
    kMarkerUsual,
    kMarkerExcess,
    kMarkerRan,
    kMarkerAllocations,
    kMarkerAllocated
};
/// `symbols`: of the functions among them, if any.
std::shared_ptr<const Table> markerTable(std::shared_ptr<const Recording> recording,
                                         std::shared_ptr<const Symbols> symbols,
                                         std::shared_ptr<const GroupedMarkers> made);

/// Markers by what they take in a frame of two scopes; the one that differs most first.
enum DifferenceColumn : size_t {
    kDifferenceMarker,
    kDifferenceLane,
    kDifferenceHere,
    kDifferenceThere,
    kDifferenceDifference
};
std::shared_ptr<const Table> differenceTable(std::shared_ptr<const Recording> recording,
                                             std::vector<MarkerDifference> differences);

/// Counters, and states with the times of their values below them.
enum CounterColumn : size_t {
    kCounterName,
    kCounterNow,
    kCounterLeast,
    kCounterMean,
    kCounterGreatest,
    kCounterThreshold,
    kCounterLateBeyond,
    kCounterOtherBeyond,
    kCounterTime,
    kCounterCount
};
std::shared_ptr<const Table> counterTable(std::shared_ptr<const Recording> recording,
                                          std::shared_ptr<const CounterAndStateFigures> figures);

/// Waits, added up in some way; the most time first.
enum WaitColumn : size_t { kWaitWhat, kWaitTotal, kWaitCount, kWaitMean, kWaitLongest, kWaitAtOnce, kWaitKind };
std::shared_ptr<const Table> waitTable(std::shared_ptr<const Waits> waits);

/// Operations and file requests, each with its layers below it; or together by their path, or by what they are.
enum class OperationsBy : uint8_t { Each, Path, What };
enum OperationColumn : size_t {
    kOperationWhat,
    kOperationPath,
    kOperationDuration,
    kOperationCount,
    kOperationLongest,
    kOperationBytes,
    kOperationBegin,
    kOperationLane,
    kOperationResult
};
std::shared_ptr<const Table> operationTable(std::shared_ptr<const Recording> recording,
                                            std::shared_ptr<const OperationList> operations, OperationsBy by);

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

/// The same by line of the source; and as a tree of calls: from the outermost function in, or from the innermost out to
/// who called it.
enum LineColumn : size_t {
    kLineSource,
    kLineSelf,
    kLineTotal,
    kLineFunction,
    kLineModule,
    kLineSelfSamples,
    kLineSamples
};
std::shared_ptr<const Table> lineTable(std::shared_ptr<const Stacks> stacks);
enum CallColumn : size_t { kCallFunction, kCallTotal, kCallSelf, kCallModule, kCallSource, kCallSamples };
std::shared_ptr<const Table> callTable(std::shared_ptr<const Stacks> stacks, std::shared_ptr<const StackTree> tree);

/// What a search found: markers, then lanes, arguments, points.
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
