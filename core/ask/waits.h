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

struct WaitSum {
    std::string name;
    WaitKind kind = WaitKind::Other;  // of an object
    uint64_t count = 0;               // waits that overlap the scope; of a holder: those it met
    int64_t total = 0;                // ns of them in the scope; of a holder: in which it held the object meanwhile
    int64_t longest = 0;              // ns of the longest, also outside the scope; of a holder: of such a hold
    uint32_t atOnce = 0;              // so many waited for an object at the same instant, at most; 0: not known
    MarkerRef longestWait;            // not valid of a holder
    bool holder = false;
    uint32_t lane = kNone;  // of a lane, and of a holder
    TimeRange held;         // the longest such hold
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

/// Null where `progress` cancelled it.
std::shared_ptr<const Waits> waitsIn(const Recording& recording, const Scope& scope, WaitsBy by,
                                     const Progress& progress = {});

/// "lock", "file", "pacing"…
std::string waitKindText(WaitKind kind);

}  // namespace fugato
