// SPDX-License-Identifier: GPL-3.0-or-later
//
// The waits in a scope, added up: by what was waited for, with who held it meanwhile, by lane or by marker. Costs a
// look at every wait in it. May run on any thread.
#pragma once

#include <string>

#include "scope.h"

namespace fugato {

enum class WaitsBy : uint8_t {
    Object,  // a lock or something else; below it who waited, and who held it
    Lane,    // below it what for
    Marker,  // the marker that waited; below it what for
};

/// What a row adds up.
enum class WaitRow : uint8_t {
    Waits,
    Holds,   // by one who held the object while others waited
    Queues,  // stretches of time in which several waited for an object; below it those with the most of them
    Queue    // one of these
};

struct WaitSum {
    std::string name;
    WaitRow of = WaitRow::Waits;
    WaitKind kind = WaitKind::Other;  // of an object
    uint64_t count = 0;               // waits that overlap the scope; of holds: those they met; of queues: how many
    int64_t total = 0;                // ns of them in the scope; of holds: while others waited
    int64_t longest = 0;              // ns of the longest; of waits and holds also outside the scope
    uint32_t atOnce = 0;    // of an object and of queues: so many waited at the same instant, at most; 0: not known
    MarkerRef longestWait;  // of waits
    uint32_t lane = kNone;  // of a lane, and where `longestOne` lies
    TimeRange longestOne;   // of holds, the longest; of queues, the one with the most at once, of these the longest
    uint64_t key = 0;       // the same for the same thing in another scope
    std::vector<uint32_t> children;
};

struct Waits {
    WaitsBy by{};
    std::vector<WaitSum> rows;
    std::vector<uint32_t> top;  // the most time first, as all children
    uint64_t count = 0;
    int64_t total = 0;
};

inline constexpr size_t kMostQueues = 20;  // that are listed of an object

/// Null where `progress` cancelled it.
std::shared_ptr<const Waits> waitsIn(const Recording& recording, const Scope& scope, WaitsBy by,
                                     const Progress& progress = {});

/// "lock", "file", "pacing"…
std::string waitKindText(WaitKind kind);

}  // namespace fugato
