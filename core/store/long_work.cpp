// SPDX-License-Identifier: GPL-3.0-or-later
#include "long_work.h"

#include <fugato_mutex.hpp>

namespace fugato {

namespace {
thread_local bool threadIsQuick = false;
Mutex mutex;
std::vector<std::string>& met() FUGATO_NEEDS(mutex) {
    static std::vector<std::string> names;
    return names;
}
}  // namespace

void keepThreadQuick(bool quick) { threadIsQuick = quick; }

void longWork(const char* what) {
    if (!threadIsQuick) return;
    const Lock guard(mutex);
    met().emplace_back(what);
}

std::vector<std::string> longWorkOnQuickThreads() {
    const Lock guard(mutex);
    return met();
}

}  // namespace fugato
