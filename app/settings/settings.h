// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the application remembers from one start to the next: every key, what stands where nothing was chosen, and what
// it is for. Interface thread only.
#pragma once

#include <QByteArray>
#include <QStringList>

#include "core/explain/advice/advice.h"
#include "core/model/open_recording.h"
#include "stored_values.h"

namespace fugato {

template <class Value>
class Setting {
public:
    Setting(QString key, Value usual) : key_(std::move(key)), usual_(std::move(usual)) {}
    Value get() const { return settings::storedValue(key_, QVariant::fromValue(usual_)).template value<Value>(); }
    void set(const Value& value) const { settings::storeValue(key_, QVariant::fromValue(value)); }

private:
    const QString key_;
    const Value usual_;
};

namespace settings {

/// What the system asks of programs, where the person said nothing here. Set once, before the first window.
struct SystemLook {
    bool dark = false, highContrast = false;
};
SystemLook& systemLook();

inline Setting<QByteArray> windowGeometry() { return {"window/geometry", {}}; }
inline Setting<QByteArray> panelWidths() { return {"window/across", {}}; }   // causes, lanes, why
inline Setting<QByteArray> panelHeights() { return {"window/middle", {}}; }  // lanes, drawer
inline Setting<int> laneLabels() { return {"view/labels", 0}; }              // how wide, in pixels; 0: as usual
inline Setting<bool> causesShown() { return {"view/causes", true}; }
inline Setting<bool> stripShown() { return {"view/strip", true}; }
inline Setting<bool> scopeShown() { return {"view/scope", true}; }
inline Setting<bool> tablesLarge() { return {"view/tables", false}; }        // they have the room of the panels around
inline Setting<QByteArray> largeHeights() { return {"window/tables", {}}; }  // lanes, drawer; then
inline Setting<QStringList> pageWindows() { return {"window/pages", {}}; }   // ids, each with its place
inline Setting<bool> whyShown() { return {"view/why", true}; }
inline Setting<bool> gatherLanes() { return {"view/gather", true}; }       // those of the blue line
inline Setting<bool> otherPrograms() { return {"view/programs", false}; }  // as tracks below the lanes
inline Setting<bool> darkColours() { return {"view/dark", systemLook().dark}; }
inline Setting<bool> highContrast() { return {"view/contrast", systemLook().highContrast}; }
inline Setting<int> textPercent() { return {"view/text", 0}; }                  // 0: as large as the system's font
inline Setting<int> markersBy() { return {"markers/by", 0}; }                   // MarkersBy
inline Setting<int> waitsBy() { return {"waits/by", 0}; }                       // WaitsBy
inline Setting<int> operationsBy() { return {"operations/by", 0}; }             // OperationsBy
inline Setting<double> operationsLeast() { return {"operations/least", 0.0}; }  // ms
inline Setting<int> coverageMissing() { return {"coverage/missing", 0}; }       // 1: markers that do not occur
inline Setting<int> coresBy() { return {"cores/by", 0}; }                       // 1: by program
inline Setting<int> memoryBy() { return {"memory/by", 0}; }                     // 1: what was not released
inline Setting<int> eventsLast() { return {"events/last", 0}; }                 // 1: the last of each lane
inline Setting<int> eventsKinds() { return {"events/kinds", -1}; }              // a bit for each EventGroup; -1: all
inline Setting<int> eventsLeast() { return {"events/least", 0}; }               // Severity of points
/// What a page of the drawer is held to: "whole", "late"; empty: it follows what is looked at.
inline Setting<QString> heldPage(const QString& page, const QString& usual) {
    return {"pages/" + page + "/held", usual};
}
inline Setting<int> stacksBy() { return {"stacks/by", 0}; }                        // functions, lines, calls, callers
inline Setting<bool> stacksBlocked() { return {"stacks/blocked", false}; }         // else of running
inline Setting<QStringList> recentFiles() { return {"files/recent", {}}; }         // newest first
inline Setting<QStringList> startedPrograms() { return {"record/programs", {}}; }  // newest first, each as JSON
inline Setting<QStringList> collectPresets() { return {"record/presets", {}}; }    // the person's own, each as JSON
/// What collecting these words costs on this machine, as a sentence; empty: not measured.
inline Setting<QString> collectCost(const QString& words) { return {"record/costs/" + words, {}}; }
inline Setting<QString> lastDevice() { return {"record/device", {}}; }          // its address; its code is not kept
inline Setting<QString> editorCommand() { return {"source/editor", {}}; }       // empty: the first that is installed
inline Setting<QStringList> sourceFolders() { return {"source/folders", {}}; }  // there, here, there, here…
inline Setting<QString> pictureView() { return {"pictures/view", "lanes"}; }    // that was saved last
inline Setting<QString> lastFolder() { return {"files/folder", {}}; }
/// What was read from large recordings is evicted beyond it.
inline Setting<int> memoryMegabytes() { return {"memory/megabytes", static_cast<int>(kUsualMemoryBytes / 1'000'000)}; }
/// Widths, order, visibility and sorting of the columns of a table that has so many.
inline Setting<QByteArray> tableColumns(const QString& table, int columns) {
    return {"tables/" + table + "/" + QString::number(columns), {}};
}
/// Keys of the columns of a table that are shown although they are not usually, or the other way round.
inline Setting<QStringList> chosenColumns(const QString& table) { return {"columns/" + table, {}}; }
/// How the lanes of a program are arranged, as JSON.
inline Setting<QByteArray> laneArrangement(QString program) {
    return {"lanes/" + (program.isEmpty() ? QString("unknown") : program.replace('/', '_')), {}};
}
/// Keys of the findings that were accepted. Acceptance holds for a program, not for one recording of it.
inline Setting<QStringList> acceptedFindings(QString program) {
    return {"accepted/" + (program.isEmpty() ? QString("unknown") : program.replace('/', '_')), {}};
}

/// From when on file requests, allocations and messages are worth a finding.
AdviceLimits adviceLimits();
void setAdviceLimits(const AdviceLimits& limits);

}  // namespace settings
}  // namespace fugato
