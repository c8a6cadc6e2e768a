// SPDX-License-Identifier: MIT
//
// A program that offers itself: its user's clients list it, join it, switch what is recorded, save a moment and leave
// again, through a socket (layout/fugato_control.hpp, docs/control-protocol.md). One thread of its own waits for them;
// while none has joined, frames are counted and nothing else is done.
#pragma once

#include <fugato/fugato.h>

#include <atomic>
#include <cstdint>
#include <string>

namespace fugato::recording {

/// [set-up] Returns 0 or an errno value. Offered already: the options are taken over.
int offer(const fug_options& options = {});
/// Nothing is offered any more; a client's recording goes on until stop().
void endOffer();
/// Around a fork; the child is not offered.
void lockControl();
void unlockControl(bool inChild);

/// [set-up] What is held is to be saved (moments.hpp).
void askForMoment(std::string why);

/// Frames begun in each series since the program was offered; the last place counts all others.
inline constexpr uint32_t kCountedSeries = 16;
extern std::atomic<bool> framesAreCounted;
extern std::atomic<uint64_t> framesBegun[kCountedSeries];
inline void countOffered(uint32_t series) {
    if (framesAreCounted.load(std::memory_order_relaxed))
        framesBegun[series < kCountedSeries ? series : kCountedSeries - 1].fetch_add(1, std::memory_order_relaxed);
}

}  // namespace fugato::recording
