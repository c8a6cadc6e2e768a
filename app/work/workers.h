// SPDX-License-Identifier: GPL-3.0-or-later
//
// The threads of the application beside the one of the interface. What somebody waits for is begun before what may be
// wanted later, and all of it gives way to the interface where there are too few processors for both; but not what a
// picture waits for that is being painted. (Loops of the core that run on several cores at once share out their work
// themselves: core/store/side_by_side.h. Their threads have the priority of the one that starts them.)
#pragma once

#include <functional>

namespace fugato {

enum class Urgency {
    Ahead,     // nobody waits for it yet
    Wanted,    // somebody asked for it
    Painting,  // the picture that is being painted waits for it
};

/// Runs `work` as soon as a thread is free; what is more urgent comes first. Returns false where the system gave the
/// program no threads at all. What `work` throws ends the program.
bool startWork(std::function<void()> work, Urgency urgency);
/// How much may go on at once, beside what is for painting.
int workerCount();

}  // namespace fugato
