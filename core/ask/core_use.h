// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the threads had of the cores, where the system told it: how long each ran, was ready without a core or was
// blocked; how many cores were busy at once; over time by thread or program. Times are nanoseconds. May run on any
// thread; costs a look at every change on a core in the scope.
#pragma once

#include "core/table/table.h"
#include "scope.h"

namespace fugato {

struct ThreadUse {
    std::string name, program;
    uint32_t lane = kNone;                    // of the recorded program's threads, where it has one
    uint32_t thread = 0;                      // of the operating system
    int64_t ran = 0, ready = 0, blocked = 0;  // ready, blocked: 0 where only the cores tell of it
    uint64_t moves = 0;                       // from one core to another
};
struct CoreUse {
    int64_t length = 0;               // of the scope
    uint32_t cores = 0;               // that tell anything
    std::vector<ThreadUse> threads;   // those that ran most first
    std::vector<int64_t> busyAtOnce;  // how long so many cores were busy; [0]: none
    int64_t crowded = 0;              // all cores were busy, and threads of the program were ready
    uint64_t moves = 0;
    double meanBusy() const;
};

/// Whether the recording tells of cores.
bool tellsCores(const Recording& recording);
/// Null where `progress` cancelled it.
std::shared_ptr<const CoreUse> coreUse(const Recording& recording, const Scope& scope, const Progress& progress = {});

/// The cores' time in equal parts of a range, by thread or by program; those that ran most, and the others together.
struct CoreCurve {
    std::vector<std::string> names;           // the last: all others, where there are any
    std::vector<std::vector<int64_t>> parts;  // by name, by column; ns
    uint32_t cores = 0;
    TimeRange range;
};
std::shared_ptr<const CoreCurve> coreCurve(const Recording& recording, const TimeRange& range, size_t columns,
                                           bool byProgram, size_t most, const Progress& progress = {});

/// Programs, and below them their threads.
enum CoreColumn : size_t { kCoreName, kCoreRan, kCoreReady, kCoreBlocked, kCorePart, kCoreMoves };
std::shared_ptr<const Table> coreTable(std::shared_ptr<const Recording> recording, std::shared_ptr<const CoreUse> use);
/// "On average 1.30 of 2 cores were busy: …", in sentences.
std::string coreSentences(const CoreUse& use);

}  // namespace fugato
