// SPDX-License-Identifier: GPL-3.0-or-later
//
// Lets a child record and kills it at some instant. The child counts in shared memory what it has told,
// so that one sees whether every bit of it came back. Used by the tests and by ./measure.
#pragma once

#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <csignal>
#include <fugato/fugato.hpp>
#include <string>
#include <thread>

#include "core/model/open_recording.h"
#include "format/opening.h"
#include "testing/left_buffers.h"

namespace fugato {

/// Records with two threads, kills the child `afterUs` after both have begun. Returns what is wrong with
/// the recording it leaves, or an empty text.
inline std::string killWhileRecording(const std::string& file, unsigned afterUs, int signalNumber) {
    auto* published = static_cast<std::atomic<uint64_t>*>(
        mmap(nullptr, 4096, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0));
    ::unlink(file.c_str());
    const pid_t child = fork();
    if (child == 0) {
        for (const int number : {SIGSEGV, SIGABRT}) signal(number, SIG_DFL);  // not the parent's handlers
        fug_options options{};
        options.buffer_events = 1 << 20;  // enough for a machine that stands still for a while
        fug_start(file.c_str(), &options);
        const auto work = [&](int which, const char* name) {
            fug_name_thread(name, "", FUG_LANE_THREAD);
            for (uint64_t i = 0;; ++i) {
                {
                    FUG_MARK("Step", "test", "with a name that must not be lost either");
                    if (i % 64 == 0) fug_point(FUG_INFO, "a point now and then");
                }
                published[which].store(i + 1, std::memory_order_release);
                for (int k = 0; k < 5000; ++k) asm volatile("" ::: "memory");
            }
        };
        std::thread other([&] { work(1, "second"); });
        work(0, "first");
    }
    for (int i = 0; i < 20'000 && !(published[0] && published[1]); ++i) usleep(1000);
    usleep(afterUs);
    kill(child, signalNumber);
    int status = 0;
    waitpid(child, &status, 0);
    const uint64_t told[2] = {published[0], published[1]};
    munmap(published, 4096);
    if (!WIFSIGNALED(status)) return "the child was not killed";

    // Some other program may be looking at what was left at this instant: then it makes it whole, a little later.
    std::vector<std::string> left;
    for (int i = 0; i < 200; ++i) {
        makeRecordingWhole(file);
        left = buffersOf(child);
        if (left.empty()) break;
        usleep(10'000);
    }
    if (!left.empty()) return left[0] + " was left behind";
    const auto opened = openRecording(file);
    if (!opened) return opened.failure().sentence;
    const Recording& r = **opened;
    if (r.repairs.timesBackwards + r.repairs.endsWithoutBegin + r.repairs.unknownNames + r.repairs.lostEvents)
        return r.repairs.sentences().front();
    if (r.damage.indexMissing) return "it was not completed";
    for (int which = 0; which < 2; ++which) {
        uint64_t kept = 0;
        for (const Lane& lane : r.lanes)
            if (lane.name == (which ? "second" : "first")) kept = lane.markerCount();
        if (kept != told[which] && kept != told[which] + 1)
            return std::to_string(kept) + " markers came back of " + std::to_string(told[which]) + " published";
    }
    return {};
}

}  // namespace fugato
