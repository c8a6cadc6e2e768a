// SPDX-License-Identifier: GPL-3.0-or-later
//
// Random programs of several shapes, as engines of games are built, with troubles planted in them whose
// answer is known: what an explanation of their recordings must find. The same settings without a trouble
// run the same otherwise, so a repair can be tried for real.
#pragma once

#include <cstdint>
#include <set>
#include <string>
#include <vector>

#include "format/events.h"

namespace engines {

enum class Shape : uint8_t { Loop, Workers, Render, Jobs, GpuBound, TwoSeries };
inline constexpr int kShapes = 6;
const char* shapeName(Shape shape);

enum class Trouble : uint8_t {
    SlowerCall,     // each call of a marker takes longer
    MoreCalls,      // a marker is called more often
    Unusual,        // a marker that usual frames do not have
    Unmarked,       // a range in which nothing is recorded
    LockHeld,       // another thread holds a lock for long
    FileWait,       // a file is not there quickly
    LongWait,       // a wait whose end nobody tells
    OtherProgram,   // another program, or several, take every core
    OwnThreads,     // threads of its own do
    SlowJob,        // a job that is waited for takes longer
    EarlierWork,    // work asked for in an earlier frame is not done
    JobBehindLock,  // a job that is waited for waits for a lock itself
    RenderSlower,   // the thread that draws takes longer
    GpuSlower,      // a pass on the GPU takes longer
    CopySlower,     // the GPU waits for its copy queue
    LongSleep,      // it sleeps longer than usual
    LibraryThread,  // a library's thread, which tells nothing, takes longer; only wake-ups tell of it
};
inline constexpr int kTroubles = 17;
const char* troubleName(Trouble trouble);
bool applies(Trouble trouble, Shape shape);
/// Whether it shows only where it is recorded who asked for work and who ended waits; and who had the cores.
bool needsLinks(Trouble trouble, Shape shape);
bool needsSwitches(Trouble trouble);
/// Whether the frames' own work takes longer, which call stacks tell too.
bool stacksTell(Trouble trouble);
/// Whether links can be done without where it is recorded who woke whom. (Devices wake nobody but by an interrupt.)
bool wakeUpsTell(Trouble trouble);

struct Noise {
    double jitter = 0.1;           // of every duration
    bool drift = false;            // usual work grows by a third over the recording
    bool everyFourth = false;      // every fourth frame does more
    bool warmUp = false;           // the first frames take longer
    int64_t deviceClockError = 0;  // ns
    bool links = true;             // false: who asked for work and who ended waits is not recorded
    bool switches = true;          // who had the cores is recorded
    bool wakeUps = false;          // and who woke whom
    bool stacksAlone = false;      // call stacks are taken, and no marker is told
};

struct Settings {
    Shape shape = Shape::Loop;
    std::vector<Trouble> troubles;
    bool together = false;  // in the same frames
    uint64_t seed = 1;
    uint32_t frames = 600;
    Noise noise;
};

/// What an explanation must say.
struct Expected {
    Trouble trouble{};
    std::string series;
    std::string lane;               // role or name of the lane at fault
    std::vector<std::string> path;  // its marker; empty: none
    std::string function;           // that call stacks name; empty: none
    std::string kind;               // as fugato-cli names kinds
    std::set<std::string> by;       // who had the cores; roles or programs
    std::set<uint32_t> frames;      // in which it was at work
};

/// Runs the program and tells its recording. Without the troubles of `repaired`, which stay planned all the same.
std::vector<Expected> runEngine(const Settings& settings, fugato::EventSink& sink,
                                const std::set<Trouble>& repaired = {});

}  // namespace engines
