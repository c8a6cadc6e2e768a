// SPDX-License-Identifier: GPL-3.0-or-later
//
// Core holders in CPU contention: threads of the recorded program by lane group (each that ran has a lane),
// other programs by name, all processes of one name together. Only reads the recording; may be used on any thread.
#pragma once

#include <unordered_map>

#include "core/model/recording.h"

namespace fugato {

/// An index in Recording::groups, or kOtherProgram + a process that stands for all of its name, or kStoppedMachine;
/// kNone: not known.
using CoreHolder = uint32_t;
inline constexpr CoreHolder kOtherProgram = 0x8000'0000;
/// Where something else than a core is meant: the system itself, for a timer or a device.
inline constexpr CoreHolder kSystem = 0xffff'fffd;

/// The name of the lane group or the program.
std::string coreHolderText(const Recording& recording, CoreHolder holder);
/// Whether it is no program, but threads of the system's own.
bool isOfTheSystem(const Recording& recording, CoreHolder holder);

/// Whose doing CPU contention is.
enum class Contention : uint8_t { None, OwnThreads, OtherPrograms, MachineStopped };
inline constexpr size_t kContentions = 4;
const char* contentionName(Contention contention);  // "own_threads", "other_programs"…: the names used in JSON
/// By core holder; an unknown one counts among other programs.
constexpr Contention contentionBy(CoreHolder holder) {
    return holder < kOtherProgram      ? Contention::OwnThreads
           : holder == kStoppedMachine ? Contention::MachineStopped
                                       : Contention::OtherPrograms;
}

/// The holders by thread of the operating system. Costs a look at every lane and every known thread to make.
class CoreHolders {
public:
    explicit CoreHolders(const Recording& recording);
    CoreHolder of(uint32_t thread) const {
        const auto known = of_.find(thread);
        return known == of_.end() ? kNone : known->second;
    }

private:
    std::unordered_map<uint32_t, CoreHolder> of_;
};

}  // namespace fugato
