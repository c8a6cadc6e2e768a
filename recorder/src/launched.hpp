// SPDX-License-Identifier: MIT
//
// A program that was started to be recorded: its environment says where to, what is collected, and when it begins and
// ends. It need not do anything for that; what it says itself of where to record is then left aside.
//   FUGATO_RECORD      the recording's path, which may hold the patterns of fug_start()
//   FUGATO_COLLECT     words, separated by commas: switches, samples, stack-copies, blocking, load
//   FUGATO_LEAVE_OUT   how much passes first: "300f" frames, or "5s" seconds
//   FUGATO_RECORD_FOR  how much is recorded then
//   FUGATO_MOMENTS     only the last seconds are held, and saved around what happens (layout/fugato_moments.hpp)
//   FUGATO_OFFER       anything: it can be joined (control.hpp), recorded already or not
#pragma once

#include <fugato/fugato.h>

#include <cstdint>
#include <fugato_moments.hpp>
#include <optional>
#include <string>
#include <string_view>

/// Defined where the recorder is a part of the preloaded library, which begins when it sees fit.
extern "C" int fug_is_preloaded __attribute__((weak, visibility("hidden")));

namespace fugato::recording {

/// Frames or time; neither: none.
struct Amount {
    uint64_t frames = 0, ns = 0;
    explicit operator bool() const { return frames || ns; }
};
/// "300f", "5s", "2.5s"; anything else is none.
Amount amountOf(const char* text);

struct LaunchPlan {
    std::string path;  // empty: it was not started to be recorded
    std::string collect;
    Amount leaveOut, length;
    std::optional<MomentPlan> moments;  // only these are kept
    bool offer = false;
};
/// What the environment says.
LaunchPlan launchPlan();

/// [set-up] Begins what the plan says, once. `inMemory`: nothing is written before the first frame, and nothing at all
/// where there is none.
void beginLaunched(const LaunchPlan& plan, bool inMemory);
/// Whether the plan is carried out, so that the program's own starting and stopping is left aside.
bool isLaunched();
/// [set-up] The program starts recording itself: it goes on as planned, with what the program says of itself. One with
/// a clock of its own is recorded by that, from here on.
void startedByProgram(const fug_options& options);
/// Around a fork; the child is not launched.
void lockLaunched();
void unlockLaunched(bool inChild);
/// A frame of `series` begins, and `endsTheOneBefore` where nothing else does. Any thread; one load where nothing waits
/// for frames.
void countFrame(uint32_t series, bool endsTheOneBefore);

}  // namespace fugato::recording
