// SPDX-License-Identifier: GPL-3.0-or-later
#include "collecting.h"

#include <fugato/fugato.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cstring>
#include <fstream>
#include <map>

#include "format/recording_file.h"

namespace fugato {

namespace {

std::string paranoid() {
    std::string now;
    std::ifstream("/proc/sys/kernel/perf_event_paranoid") >> now;
    return now;
}

}  // namespace

Result<std::vector<Collectable>> whatCanBeCollected() {
    const int file = memfd_create("fugato", MFD_CLOEXEC);
    if (file < 0) return Failure{std::string("Nothing can be tried: ") + std::strerror(errno)};
    const std::string path = "/proc/self/fd/" + std::to_string(file);
    fug_options options{};
    options.size = sizeof options;
    options.buffer_folder = "";
    options.descriptor = file;
    options.os = FUG_OS_SWITCHES | FUG_OS_SAMPLES | FUG_OS_BLOCKING | FUG_OS_LOAD;
    if (const int error = fug_start(nullptr, &options)) {
        ::close(file);
        return Failure{std::string("Nothing can be tried: ") + std::strerror(error)};
    }
    fug_stop();
    EventStore store;
    const auto read = readRecordingFile(path, store);
    ::close(file);
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
        all.push_back(std::move(one));
    };
    add("switches", "which thread had a core when", "os switches", lower + "-1" + raise + ": other programs too");
    add("switches", "who wakes whom", "os wake-ups",
        "sudo mount -o remount,mode=755 -t tracefs none /sys/kernel/tracing; " + lower + "-1" + raise);
    add("samples", "call stacks of running threads", "os samples", lower + "2" + raise);
    add("blocking", "call stacks where threads block", "os blocking", lower + "1" + raise);
    all.push_back({"load", "use of cores, memory, disk, network", true, "four times a second", {}});
    return all;
}

}  // namespace fugato
