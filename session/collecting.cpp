// SPDX-License-Identifier: GPL-3.0-or-later
#include "collecting.h"

#include <fugato/fugato.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <fugato_collect.hpp>
#include <functional>
#include <map>
#include <mutex>
#include <thread>

#include "format/number_text.h"
#include "format/recording_file.h"

namespace fugato {

namespace {

std::string paranoid() {
    std::string now;
    std::ifstream("/proc/sys/kernel/perf_event_paranoid") >> now;
    return now;
}

}  // namespace

namespace {

using Clock = std::chrono::steady_clock;
constexpr int kRounds = 24, kHandOvers = 400, kAllocations = 5000;
constexpr uint64_t kSteps = 8'000'000;  // of computing: several milliseconds

double secondsOf(const std::function<void()>& work) {
    const auto begin = Clock::now();
    work();
    return std::chrono::duration<double>(Clock::now() - begin).count();
}

void compute() {
    volatile uint64_t sum = 0;
    for (uint64_t i = 0; i < kSteps; ++i) sum = sum + i;
}

/// Two threads wake each other in turn.
void handOver() {
    std::mutex mutex;
    std::condition_variable turned;
    int turn = 0;
    const auto play = [&](int me) {
        for (int i = 0; i < kHandOvers; ++i) {
            std::unique_lock lock(mutex);
            turned.wait(lock, [&] { return turn % 2 == me; });
            ++turn;
            turned.notify_one();
        }
    };
    std::thread other(play, 1);
    play(0);
    other.join();
}

/// Takes memory and gives it back; `told` as the library does that stands in for malloc.
void allocate(bool told) {
    for (int i = 0; i < kAllocations; ++i) {
        void* volatile block = std::malloc(64);
        if (told) fug_memory_taken(0, block, 64, nullptr);
        if (told) fug_memory_given(0, block);
        std::free(block);
    }
}

double median(std::vector<double> values) {
    std::nth_element(values.begin(), values.begin() + static_cast<ptrdiff_t>(values.size() / 2), values.end());
    return values[values.size() / 2];
}

/// Records this program to a file of no name while it lives.
class TrialRecording {
public:
    explicit TrialRecording(uint32_t os) : file_(memfd_create("fugato", MFD_CLOEXEC)) {
        fug_options options{};
        options.size = sizeof options;
        options.buffer_folder = "";
        options.descriptor = file_;
        options.os = os;
        error_ = file_ < 0 ? errno : fug_start(nullptr, &options);
    }
    ~TrialRecording() {
        end();
        if (file_ >= 0) ::close(file_);
    }
    TrialRecording(const TrialRecording&) = delete;
    TrialRecording& operator=(const TrialRecording&) = delete;
    int error() const { return error_; }
    std::string path() const { return "/proc/self/fd/" + std::to_string(file_); }
    void end() {
        if (!error_) fug_stop();
    }

private:
    const int file_;
    int error_ = 0;
};

}  // namespace

bool collectsMemory(const std::string& words) { return ("," + words + ",").find(",memory,") != std::string::npos; }

std::shared_ptr<const CollectingCost> measureCollecting(const std::string& words, const Progress& progress) {
    auto cost = std::make_shared<CollectingCost>();
    std::vector<double> computing, waiting, allocating;
    const bool memory = collectsMemory(words);
    for (int round = 0; round < kRounds; ++round) {
        if (!progress(static_cast<double>(round) / kRounds)) return nullptr;
        double with[3], without[3];
        const auto take = [](double(&to)[3], bool allocations) {
            to[0] = secondsOf(compute);
            to[1] = secondsOf(handOver);
            to[2] = secondsOf([&] { allocate(allocations); });
        };
        const auto record = [&] {
            const TrialRecording trial(osActivitiesIn(words));
            if (trial.error()) cost->trouble = std::string("Nothing can be tried: ") + std::strerror(trial.error());
            take(with, memory);
        };
        if (round % 2) record();
        take(without, false);
        if (round % 2 == 0) record();
        if (!cost->trouble.empty()) return cost;
        computing.push_back(with[0] / without[0] - 1);
        waiting.push_back((with[1] - without[1]) / (2.0 * kHandOvers));
        allocating.push_back((with[2] - without[2]) / kAllocations);
    }
    cost->ofRunning = std::max(0.0, median(std::move(computing)));
    cost->nsASwitch = std::max(0.0, median(std::move(waiting)) * 1e9);
    if (memory) cost->nsAnAllocation = std::max(0.0, median(std::move(allocating)) * 1e9);
    return cost;
}

std::string costText(const CollectingCost& cost) {
    return "Measured on this machine: " + fixedText(cost.ofRunning * 100, 1) +
           " % of the time of a thread that computes, and " + fixedText(cost.nsASwitch / 1000, 1) +
           " us each time a thread waits and is woken" +
           (cost.nsAnAllocation ? "; " + fixedText(*cost.nsAnAllocation, 0) + " ns for each allocation." : ".");
}

Result<std::vector<Collectable>> whatCanBeCollected() {
    TrialRecording trial(FUG_OS_SWITCHES | FUG_OS_SAMPLES | FUG_OS_BLOCKING | FUG_OS_LOAD);
    if (trial.error()) return Failure{std::string("Nothing can be tried: ") + std::strerror(trial.error())};
    trial.end();
    EventStore store;
    const auto read = readRecordingFile(trial.path(), store);
    if (!read) return read.failure();
    std::map<std::string, std::string> facts;
    for (const auto& definition : store.definitions)
        if (const auto* fact = std::get_if<ContextDefinition>(&definition)) facts[fact->key] = fact->value;
    const std::string lower = "sudo sysctl kernel.perf_event_paranoid=", raise = " (now " + paranoid() + ")";
    std::vector<Collectable> all;
    const auto add = [&](const char* word, const char* what, const char* fact, const std::string& advice) {
        Collectable one{word, what, true, facts[fact], {}};
        one.possible = !one.told.empty() && one.told.find("not recorded") != 0;
        if (one.told.find("not recorded") != std::string::npos) one.advice = advice;
        constexpr std::string_view kNot = "not recorded: ";  // said by `possible`
        if (one.told.rfind(kNot, 0) == 0) one.told.erase(0, kNot.size());
        all.push_back(std::move(one));
    };
    add("switches", "which thread had a core when", "os switches", lower + "-1" + raise + ": other programs too");
    add("switches", "who wakes whom", "os wake-ups",
        "sudo mount -o remount,mode=755 -t tracefs none /sys/kernel/tracing; " + lower + "-1" + raise);
    add("samples", "call stacks of running threads", "os samples", lower + "2" + raise);
    add("blocking", "call stacks where threads block", "os blocking", lower + "1" + raise);
    all.push_back({"load", "use of cores, memory, disk, network", true, "four times a second", {}});
    all.push_back({"memory", "what an unmodified program allocates", true, "by marker; two events an allocation", {}});
    return all;
}

}  // namespace fugato
