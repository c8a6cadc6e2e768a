// SPDX-License-Identifier: GPL-3.0-or-later
//
// When lightship, a program that is measured in real time, is troubled, and by what; what it and ./measure --real agree
// on.
#pragma once

#include <cstdint>

namespace lightship {

enum class Trouble : uint8_t {
    None,
    AllCores,    // other programs compute on every core
    OneCore,     // they compute on the one core that its main thread is held to
    OwnThreads,  // threads of its own do
    Stopped,     // another program stops it and lets it go on
    DiskRead,    // what it reads is no longer in memory
    PageFaults,  // it touches memory that it never used
    Lock,        // a thread without markers holds a lock that it wants
    Pipe,        // another program answers late
    Socket,      // the same
    Sync,        // it waits until what it wrote is on the disk
    Sleep,       // what it calls sleeps
    Library,     // the thread of a library that it asked computes for long
};
inline constexpr const char* kTroubleNames[] = {"none",      "all-cores",   "one-core", "own-threads", "stopped",
                                                "disk-read", "page-faults", "lock",     "pipe",        "socket",
                                                "sync",      "sleep",       "library"};
inline constexpr int kTroubles = 13;

inline constexpr int64_t kTickNs = 20'000'000;
inline constexpr uint32_t kFirst = 50, kEvery = 20, kTimes = 10;  // frames that are troubled
inline constexpr uint32_t kLasting = 8;                           // frames after one that may still suffer from it
inline constexpr uint32_t kFrames = kFirst + kEvery * kTimes + 20;
constexpr bool isTroubled(uint32_t frame) {
    return frame >= kFirst && frame < kFirst + kEvery * kTimes && (frame - kFirst) % kEvery == 0;
}
/// Whether a frame may be late because of the trouble.
constexpr bool maySuffer(uint32_t frame) {
    return frame >= kFirst && frame < kFirst + kEvery * kTimes && (frame - kFirst) % kEvery <= kLasting;
}

}  // namespace lightship
