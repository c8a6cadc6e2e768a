// SPDX-License-Identifier: GPL-3.0-or-later
//
// Who ended a wait, or asked for work: as the program told by links and locks, else as the system told by wake-ups.
// Where it recorded none of those, a guess by who stopped at the same instant. Only reads the recording; may be used on
// any thread. docs/explanation.md tells the rules.
#pragma once

#include "core/model/recording.h"

namespace fugato {

/// The innermost lock through which the walk came to a segment.
struct LockVia {
    uint32_t object = kNone;  // kNone: not through a lock
    PathId holder = 0;        // the marker in which the holder held it
    uint32_t waiterLane = kNone;
};

/// Who ended a wait or asked for work, where that is known.
struct Waker {
    uint32_t lane = kNone;  // kNone: of another program, the system itself, or not known
    int64_t time = 0;
    PathId path = 0;      // in which a link was given out
    LockVia lock;         // where it was a lock
    bool woken = false;   // the system's schedule tells of it, not the program
    uint32_t thread = 0;  // of another program; else 0
    bool system = false;  // the system itself did, for a timer or a device
    bool likely = false;  // a guess
};
/// As the program told.
Waker toldWakerOf(const Recording& recording, uint32_t lane, const Wait& wait);
/// As the program told, else the system, else as waits of this marker likely end.
Waker wakerOf(const Recording& recording, uint32_t lane, const Wait& wait);
/// Where neither told: by the work that waits of this marker usually end with.
Waker likelyEnderOf(const Recording& recording, uint32_t lane, const Wait& wait);
/// Who woke a lane that was blocked.
Waker wakerOf(const Recording& recording, uint32_t lane, const ScheduleSpan& blocked);
/// Clocks of devices may disagree with the threads' by so much; what comes from there a little after its effect
/// counts as at the same instant.
inline constexpr int64_t kClockTolerance = 300'000;  // ns
/// Where work on a lane was asked for whose outermost marker is [begin, end].
Waker requesterOf(const Recording& recording, uint32_t lane, int64_t begin, int64_t end);

/// Whether the program told of a wait in which a lane was blocked so.
bool inToldWait(const Lane& lane, const ScheduleSpan& blocked);

/// Since when, from `begin` on, a core was in use without a break until `end`; `end` where it was idle then.
int64_t usedSince(const Recording& recording, uint32_t core, int64_t begin, int64_t end);
/// Since when a lane that was ready to run did not because others had its core. After it was woken, a core that was
/// idle may need a while to begin.
int64_t contendedSince(const Recording& recording, uint32_t lane, const ScheduleSpan& ready);

}  // namespace fugato
