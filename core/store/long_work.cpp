// SPDX-License-Identifier: GPL-3.0-or-later
#include "long_work.h"

#include <mutex>

namespace fugato {

namespace {
thread_local bool threadIsQuick = false;
std::mutex lock;
std::vector<std::string>& met() {  // guarded by lock
    static std::vector<std::string> names;
    return names;
}
}  // namespace

void keepThreadQuick(bool quick) { threadIsQuick = quick; }

void longWork(const char* what) {
    if (!threadIsQuick) return;
    const std::lock_guard guard(lock);
    met().emplace_back(what);
}

std::vector<std::string> longWorkOnQuickThreads() {
    const std::lock_guard guard(lock);
    return met();
}

}  // namespace fugato
