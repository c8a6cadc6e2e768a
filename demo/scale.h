// SPDX-License-Identifier: GPL-3.0-or-later
//
// Recordings of any size for trying how things grow: thirty threads and queues of the regatta, a
// thousand markers a frame, nesting to a depth of 20, 2 000 names, bursts of loading, one lane that is
// an enormous flat loop, one very deep recursion, and now and then a late frame. Written straight into
// a file, on a virtual clock, the same for the same seed.
#pragma once

#include <cstdint>
#include <string>

namespace skerry {

/// Writes a recording of at least `markers` markers, by less than one frame more; with `system`, also what the system
/// would tell of each frame: ten switches on two cores, two wake-ups, a hundred call stacks. Returns false, with a
/// sentence in `problem`, where the file cannot be written, or is there already and must not be replaced (`overwrite`).
bool writeScaled(const std::string& path, uint64_t markers, bool system, uint64_t seed, bool overwrite,
                 std::string& problem);

}  // namespace skerry
