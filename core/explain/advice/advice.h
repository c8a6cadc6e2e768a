// SPDX-License-Identifier: GPL-3.0-or-later
//
// Findings beyond single spikes: work that need not be, waits that queue up, places where more should be recorded,
// what goes with late frames. Each tells its evidence, how sure it is, and what to look at next. The rules:
// docs/explanation.md.
#pragma once

#include "core/explain/causes/confidence.h"

namespace fugato {

enum class AdviceKind : uint8_t {
    ComesBefore,     // something regularly comes just before the spikes of a cause
    OutOfRange,      // a counter leaves its range just when frames are late
    LockQueue,       // threads queue up for a lock
    QueuesWait,      // queues of a device wait for each other
    TooManyThreads,  // threads are ready while others of the program have the cores
    OtherPrograms,   // threads are ready while other programs have the cores
    MachineStopped,  // threads have cores, but the machine does not run
    TimerPacing,     // the loop sleeps until its next tick and does not say so
    Repeated,        // the same work again in one frame
    ChangedNothing,  // work that said it changed nothing
    Allocations,     // memory taken again and again in a frame
    Logging,         // log messages in a frame
    FirstUse,        // loading when first needed
    SlowFile,        // file requests over a limit
    TooLong,         // markers past their expected longest duration
    Unmarked,        // much time of frames without a marker
    Measuring,       // measuring itself costs too much
    Weak,            // too little was recorded to compare with
};
inline constexpr size_t kAdviceKinds = 18;
const char* adviceKindName(AdviceKind kind);  // "comes_before", …: the names used in JSON

struct Advice {
    AdviceKind kind{};
    ConfidenceLevel confidence{};
    std::string title, evidence, next;  // "Lock ‘scene’ is queued for"; numbers; what to look at next
    std::string key;                    // the same for the same finding in another recording
    int64_t cost = 0;                   // ns in all that it takes, as far as that can be told; for the order
    int64_t begin = 0, end = 0;         // where to look; begin == end: no place
    uint32_t lane = kNone, site = kNone;
};

struct AdviceLimits {
    int64_t slowFile = 5'000'000;  // ns a file request on a frame's own lane may take
    uint32_t allocations = 100;    // in one marker and frame
    uint32_t messages = 8;         // on one lane in one frame
};

/// What costs most first. Looks at up to kAdviceFrames frames where it must read single markers. Null where
/// `progress` cancelled it.
inline constexpr size_t kAdviceFrames = 256;
std::shared_ptr<const std::vector<Advice>> adviceFor(const Explanation& explanation, const AdviceLimits& limits = {},
                                                     const Progress& progress = {});

}  // namespace fugato
