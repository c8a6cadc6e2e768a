// SPDX-License-Identifier: GPL-3.0-or-later
#include <memory>
#include <string>
#include <unordered_map>

#include "hook.hpp"

namespace fugato::preload {

namespace {

constexpr size_t kMostNames = 4000;
fug_site kOther = PLACELESS_SITE("other marks", "gpu", "The program gave too many names to tell them all");

}  // namespace

fug_site& siteNamed(std::string_view name) {
    static auto* const mutex = new std::mutex;  // never destroyed: threads may outlive it
    static auto* const sites = new std::unordered_map<std::string, std::unique_ptr<fug_site>>;
    const KeepErrno keep;
    const OwnLock guard(*mutex);
    const std::string key(name);
    const auto known = sites->find(key);
    if (known != sites->end()) return *known->second;
    if (sites->size() >= kMostNames) return kOther;
    const auto added = sites->emplace(key, std::make_unique<fug_site>()).first;
    *added->second = PLACELESS_SITE(added->first.c_str(), "gpu", "");
    return *added->second;
}

}  // namespace fugato::preload
