// SPDX-License-Identifier: MIT
#include "launched.hpp"

#include <dlfcn.h>
#include <pthread.h>
#include <time.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cstdlib>
#include <fugato_collect.hpp>
#include <map>
#include <mutex>
#include <new>
#include <optional>

#include "control.hpp"
#include "drain.hpp"
#include "set_up_call.hpp"
#include "start_stop.hpp"
#include "this_thread.hpp"

namespace fugato::recording {

namespace {

/// What frames are waited for.
enum class Phase : int {
    None,
    LeavingOut,  // recorded later
    InMemory,    // written from the first frame on
    Counting     // recorded for so many
};

struct Launched {
    std::atomic<Phase> phase{Phase::None};
    std::atomic<bool> ours{false};
    // Guarded by runMutex():
    LaunchPlan plan;
    std::string program, build;  // as the program itself says, if it has
    bool recording = false;
    std::map<uint32_t, uint64_t> frames;  // begun in each series; the one that was defined first counts
    pthread_t clock{};
};
/// Never destroyed: threads may outlive it.
Launched& launched() {
    static auto* const made = new Launched;
    return *made;
}

/// With the mutex held.
Phase afterStart(Launched& l) {
    l.frames.clear();
    return l.plan.length.frames ? Phase::Counting : Phase::None;
}

/// With the mutex held.
void startRecording(Launched& l, bool inMemory) {
    fug_options options{};
    options.size = sizeof options;
    options.program = l.program.empty() ? program_invocation_short_name : l.program.c_str();
    options.build = l.build.c_str();
    options.os = osActivitiesIn(l.plan.collect);
    const SetUpCall here;
    if (l.plan.moments) {
        l.recording = start(l.plan.path.c_str(), options, RunBy::Plan, l.plan.moments) == 0;
        l.phase.store(l.recording ? afterStart(l) : Phase::None);
        return;
    }
    if (inMemory) options.on_failure = FUG_GO_ON_IN_MEMORY;
    const int error = start(inMemory ? "" : l.plan.path.c_str(), options, RunBy::Plan);
    l.recording = error == 0;
    l.phase.store(error ? Phase::None : inMemory ? Phase::InMemory : afterStart(l));
}

/// With the mutex held.
void endRecording(Launched& l) {
    l.phase.store(Phase::None);
    l.recording = false;
    const SetUpCall here;
    stop();
}

/// Sees to the times of the plan.
void* keepTime(void*) {
    inside = true;  // nothing of this thread is recorded
    Launched& l = launched();
    const auto pass = [](uint64_t ns) {
        timespec left{static_cast<time_t>(ns / 1'000'000'000), static_cast<long>(ns % 1'000'000'000)};
        while (nanosleep(&left, &left) != 0) {
        }
    };
    if (l.plan.leaveOut.ns) {
        pass(l.plan.leaveOut.ns);
        const Lock guard(runMutex());
        if (l.phase.load() == Phase::LeavingOut) startRecording(l, false);
    }
    if (l.plan.length.ns) {
        pass(l.plan.length.ns);
        const Lock guard(runMutex());
        if (l.recording) endRecording(l);
    }
    return nullptr;
}

/// A program that was built with the recorder begins by itself, and one that is preloaded steps aside for it.
__attribute__((constructor)) void beginWhereLaunched() {
    if (&fug_is_preloaded) return;
    const LaunchPlan plan = launchPlan();
    if (plan.path.empty() && !plan.offer) return;
    if (auto* const stepAside = reinterpret_cast<void (*)()>(dlsym(RTLD_DEFAULT, "fugato_preload_step_aside")))
        stepAside();
    if (plan.offer) (void)offer();
    if (plan.path.empty()) return;
    beginLaunched(plan, false);
}

}  // namespace

Amount amountOf(const char* text) {
    Amount none;
    if (!text || *text < '0' || *text > '9') return none;
    uint64_t whole = 0, part = 0, unit = 1'000'000'000;
    for (; *text >= '0' && *text <= '9' && whole < 1'000'000'000; ++text)
        whole = whole * 10 + static_cast<uint64_t>(*text - '0');
    if (*text == '.')  // whatever the program's locale
        for (++text; *text >= '0' && *text <= '9'; ++text) part += (unit /= 10) * static_cast<uint64_t>(*text - '0');
    if (text[0] == 'f' && !text[1] && !part) return {whole, 0};
    if (text[0] == 's' && !text[1]) return {0, whole * 1'000'000'000 + part};
    return none;
}

LaunchPlan launchPlan() {
    LaunchPlan plan;
    const auto text = [](const char* name) {
        const char* const value = std::getenv(name);
        return value ? value : "";
    };
    plan.path = text("FUGATO_RECORD");
    plan.collect = text("FUGATO_COLLECT");
    plan.leaveOut = amountOf(text("FUGATO_LEAVE_OUT"));
    plan.length = amountOf(text("FUGATO_RECORD_FOR"));
    plan.offer = *text("FUGATO_OFFER") != '\0';
    if (const char* const moments = text("FUGATO_MOMENTS"); *moments) plan.moments = momentPlanIn(moments);
    return plan;
}

void beginLaunched(const LaunchPlan& plan, bool inMemory) {
    const InsideRecorder here;
    Launched& l = launched();
    const Lock guard(runMutex());
    if (l.ours.exchange(true)) return;
    try {
        l.frames.clear();
        l.plan = plan;
        l.phase.store(Phase::LeavingOut);
        if (!plan.leaveOut) startRecording(l, inMemory);
        if (plan.leaveOut.ns || plan.length.ns) (void)startThread(l.clock, keepTime);
    } catch (const std::bad_alloc&) {
        l.phase.store(Phase::None);
    }
}

void lockLaunched() FUGATO_NOT_CHECKED { runMutex().lock(); }
void unlockLaunched(bool inChild) FUGATO_NOT_CHECKED {  // lockLaunched() took it
    Launched& l = launched();
    if (inChild) {  // it is not recorded, and may begin afresh
        l.phase.store(Phase::None);
        l.recording = false;
        l.ours.store(false);
    }
    runMutex().unlock();
}

void startedByProgram(const fug_options& options) {
    Launched& l = launched();
    {
        const SetUpCall here;
        const Lock guard(runMutex());
        try {
            if (options.program) l.program = options.program;
            if (options.build) l.build = options.build;
            if (options.now && l.recording) {  // by its own clock nothing of what was recorded so far would fit
                fug_options own = options;
                own.descriptor = 0;
                own.existing = FUG_REPLACE_EXISTING;
                l.recording = start(l.plan.path.c_str(), own, RunBy::Plan, l.plan.moments) == 0;
                return;
            }
        } catch (const std::bad_alloc&) {
        }
    }
    if (options.program) fug_context("program", options.program);
    if (options.build) fug_context("build", options.build);
}

bool isLaunched() { return launched().ours.load(std::memory_order_relaxed); }

void countFrame(uint32_t series, bool endsTheOneBefore) {
    countOffered(series);
    Launched& l = launched();
    if (l.phase.load(std::memory_order_relaxed) == Phase::None || inside) return;
    const auto underLock = [&](auto&& act) {
        const SetUpCall here;
        const Lock guard(runMutex());
        try {
            return act();
        } catch (const std::bad_alloc&) {
            return false;
        }
    };
    const bool enough = underLock([&] {
        const auto passed = [&](uint64_t frames) {  // before this one
            return frames && l.frames.begin()->first == series && l.frames.begin()->second > frames;
        };
        ++l.frames[series];
        if (l.phase.load() == Phase::LeavingOut && passed(l.plan.leaveOut.frames)) {
            startRecording(l, false);
            l.frames[series] = 1;
        }
        if (l.phase.load() == Phase::InMemory) {
            l.phase.store(goOnInFile(l.plan.path.c_str()) ? Phase::None : afterStart(l));
            l.frames[series] = 1;
        }
        return l.phase.load() == Phase::Counting && passed(l.plan.length.frames);
    });
    if (!enough) return;
    if (endsTheOneBefore) putHere(layout::Kind::FrameEnd, series, Room::Reserved);
    underLock([&] {
        if (l.phase.load() == Phase::Counting) endRecording(l);
        return true;
    });
}

}  // namespace fugato::recording
