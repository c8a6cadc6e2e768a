// SPDX-License-Identifier: GPL-3.0-or-later
//
// Who is waiting for what lies at an address (a lock, a condition, a semaphore, a thread), so that who ends a wait can
// tell by a link. Any thread, without locks; what finds no room is told without who ended it.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>

namespace fugato::preload {

struct WaitedFor {
    std::atomic<uintptr_t> address{0};
    std::atomic<uint32_t> waiting{0}, object{0};
    std::atomic<uint64_t> link{0};  // that ended the wait, or will
};

/// Null where no thread ever waited for it.
WaitedFor* waitedForAt(const void* address);
/// Null where there is no room.
WaitedFor* waitForAt(const void* address);

/// What is about to be given back or signalled: a thread that waits for it learns by which.
void tellWaiting(const void* address);
/// The name of what lies at an address, as a recorded object; told once. `what`: "lock", "condition"… `caller`: an
/// address in the code that waits.
uint32_t objectOf(WaitedFor& one, const char* what, const void* caller);

}  // namespace fugato::preload
