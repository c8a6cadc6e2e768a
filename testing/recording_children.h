// SPDX-License-Identifier: GPL-3.0-or-later
//
// Children that record until they are killed, and count what they told.
#pragma once

#include <sys/mman.h>
#include <unistd.h>

#include <atomic>
#include <fugato/fugato.hpp>
#include <string>

#include "children.h"
#include "core/model/open_recording.h"

namespace fugato {

/// Counts in memory that outlasts the child.
class Shared {
public:
    Shared()
        : at_(static_cast<std::atomic<uint64_t>*>(
              mmap(nullptr, 4096, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0))) {}
    ~Shared() { munmap(at_, 4096); }
    std::atomic<uint64_t>& operator[](int i) { return at_[i]; }

private:
    std::atomic<uint64_t>* at_;
};

inline void mark(int count = 1) {
    for (int i = 0; i < count; ++i) {
        FUG_MARK("Step", "hostile", "one of many");
    }
}

/// Records on and on, counting.
[[noreturn]] inline void recordForEver(const std::string& file, Shared& told, fug_options options = {}) {
    if (!options.buffer_events) options.buffer_events = 1 << 20;  // enough for a machine that stands still for a while
    if (fug_start(file.c_str(), &options) != 0) _exit(9);
    for (;;) {
        mark();
        ++told[0];
        for (int k = 0; k < 3000; ++k) asm volatile("" ::: "memory");
    }
}

inline pid_t startRecording(const std::string& file, Shared& told, uint64_t atLeast = 1000, fug_options options = {}) {
    told[0] = 0;
    const pid_t child = inChild([&] { recordForEver(file, told, options); });
    for (int i = 0; i < 20'000 && told[0] < atLeast; ++i) usleep(1000);
    return child;
}

inline uint64_t markersIn(const std::string& file) {
    const auto opened = openRecording(file);
    return opened ? (*opened)->markerCount() : 0;
}

/// Whether a child that was killed after it had counted `told` may have recorded so many.
inline bool isCount(uint64_t markers, uint64_t told) { return markers == told || markers == told + 1; }

}  // namespace fugato
