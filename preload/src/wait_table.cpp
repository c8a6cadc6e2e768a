// SPDX-License-Identifier: GPL-3.0-or-later
#include "wait_table.hpp"

#include <dlfcn.h>

#include <cstdio>
#include <cstring>

#include "hook.hpp"

namespace fugato::preload {

namespace {

constexpr size_t kPlaces = size_t{1} << 14;  // a power of two
constexpr size_t kMostSteps = 16;
WaitedFor places[kPlaces];  // pages that are not used cost nothing

size_t firstPlace(const void* address) {
    return (reinterpret_cast<uintptr_t>(address) * 0x9e3779b97f4a7c15u) >> (64 - 14);
}

const char* fileOf(const char* path) {
    const char* const slash = std::strrchr(path, '/');
    return slash ? slash + 1 : path;
}

}  // namespace

WaitedFor* waitedForAt(const void* address) {
    const auto wanted = reinterpret_cast<uintptr_t>(address);
    for (size_t step = 0, at = firstPlace(address); step < kMostSteps; ++step, at = (at + 1) % kPlaces) {
        const uintptr_t there = places[at].address.load(std::memory_order_acquire);
        if (there == wanted) return &places[at];
        if (!there) return nullptr;
    }
    return nullptr;
}

WaitedFor* waitForAt(const void* address) {
    const auto wanted = reinterpret_cast<uintptr_t>(address);
    for (size_t step = 0, at = firstPlace(address); step < kMostSteps; ++step, at = (at + 1) % kPlaces) {
        uintptr_t there = 0;
        if (places[at].address.compare_exchange_strong(there, wanted, std::memory_order_acq_rel) || there == wanted)
            return &places[at];
    }
    return nullptr;
}

void tellWaiting(const void* address) {
    WaitedFor* const one = waitedForAt(address);
    if (!one || !one->waiting.load(std::memory_order_acquire) || !recorded()) return;
    const uint64_t link = fug_link_new();
    fug_link_out(link);
    one->link.store(link, std::memory_order_release);
}

uint32_t objectOf(WaitedFor& one, const char* what, const void* caller) {
    uint32_t object = one.object.load(std::memory_order_relaxed);
    if (object) return object;
    static std::atomic<unsigned> numbers{0};
    char name[256];
    Dl_info its{}, callers{};
    const auto* const address = reinterpret_cast<const void*>(one.address.load());
    if (dladdr(address, &its) && its.dli_sname)
        std::snprintf(name, sizeof name, "%s", its.dli_sname);
    else if (dladdr(caller, &callers) && callers.dli_fname)
        std::snprintf(name, sizeof name, "%s %u, first in %s", what, numbers.fetch_add(1) + 1,
                      fileOf(callers.dli_fname));
    else
        std::snprintf(name, sizeof name, "%s %u", what, numbers.fetch_add(1) + 1);
    object = fug_object(name);
    one.object.store(object, std::memory_order_relaxed);
    return object;
}

}  // namespace fugato::preload
