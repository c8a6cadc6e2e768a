// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once

#include <algorithm>
#include <functional>
#include <thread>
#include <vector>

namespace fugato {

/// As many as there are cores, but no more than are worth it for so many shares of work.
inline size_t threadsFor(size_t shares) {
    return std::clamp<size_t>(std::thread::hardware_concurrency(), 1, shares + 1);
}

/// Runs `work(0)` here and the others beside it.
inline void sideBySide(size_t threads, const std::function<void(size_t)>& work) {
    std::vector<std::thread> helpers;
    for (size_t i = 1; i < threads; ++i) helpers.emplace_back(work, i);
    work(0);
    for (std::thread& helper : helpers) helper.join();
}

}  // namespace fugato
