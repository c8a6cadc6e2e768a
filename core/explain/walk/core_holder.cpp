// SPDX-License-Identifier: GPL-3.0-or-later
#include "core_holder.h"

#include <map>

namespace fugato {

namespace {

/// That of the process's first thread, else of any; threads of the system's own without the core they belong to
/// ("kworker/0:1" is "kworker").
std::string programName(const Recording& recording, uint32_t process) {
    std::string name;
    const auto first = recording.osThreads.find(process);
    if (first != recording.osThreads.end() && first->second.process == process) name = first->second.name;
    if (name.empty())
        for (const auto& [id, thread] : recording.osThreads)
            if (thread.process == process && !thread.name.empty()) {
                name = thread.name;
                break;
            }
    if (name.empty()) return "process " + std::to_string(process);
    const size_t core = name.find('/');
    return core == std::string::npos || core == 0 ? name : name.substr(0, core);
}

}  // namespace

std::string coreHolderText(const Recording& recording, CoreHolder holder) {
    if (holder == kNone) return "an unknown program";
    if (holder == kSystem) return "the system itself";
    if (holder == kStoppedMachine) return "the machine itself";
    if (holder < recording.groups.size()) return recording.groups[holder].name;
    return programName(recording, holder - kOtherProgram);
}

bool isOfTheSystem(const Recording& recording, CoreHolder holder) {
    if (holder < kOtherProgram || holder >= kSystem) return false;
    const auto thread = recording.osThreads.find(holder - kOtherProgram);
    return thread != recording.osThreads.end() && thread->second.system;
}

const char* contentionName(Contention contention) {
    static const char* const names[] = {"none", "own_threads", "other_programs", "machine_stopped"};
    return names[static_cast<size_t>(contention)];
}

CoreHolders::CoreHolders(const Recording& recording) {
    of_[kStoppedMachine] = kStoppedMachine;
    std::map<uint32_t, CoreHolder> ofProcess;
    std::map<std::string, uint32_t> ofName;  // the process that stands for all of its name
    for (const auto& [id, thread] : recording.osThreads) {
        const auto [known, isNew] = ofProcess.try_emplace(thread.process, kNone);
        if (isNew)
            known->second = kOtherProgram +
                            ofName.try_emplace(programName(recording, thread.process), thread.process).first->second;
        of_[id] = known->second;
    }
    for (const Lane& lane : recording.lanes)
        if (lane.kind != LaneKind::Core && lane.osId) of_[static_cast<uint32_t>(lane.osId)] = lane.group;
}

}  // namespace fugato
