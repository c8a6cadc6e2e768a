// SPDX-License-Identifier: GPL-3.0-or-later
#include "real_function.hpp"

#include <dlfcn.h>
#include <link.h>

#include <string>
#include <vector>

namespace fugato::preload {

namespace {

bool isOurs(const void* address) {
    Dl_info ours{}, its{};
    return dladdr(reinterpret_cast<const void*>(&isOurs), &ours) && dladdr(address, &its) &&
           ours.dli_fbase == its.dli_fbase;
}

/// In a library that the program loaded by itself, so that it is not among those that all see.
void* findInLoaded(const char* name) {
    std::vector<std::string> paths;
    dl_iterate_phdr(
        [](dl_phdr_info* info, size_t, void* to) {
            if (info->dlpi_name && *info->dlpi_name)
                static_cast<std::vector<std::string>*>(to)->emplace_back(info->dlpi_name);
            return 0;
        },
        &paths);
    for (const std::string& path : paths) {
        void* const library = dlopen(path.c_str(), RTLD_LAZY | RTLD_NOLOAD);
        if (!library) continue;
        void* const found = realDlsym()(library, name);
        dlclose(library);  // it stays: it was loaded before
        if (found && !isOurs(found)) return found;
    }
    return nullptr;
}

}  // namespace

Dlsym* realDlsym() {
    static std::atomic<Dlsym*> known{nullptr};
    Dlsym* found = known.load(std::memory_order_acquire);
    if (found) return found;
    for (const char* version : {"GLIBC_2.34", "GLIBC_2.2.5", "GLIBC_2.17", "GLIBC_2.0"}) {
        found = reinterpret_cast<Dlsym*>(dlvsym(RTLD_NEXT, "dlsym", version));
        if (found) break;
    }
    known.store(found, std::memory_order_release);
    return found;
}

void* findReal(const char* name, const char* version) {
    if (version)
        if (void* const found = dlvsym(RTLD_NEXT, name, version)) return found;
    if (void* const found = realDlsym()(RTLD_NEXT, name)) return found;
    return findInLoaded(name);
}

}  // namespace fugato::preload
