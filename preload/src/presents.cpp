// SPDX-License-Identifier: GPL-3.0-or-later
#include "presents.hpp"

#include <cstdio>

#include "begin.hpp"
#include "hook.hpp"
#include "set_up_call.hpp"

namespace fugato::preload {

namespace {

__thread bool pictures = false;    // this thread shows them
__thread bool presenting = false;  // within a call that shows one, which may call another
std::atomic<int> swapInterval{0};  // as the program set it: how many ticks of the display a picture stays at least

/// Frames of one window, or whatever else pictures are shown in.
struct Surface {
    std::atomic<uint64_t> key{0};
    std::atomic<uint32_t> series{0};
};
constexpr size_t kMostSurfaces = 16;  // the rest counts to the last one
Surface surfaces[kMostSurfaces];

uint32_t seriesOf(uint64_t key) {
    size_t at = 0;
    for (; at < kMostSurfaces - 1; ++at) {
        uint64_t there = 0;
        if (surfaces[at].key.compare_exchange_strong(there, key) || there == key) break;
    }
    uint32_t series = surfaces[at].series.load(std::memory_order_acquire);
    if (series) return series;
    char name[32] = "frames";
    if (at) std::snprintf(name, sizeof name, "frames of window %zu", at + 1);
    uint32_t none = 0;
    series = fug_series(name, 0);
    return surfaces[at].series.compare_exchange_strong(none, series) ? series : none;
}

fug_site kPresent = FUG_SITE("Show picture", "picture", "Hands the finished picture over to be shown");
fug_site kDevice = FUG_SITE("Wait for GPU", "wait", "Until the device has finished");

/// Calls `show`, and begins the next frame when it returns.
template <class Show>
auto present(uint64_t surface, Show&& show) {
    if (presenting || recording::inside) return show();
    presenting = pictures = true;
    beginWithPicture();
    const auto shown = [&] {
        const KeepErrno keep;
        presenting = false;
        // Also where nothing is recorded yet: it may begin after so many frames.
        if (!recording::inside) fug_frame_tick(seriesOf(surface), 0);
    };
    struct Shown {
        decltype(shown)& then;
        ~Shown() { then(); }
    } const after{shown};
    const Wait told(kPresent, swapInterval.load(std::memory_order_relaxed) ? FUG_WAIT_PACING : FUG_WAIT_GPU);
    return show();
}

uint64_t keyOf(const void* pointer) { return reinterpret_cast<uintptr_t>(pointer); }

}  // namespace

bool showsPictures() { return pictures; }

}  // namespace fugato::preload

using namespace fugato::preload;

// ---- what shows a picture -----------------------------------------------------------------------------

FUGATO_STANDS_IN void glXSwapBuffers(void* display, unsigned long drawable) {
    present(drawable, [=] { real_glXSwapBuffers.get()(display, drawable); });
}
FUGATO_STANDS_IN int64_t glXSwapBuffersMscOML(void* display, unsigned long drawable, int64_t target, int64_t divisor,
                                              int64_t remainder) {
    return present(drawable,
                   [=] { return real_glXSwapBuffersMscOML.get()(display, drawable, target, divisor, remainder); });
}
FUGATO_STANDS_IN unsigned eglSwapBuffers(void* display, void* surface) {
    return present(keyOf(surface), [=] { return real_eglSwapBuffers.get()(display, surface); });
}
FUGATO_STANDS_IN unsigned eglSwapBuffersWithDamageKHR(void* display, void* surface, const int32_t* rectangles,
                                                      int32_t count) {
    return present(keyOf(surface),
                   [=] { return real_eglSwapBuffersWithDamageKHR.get()(display, surface, rectangles, count); });
}
FUGATO_STANDS_IN unsigned eglSwapBuffersWithDamageEXT(void* display, void* surface, const int32_t* rectangles,
                                                      int32_t count) {
    return present(keyOf(surface),
                   [=] { return real_eglSwapBuffersWithDamageEXT.get()(display, surface, rectangles, count); });
}
FUGATO_STANDS_IN void SDL_GL_SwapWindow(void* window) {
    present(keyOf(window), [=] { real_SDL_GL_SwapWindow.get()(window); });
}
FUGATO_STANDS_IN void SDL_RenderPresent(void* renderer) {
    present(keyOf(renderer), [=] { real_SDL_RenderPresent.get()(renderer); });
}
FUGATO_STANDS_IN int SDL_UpdateWindowSurface(void* window) {
    return present(keyOf(window), [=] { return real_SDL_UpdateWindowSurface.get()(window); });
}
FUGATO_STANDS_IN int32_t vkQueuePresentKHR(void* queue, const void* what) {
    return present(keyOf(queue), [=] { return real_vkQueuePresentKHR.get(queue)(queue, what); });
}

// ---- how long one stays -------------------------------------------------------------------------------

FUGATO_STANDS_IN void glXSwapIntervalEXT(void* display, unsigned long drawable, int interval) {
    swapInterval.store(interval);
    real_glXSwapIntervalEXT.get()(display, drawable, interval);
}
FUGATO_STANDS_IN int glXSwapIntervalMESA(unsigned interval) {
    swapInterval.store(static_cast<int>(interval));
    return real_glXSwapIntervalMESA.get()(interval);
}
FUGATO_STANDS_IN int glXSwapIntervalSGI(int interval) {
    swapInterval.store(interval);
    return real_glXSwapIntervalSGI.get()(interval);
}
FUGATO_STANDS_IN unsigned eglSwapInterval(void* display, int32_t interval) {
    swapInterval.store(interval);
    return real_eglSwapInterval.get()(display, interval);
}

// ---- waiting for the device ---------------------------------------------------------------------------

FUGATO_STANDS_IN void glFinish(void) {
    const Wait told(kDevice, FUG_WAIT_GPU);
    real_glFinish.get()();
}
FUGATO_STANDS_IN unsigned glClientWaitSync(void* sync, unsigned flags, uint64_t ns) {
    if (!ns) return real_glClientWaitSync.get()(sync, flags, ns);
    const Wait told(kDevice, FUG_WAIT_GPU);
    return real_glClientWaitSync.get()(sync, flags, ns);
}
FUGATO_STANDS_IN int32_t vkWaitForFences(void* device, uint32_t count, const uint64_t* fences, uint32_t all,
                                         uint64_t ns) {
    if (!ns) return real_vkWaitForFences.get(device)(device, count, fences, all, ns);
    const Wait told(kDevice, FUG_WAIT_GPU);
    return real_vkWaitForFences.get(device)(device, count, fences, all, ns);
}
FUGATO_STANDS_IN int32_t vkQueueWaitIdle(void* queue) {
    const Wait told(kDevice, FUG_WAIT_GPU);
    return real_vkQueueWaitIdle.get(queue)(queue);
}
FUGATO_STANDS_IN int32_t vkDeviceWaitIdle(void* device) {
    const Wait told(kDevice, FUG_WAIT_GPU);
    return real_vkDeviceWaitIdle.get(device)(device);
}
