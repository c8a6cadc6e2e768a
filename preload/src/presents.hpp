// SPDX-License-Identifier: GPL-3.0-or-later
//
// The functions that show a picture, whose returns divide a program's time into frames, and those that wait for the
// device. Declared as their libraries do, but for types that are only passed on.
#pragma once

#include <cstdint>

#include "real_function.hpp"

extern "C" {
void glXSwapBuffers(void* display, unsigned long drawable);
int64_t glXSwapBuffersMscOML(void* display, unsigned long drawable, int64_t target, int64_t divisor, int64_t remainder);
unsigned eglSwapBuffers(void* display, void* surface);
unsigned eglSwapBuffersWithDamageKHR(void* display, void* surface, const int32_t* rectangles, int32_t count);
unsigned eglSwapBuffersWithDamageEXT(void* display, void* surface, const int32_t* rectangles, int32_t count);
void SDL_GL_SwapWindow(void* window);
void SDL_RenderPresent(void* renderer);
int SDL_UpdateWindowSurface(void* window);
int32_t vkQueuePresentKHR(void* queue, const void* what);

void glXSwapIntervalEXT(void* display, unsigned long drawable, int interval);
int glXSwapIntervalMESA(unsigned interval);
int glXSwapIntervalSGI(int interval);
unsigned eglSwapInterval(void* display, int32_t interval);

void glFinish(void);
unsigned glClientWaitSync(void* sync, unsigned flags, uint64_t ns);
int32_t vkWaitForFences(void* device, uint32_t count, const uint64_t* fences, uint32_t all, uint64_t ns);
int32_t vkWaitSemaphores(void* device, const void* what, uint64_t ns);
int32_t vkAcquireNextImageKHR(void* device, uint64_t swapchain, uint64_t ns, uint64_t semaphore, uint64_t fence,
                              uint32_t* image);
int32_t vkAcquireNextImage2KHR(void* device, const void* what, uint32_t* image);
int32_t vkQueueWaitIdle(void* queue);
int32_t vkDeviceWaitIdle(void* device);
}

namespace fugato::preload {

// clang-format off
/// All of them: X(name).
#define FUGATO_PICTURE_FUNCTIONS(X) \
    X(glXSwapBuffers) X(glXSwapBuffersMscOML) X(eglSwapBuffers) X(eglSwapBuffersWithDamageKHR) \
    X(eglSwapBuffersWithDamageEXT) X(SDL_GL_SwapWindow) X(SDL_RenderPresent) X(SDL_UpdateWindowSurface) \
    X(glXSwapIntervalEXT) X(glXSwapIntervalMESA) X(glXSwapIntervalSGI) X(eglSwapInterval) X(glFinish) \
    X(glClientWaitSync)
/// Those that belong to one device, or a queue of it: X(name).
#define FUGATO_DEVICE_FUNCTIONS(X) \
    X(vkQueuePresentKHR) X(vkWaitForFences) X(vkWaitSemaphores) X(vkAcquireNextImageKHR) X(vkAcquireNextImage2KHR) \
    X(vkQueueWaitIdle) X(vkDeviceWaitIdle)
// clang-format on

#define X(name) inline RealFunction<decltype(::name)> real_##name(#name);
FUGATO_PICTURE_FUNCTIONS(X)
#undef X
#define X(name) inline DeviceFunction<decltype(::name)> real_##name(#name);
FUGATO_DEVICE_FUNCTIONS(X)
#undef X

/// So many ticks of the display a picture stays at least; 0: it does not wait for them.
void setSwapInterval(int interval);

}  // namespace fugato::preload
