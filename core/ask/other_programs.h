// SPDX-License-Identifier: GPL-3.0-or-later
//
// When other programs had the cores, where the system told it.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "core/model/recording.h"
#include "format/events.h"

namespace fugato {

/// All processes of one name together.
struct OtherProgram {
    struct Span {
        int64_t begin = 0, end = 0;
        int64_t until = 0;  // summed durations up to and with this one
    };
    std::string name;
    int64_t ran = 0;  // on all cores together, ns
    std::vector<Span>
        spans;  // in which at least one of its threads had a core; in order of time, apart from each other
    /// How much of a range of time lies in spans.
    int64_t between(int64_t begin, int64_t end) const;
};
using OtherProgramList = std::vector<OtherProgram>;

/// Whether the recording tells of any. Costs a look at every thread that the system named.
bool tellsOtherPrograms(const Recording& recording);

/// The one that ran most first; those beyond `most` are one, "3 more programs". Null where `progress` cancelled it.
/// Costs a look at every change on a core.
std::shared_ptr<const OtherProgramList> otherPrograms(const Recording& recording, size_t most,
                                                      const Progress& progress = {});

}  // namespace fugato
