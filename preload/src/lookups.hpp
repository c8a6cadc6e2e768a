// SPDX-License-Identifier: GPL-3.0-or-later
//
// What programs ask for functions by name.
#pragma once

#include "real_function.hpp"

extern "C" {
using Function = void (*)(void);
Function glXGetProcAddress(const unsigned char* name);
Function glXGetProcAddressARB(const unsigned char* name);
Function eglGetProcAddress(const char* name);
void* SDL_GL_GetProcAddress(const char* name);
void* SDL_LoadFunction(void* library, const char* name);
Function vkGetInstanceProcAddr(void* instance, const char* name);
Function vkGetDeviceProcAddr(void* device, const char* name);
}

namespace fugato::preload {

// clang-format off
/// All of them: X(name).
#define FUGATO_LOOKUPS(X) \
    X(glXGetProcAddress) X(glXGetProcAddressARB) X(eglGetProcAddress) X(SDL_GL_GetProcAddress) X(SDL_LoadFunction) \
    X(vkGetInstanceProcAddr)
/// Those of which each device has its own.
#define FUGATO_DEVICE_LOOKUPS(X) X(vkGetDeviceProcAddr)
// clang-format on

#define X(name) inline RealFunction<decltype(::name)> real_##name(#name);
FUGATO_LOOKUPS(X)
#undef X
#define X(name) inline DeviceFunction<decltype(::name)> real_##name(#name);
FUGATO_DEVICE_LOOKUPS(X)
#undef X

}  // namespace fugato::preload
