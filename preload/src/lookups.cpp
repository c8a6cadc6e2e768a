// SPDX-License-Identifier: GPL-3.0-or-later
//
// Functions that programs ask for by name (dlsym, and what OpenGL, EGL, SDL and Vulkan have of that kind) instead of
// calling them: they get those of this library too.
#include "lookups.hpp"

#include <dlfcn.h>

#include <cstring>

#include "begin.hpp"
#include "gl_work.hpp"
#include "hook.hpp"
#include "library_calls.hpp"
#include "presents.hpp"
#include "vulkan_work.hpp"

namespace fugato::preload {

namespace {

RealFunction<decltype(dlopen)> real_dlopen("dlopen", "GLIBC_2.34");

#define ONE(name) {#name, reinterpret_cast<void*>(&::name), [](void* found) { real_##name.offer(found); }, nullptr},
#define OF_DEVICE(name)                                                                      \
    {#name, reinterpret_cast<void*>(&::name), [](void* found) { real_##name.offer(found); }, \
     [](const void* device, void* found) { real_##name.offerFor(device, found); }},
#define CALL(category, description, result, name, parameters, arguments) ONE(name)
#define DRAW(name, parameters, arguments) ONE(name)

struct StandIn {
    const char* name;
    void* function;
    void (*offer)(void* found);                         // what the program would have had
    void (*offerFor)(const void* device, void* found);  // where each device has its own; else null
};
// clang-format off
const StandIn kStandIns[] = {
    FUGATO_PICTURE_FUNCTIONS(ONE) FUGATO_DEVICE_FUNCTIONS(OF_DEVICE) FUGATO_LIBRARY_CALLS(CALL) FUGATO_LOOKUPS(ONE)
    FUGATO_DEVICE_LOOKUPS(OF_DEVICE) FUGATO_GL_DRAWS(DRAW) FUGATO_GL_CONTEXTS(ONE) FUGATO_VULKAN_SET_UP(ONE)
    FUGATO_VULKAN_WORK(OF_DEVICE)};
// clang-format on

const StandIn* standInOf(const char* name) {
    if (!name) return nullptr;
    for (const StandIn& one : kStandIns)
        if (std::strcmp(one.name, name) == 0) return &one;
    return nullptr;
}

/// What the program gets for `found`, which it asked for by name.
template <class Found>
Found replaced(const char* name, Found found, const void* device = nullptr) {
    const StandIn* const one = found ? standInOf(name) : nullptr;
    if (!one) return found;
    void* const theirs = reinterpret_cast<void*>(found);
    if (theirs != one->function) device && one->offerFor ? one->offerFor(device, theirs) : one->offer(theirs);
    beginWherePicturesAre();
    return reinterpret_cast<Found>(one->function);
}

}  // namespace

}  // namespace fugato::preload

using namespace fugato::preload;

/// Names that are not ours are left to the dynamic linker, which goes by the caller's address: so this must be a jump,
/// not a call.
FUGATO_STANDS_IN __attribute__((optimize("O2"))) void* dlsym(void* library, const char* name) noexcept {
    if (library == RTLD_NEXT || !standInOf(name)) return realDlsym()(library, name);
    return replaced(name, realDlsym()(library, name));
}
FUGATO_STANDS_IN __attribute__((optimize("O2"))) void* dlopen(const char* path, int flags) noexcept {
    if (path && isPictureLibrary(path)) beginWherePicturesAre();
    return real_dlopen.get()(path, flags);
}

FUGATO_STANDS_IN Function glXGetProcAddress(const unsigned char* name) {
    return replaced(reinterpret_cast<const char*>(name), real_glXGetProcAddress.get()(name));
}
FUGATO_STANDS_IN Function glXGetProcAddressARB(const unsigned char* name) {
    return replaced(reinterpret_cast<const char*>(name), real_glXGetProcAddressARB.get()(name));
}
FUGATO_STANDS_IN Function eglGetProcAddress(const char* name) {
    return replaced(name, real_eglGetProcAddress.get()(name));
}
FUGATO_STANDS_IN void* SDL_GL_GetProcAddress(const char* name) {
    return replaced(name, real_SDL_GL_GetProcAddress.get()(name));
}
FUGATO_STANDS_IN void* SDL_LoadFunction(void* library, const char* name) {
    return replaced(name, real_SDL_LoadFunction.get()(library, name));
}
FUGATO_STANDS_IN Function vkGetInstanceProcAddr(void* instance, const char* name) {
    return replaced(name, real_vkGetInstanceProcAddr.get()(instance, name));
}
FUGATO_STANDS_IN Function vkGetDeviceProcAddr(void* device, const char* name) {
    return replaced(name, real_vkGetDeviceProcAddr.get(device)(device, name), device);
}
