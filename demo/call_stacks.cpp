// SPDX-License-Identifier: GPL-3.0-or-later
#include "call_stacks.h"

#include <execinfo.h>

#include <algorithm>

namespace skerry {

thread_local KeptPlaces* keptPlaces = nullptr;

__attribute__((noinline)) void KeptPlaces::tell() {
    constexpr int kMost = 64;
    CallStack stack;
    ++told_;
    for (CallStack& kept : kept_) {
        if (chance_() % told_) continue;
        if (stack.empty()) {
            void* addresses[kMost];
            const int count = backtrace(addresses, kMost);
            void** const past = addresses + std::max(count, 0);
            stack.assign(std::find(addresses, past, __builtin_return_address(0)), past);  // without this function
            // Innermost is where a thread is, not where a call returns to.
            if (!stack.empty()) stack.front() = static_cast<const char*>(stack.front()) - 1;
        }
        kept = stack;
    }
}

}  // namespace skerry
