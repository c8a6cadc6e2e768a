// SPDX-License-Identifier: GPL-3.0-or-later
//
// The threads of the application beside the one of the interface: those that paint, and those that do all else, which
// stand back behind the interface where cores are few. Of these, what is waited for is begun before what may be wanted
// later. (Loops of the core that run on several cores at once share out their work
// themselves: core/store/side_by_side.h.)
#pragma once

#include <functional>
#include <memory>

namespace fugato {

enum class Urgency {
    Ahead,     // not waited for yet
    Wanted,    // asked for
    Painting,  // the picture that is being painted waits for it
};

/// Runs `work` as soon as a thread is free; what is more urgent comes first. Returns false where the system gave the
/// program no threads at all. What `work` throws ends the program.
bool startWork(std::function<void()> work, Urgency urgency);
/// Gives up one use of what may take long to be freed. Where it was the last, that is freed on another thread.
void freeElsewhere(std::shared_ptr<const void> used);
/// The same thing, which is freed so once nobody uses it any more.
template <class T>
std::shared_ptr<T> freedElsewhere(std::shared_ptr<T> made) {
    T* const thing = made.get();
    if (!thing) return nullptr;
    return std::shared_ptr<T>(thing, [made = std::move(made)](T*) mutable { freeElsewhere(std::move(made)); });
}
/// How much may go on at once.
int workerCount();

}  // namespace fugato
