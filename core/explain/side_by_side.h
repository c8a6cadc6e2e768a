// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once

#include <functional>
#include <thread>
#include <vector>

namespace fugato {

/// Runs `work(0)` here and the others beside it.
inline void sideBySide(size_t threads, const std::function<void(size_t)>& work) {
    std::vector<std::thread> helpers;
    for (size_t i = 1; i < threads; ++i) helpers.emplace_back(work, i);
    work(0);
    for (std::thread& helper : helpers) helper.join();
}

}  // namespace fugato
