// SPDX-License-Identifier: GPL-3.0-or-later
#include "presents.hpp"

#include <cstdio>
#include <fugato/device_queue.hpp>

#include "begin.hpp"
#include "gl_work.hpp"
#include "hook.hpp"
#include "set_up_call.hpp"
#include "vulkan_work.hpp"

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

fug_site kPresent = PLACELESS_SITE("Show picture", "picture", "Hands the finished picture over to be shown");
fug_site kNextImage = PLACELESS_SITE("Wait for next image", "picture", "Until one may be drawn into");
fug_site kDevice = PLACELESS_SITE("Wait for GPU", "wait", "Until the device has finished");

/// A wait for the device, or for the display, which the device may keep waiting: ended by the work that finished in it.
class DeviceWait {
public:
    DeviceWait(fug_site& site, fug_wait_kind kind) : wait_(site, kind) {}
    ~DeviceWait() {
        const uint64_t inGl = finishedGlWork(since_), inVulkan = finishedVulkanWork(since_);
        if (const uint64_t link = inGl ? inGl : inVulkan) wait_.endedBy(link);
    }
    DeviceWait(const DeviceWait&) = delete;
    DeviceWait& operator=(const DeviceWait&) = delete;

private:
    const int64_t since_ = fug::monotonicNs();
    Wait wait_;
    const InDriver quiet_;
};

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
    const DeviceWait told(kPresent, swapInterval.load(std::memory_order_relaxed) ? FUG_WAIT_PACING : FUG_WAIT_GPU);
    return show();
}

uint64_t keyOf(const void* pointer) { return reinterpret_cast<uintptr_t>(pointer); }

}  // namespace

bool showsPictures() { return pictures; }

void setSwapInterval(int interval) { swapInterval.store(interval); }

}  // namespace fugato::preload

using namespace fugato::preload;

// ---- what shows a picture -----------------------------------------------------------------------------

FUGATO_STANDS_IN void glXSwapBuffers(void* display, unsigned long drawable) {
    present(drawable, [=] {
        endGlWork();
        real_glXSwapBuffers.get()(display, drawable);
    });
}
FUGATO_STANDS_IN int64_t glXSwapBuffersMscOML(void* display, unsigned long drawable, int64_t target, int64_t divisor,
                                              int64_t remainder) {
    return present(drawable, [=] {
        endGlWork();
        return real_glXSwapBuffersMscOML.get()(display, drawable, target, divisor, remainder);
    });
}
FUGATO_STANDS_IN unsigned eglSwapBuffers(void* display, void* surface) {
    return present(keyOf(surface), [=] {
        endGlWork();
        return real_eglSwapBuffers.get()(display, surface);
    });
}
FUGATO_STANDS_IN unsigned eglSwapBuffersWithDamageKHR(void* display, void* surface, const int32_t* rectangles,
                                                      int32_t count) {
    return present(keyOf(surface), [=] {
        endGlWork();
        return real_eglSwapBuffersWithDamageKHR.get()(display, surface, rectangles, count);
    });
}
FUGATO_STANDS_IN unsigned eglSwapBuffersWithDamageEXT(void* display, void* surface, const int32_t* rectangles,
                                                      int32_t count) {
    return present(keyOf(surface), [=] {
        endGlWork();
        return real_eglSwapBuffersWithDamageEXT.get()(display, surface, rectangles, count);
    });
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
    endGlWork();
    const DeviceWait told(kDevice, FUG_WAIT_GPU);
    real_glFinish.get()();
}
FUGATO_STANDS_IN unsigned glClientWaitSync(void* sync, unsigned flags, uint64_t ns) {
    if (!ns) return real_glClientWaitSync.get()(sync, flags, ns);
    const DeviceWait told(kDevice, FUG_WAIT_GPU);
    return real_glClientWaitSync.get()(sync, flags, ns);
}
FUGATO_STANDS_IN int32_t vkWaitForFences(void* device, uint32_t count, const uint64_t* fences, uint32_t all,
                                         uint64_t ns) {
    if (!ns) return real_vkWaitForFences.get(device)(device, count, fences, all, ns);
    const DeviceWait told(kDevice, FUG_WAIT_GPU);
    return real_vkWaitForFences.get(device)(device, count, fences, all, ns);
}
FUGATO_STANDS_IN int32_t vkAcquireNextImageKHR(void* device, uint64_t swapchain, uint64_t ns, uint64_t semaphore,
                                               uint64_t fence, uint32_t* image) {
    const DeviceWait told(kNextImage, swapInterval.load(std::memory_order_relaxed) ? FUG_WAIT_PACING : FUG_WAIT_GPU);
    return real_vkAcquireNextImageKHR.get(device)(device, swapchain, ns, semaphore, fence, image);
}
FUGATO_STANDS_IN int32_t vkAcquireNextImage2KHR(void* device, const void* what, uint32_t* image) {
    const DeviceWait told(kNextImage, swapInterval.load(std::memory_order_relaxed) ? FUG_WAIT_PACING : FUG_WAIT_GPU);
    return real_vkAcquireNextImage2KHR.get(device)(device, what, image);
}
FUGATO_STANDS_IN int32_t vkWaitSemaphores(void* device, const void* what, uint64_t ns) {
    if (!ns) return real_vkWaitSemaphores.get(device)(device, what, ns);
    const DeviceWait told(kDevice, FUG_WAIT_GPU);
    return real_vkWaitSemaphores.get(device)(device, what, ns);
}
FUGATO_STANDS_IN int32_t vkQueueWaitIdle(void* queue) {
    const DeviceWait told(kDevice, FUG_WAIT_GPU);
    return real_vkQueueWaitIdle.get(queue)(queue);
}
FUGATO_STANDS_IN int32_t vkDeviceWaitIdle(void* device) {
    const DeviceWait told(kDevice, FUG_WAIT_GPU);
    return real_vkDeviceWaitIdle.get(device)(device);
}
