// SPDX-License-Identifier: GPL-3.0-or-later
#include "begin.hpp"

#include <link.h>
#include <pthread.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstdio>
#include <cstring>

#include "control.hpp"
#include "hook.hpp"
#include "launched.hpp"
#include "set_up_call.hpp"
#include "start_stop.hpp"

int fug_is_preloaded = 1;

namespace fugato::preload {

namespace {

std::atomic<bool> wanted{false};  // to be recorded, and not yet begun
std::atomic<bool> aside{false};   // the program records itself
__thread bool named = false;

const recording::LaunchPlan& plan() {
    static const auto* const told = new recording::LaunchPlan(recording::launchPlan());
    return *told;
}

void begin(bool inMemory) {
    bool still = true;
    if (!wanted.compare_exchange_strong(still, false)) return;
    if (plan().offer) (void)recording::offer();
    if (!plan().path.empty()) recording::beginLaunched(plan(), inMemory);
}

__attribute__((constructor)) void lookAtProgram() {
    if (plan().path.empty() && !plan().offer) return;
    wanted.store(true);
    pthread_atfork(nullptr, nullptr, [] {  // a child is not recorded, unless it shows pictures of its own
        named = false;
        wanted.store(!aside.load());
    });
    bool pictures = false;
    dl_iterate_phdr(
        [](dl_phdr_info* info, size_t, void* found) {
            if (info->dlpi_name && isPictureLibrary(info->dlpi_name)) *static_cast<bool*>(found) = true;
            return 0;
        },
        &pictures);
    if (pictures) beginWherePicturesAre();
}

}  // namespace

bool isPictureLibrary(const char* path) {
    for (const char* name : {"/libGL.so", "/libGLX.so", "/libEGL.so", "/libGLESv2.so", "/libvulkan.so", "/libSDL2-",
                             "/libSDL2.so", "/libSDL-1.2.so", "/libglfw.so"})
        if (std::strstr(path, name) || std::strncmp(path, name + 1, std::strlen(name + 1)) == 0) return true;
    return false;
}

void beginWherePicturesAre() {
    // What is left out is counted from the first picture on.
    if (wanted.load(std::memory_order_relaxed) && !plan().leaveOut) begin(true);
}

void beginWithPicture() {
    if (wanted.load(std::memory_order_relaxed)) begin(true);
}

void nameThread(const char* name) {
    named = true;
    fug_name_thread(name, "", FUG_LANE_THREAD);
}

__thread bool InDriver::in = false;

bool recorded() {
    if (recording::inside || InDriver::in || !fug_recording()) return false;
    if (named) return true;
    const KeepErrno keep;
    static std::atomic<unsigned> threads{1};
    char name[32] = "";
    if (getpid() == static_cast<pid_t>(syscall(SYS_gettid)))
        std::strcpy(name, "main");
    else if (pthread_getname_np(pthread_self(), name, sizeof name) != 0 || !*name ||
             std::strcmp(name, program_invocation_short_name) == 0)  // a new thread has that of who made it
        std::snprintf(name, sizeof name, "thread %u", threads.fetch_add(1) + 1);
    nameThread(name);
    return true;
}

}  // namespace fugato::preload

/// The program was built with the recorder: that one records.
FUGATO_STANDS_IN void fugato_preload_step_aside() {
    fugato::preload::aside.store(true);
    fugato::preload::wanted.store(false);
    fugato::recording::endOffer();
    const fugato::recording::SetUpCall here;
    fugato::recording::stop();
}
