// SPDX-License-Identifier: MIT
//
// What the operating system did while recording, by its public interfaces: perf_event_open for
// switches, wake-ups and call stacks, /proc and /sys for loads. Each part that is not permitted is left out,
// with the reason as a fact of the recording ("os switches"). Used by the drain only, with
// Recorder::outputMutex held.
#pragma once

#include <linux/perf_event.h>

#include <cstdint>
#include <map>
#include <set>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "recorder_state.hpp"
#include "stack_unwinder.hpp"

namespace fugato::recording {

class OsActivity {
public:
    OsActivity() = default;
    ~OsActivity();
    OsActivity(const OsActivity&) = delete;
    OsActivity& operator=(const OsActivity&) = delete;

    void start(Recorder& r, uint32_t wanted, uint32_t sampleUs);
    /// Takes what has happened since the last call; `now` is CLOCK_MONOTONIC in ns.
    void poll(Recorder& r, uint64_t now, bool last) FUGATO_NEEDS(r.outputMutex);
    /// In a child after fork: the descriptors stay the parent's.
    void leaveFiles();

private:
    struct Core {
        struct Stop {  // of a thread that is about to leave the core; whether it blocks is told next
            uint32_t thread = 0;
            std::string stack;  // as an event holds it
        };
        int number = 0;
        int leader = -1;
        perf_event_mmap_page* ring = nullptr;
        size_t ringBytes = 0;  // besides the control page
        RecordedLane* lane = nullptr;
        uint64_t lastTime = 0;
        uint32_t running = layout::kUnknownThread;
        Stop stop;
    };
    struct Event {  // of those opened
        enum class Of : uint8_t { Switches, WakeUps, Samples, Blocking } of{};
        bool copies = false;  // tells stacks as copies
    };
    struct Sample {
        uint64_t ticks = 0;
        uint32_t process = 0, thread = 0;
        std::string_view fields;  // what the event tells beside these
    };
    void startSwitches(Recorder& r);
    void startWakeUps(Recorder& r);
    void startSamples(Recorder& r, uint32_t sampleUs, bool copies);
    void startBlocking(Recorder& r);
    int openOnCore(perf_event_attr& attr, int process, Core& core, const Event& event);
    int openForThreads(perf_event_attr& attr, const Event& event);
    void readCore(Recorder& r, Core& core, uint64_t now) FUGATO_NEEDS(r.outputMutex);
    void take(Recorder& r, Core& core, const perf_event_header& header, const std::vector<char>& record, uint64_t now)
        FUGATO_NEEDS(r.outputMutex);
    void takeSample(Recorder& r, Core& core, const Event& event, const Sample& sample, uint64_t now)
        FUGATO_NEEDS(r.outputMutex);
    void addStop(Recorder& r, Core& core, uint64_t ticks, uint32_t thread, bool ready, uint64_t now)
        FUGATO_NEEDS(r.outputMutex);
    std::string stackOf(bool copied, std::string_view told);
    void takeWakeUp(Recorder& r, Core& core, uint64_t ticks, uint32_t by, std::string_view fields, uint64_t now)
        FUGATO_NEEDS(r.outputMutex);
    void nameThread(Recorder& r, uint32_t thread, uint32_t process);
    void renameThread(Recorder& r, uint32_t thread, uint32_t process, std::string_view name);
    void tellThread(Recorder& r, uint32_t thread, uint32_t process, std::string_view name);
    void startLoad(Recorder& r);
    void readLoad(Recorder& r, uint64_t now) FUGATO_NEEDS(r.outputMutex);
    uint32_t counter(Recorder& r, const std::string& name, const char* unit);

    std::vector<Core> cores_;
    std::vector<int> descriptors_;
    std::map<uint32_t, uint8_t> named_;           // by thread: how often it took another name
    std::unordered_map<uint64_t, Event> events_;  // by the system's ids of them
    StackUnwinder unwinder_;
    size_t wokenAt_ = 0;  // where in their fields the woken thread is
    bool load_ = false;

    struct CoreLoad {
        uint32_t busy = 0, frequency = 0;  // counters
        uint64_t idle = 0, all = 0;
    };
    RecordedLane* loadLane_ = nullptr;
    std::vector<CoreLoad> coreLoads_;
    uint32_t ownUse_ = 0, othersUse_ = 0, residentMb_ = 0, diskRead_ = 0, diskWritten_ = 0, netIn_ = 0, netOut_ = 0,
             softFaults_ = 0, hardFaults_ = 0;
    struct Totals {
        uint64_t busy = 0, own = 0, diskRead = 0, diskWritten = 0, netIn = 0, netOut = 0, soft = 0, hard = 0;
    } before_;
    bool haveDisk_ = false;
    uint64_t lastLoadNs_ = 0;
};

}  // namespace fugato::recording
