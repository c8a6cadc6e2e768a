// SPDX-License-Identifier: GPL-3.0-or-later
//
// A program that shows pictures and knows nothing of the recorder: for tests of recording unmodified
// programs. It paints with SDL's renderer or with OpenGL, sleeps to keep its rhythm, and has three troubles at known
// frames: it waits for a lock that "helper" holds for 40 ms (each 20th frame), it works 40 ms (each 30th), and it
// writes a file to the disk (each 25th). With OpenGL and "groups", or with Vulkan, the device is asked for what is
// called "Water" and "Spray", the latter many times as much in each 24th frame, and there are no other troubles.
//   pictures renderer|gl|vulkan FRAMES [FILE] [child|crash|exec|groups|stubborn|times]
#include <SDL.h>
#include <fcntl.h>
#include <pthread.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <memory>
#include <vector>

#include "on_device.h"

extern "C" const char* whichNext();

namespace {

pthread_mutex_t harbour = PTHREAD_MUTEX_INITIALIZER;
pthread_mutex_t queueLock = PTHREAD_MUTEX_INITIALIZER;
pthread_cond_t wanted = PTHREAD_COND_INITIALIZER;
int requests = 0;
bool quit = false;
std::atomic<bool> held{false};

void* help(void*) {
    pthread_setname_np(pthread_self(), "helper");
    for (;;) {
        pthread_mutex_lock(&queueLock);
        while (!requests && !quit) pthread_cond_wait(&wanted, &queueLock);
        if (quit) return pthread_mutex_unlock(&queueLock), nullptr;
        --requests;
        pthread_mutex_unlock(&queueLock);
        pthread_mutex_lock(&harbour);
        held = true;
        usleep(40'000);
        pthread_mutex_unlock(&harbour);
    }
}

void work(int ms) {
    const Uint64 until = SDL_GetPerformanceCounter() + SDL_GetPerformanceFrequency() * static_cast<Uint64>(ms) / 1000;
    while (SDL_GetPerformanceCounter() < until) {
    }
}

void writeToDisk(const char* path) {
    const std::vector<char> bytes(4 << 20, 'x');
    const int file = open(path, O_CREAT | O_WRONLY | O_TRUNC, 0644);
    if (file < 0) return;
    if (write(file, bytes.data(), bytes.size()) != static_cast<ssize_t>(bytes.size())) std::perror("write");
    fsync(file);
    close(file);
}

void waitForHelper() {
    held = false;
    pthread_mutex_lock(&queueLock);
    ++requests;
    pthread_cond_signal(&wanted);
    pthread_mutex_unlock(&queueLock);
    while (!held) usleep(100);
    pthread_mutex_lock(&harbour);
    pthread_mutex_unlock(&harbour);
}

void end(pthread_t helper) {
    pthread_mutex_lock(&queueLock);
    quit = true;
    pthread_cond_signal(&wanted);
    pthread_mutex_unlock(&queueLock);
    pthread_join(helper, nullptr);
    SDL_Quit();
}

/// A child that does nothing with pictures.
void haveAChild() {
    const pid_t child = fork();
    if (child == 0) {
        usleep(20'000);
        _exit(0);
    }
    waitpid(child, nullptr, 0);
}

void printTimes(std::vector<Uint64>& took) {
    std::sort(took.begin(), took.end());
    const double us = 1e6 / static_cast<double>(SDL_GetPerformanceFrequency());
    std::printf("median %.1f us, 99th percentile %.1f us\n", static_cast<double>(took[took.size() / 2]) * us,
                static_cast<double>(took[took.size() * 99 / 100]) * us);
}

}  // namespace

int main(int argc, char** argv) {
    const bool gl = argc > 1 && std::strcmp(argv[1], "gl") == 0;
    const bool vulkan = argc > 1 && std::strcmp(argv[1], "vulkan") == 0;
    const int frames = argc > 2 ? std::atoi(argv[2]) : 100;
    const char* const path = argc > 3 ? argv[3] : nullptr;
    const char* const way = argc > 4 ? argv[4] : "";
    if (std::strcmp(way, "exec") == 0) {  // as launchers do
        execl(argv[0], argv[0], argv[1], argv[2], argv[3], nullptr);
        return 1;
    }
    if (std::strcmp(way, "child") == 0) haveAChild();
    std::printf("the next one is the %s\n", whichNext());
    if (SDL_Init(SDL_INIT_VIDEO) != 0) return std::fprintf(stderr, "%s\n", SDL_GetError()), 2;
    SDL_Window* const window = SDL_CreateWindow("pictures", 0, 0, 320, 200, gl ? SDL_WINDOW_OPENGL : 0);
    SDL_Renderer* const renderer = gl || vulkan ? nullptr : SDL_CreateRenderer(window, -1, SDL_RENDERER_SOFTWARE);
    SDL_GLContext const context = gl ? SDL_GL_CreateContext(window) : nullptr;
    if (!window || (gl && !context) || (!gl && !vulkan && !renderer))
        return std::fprintf(stderr, "%s\n", SDL_GetError()), 2;
    if (vulkan) SDL_GetWindowSurface(window);
    const bool times = std::strcmp(way, "times") == 0;  // no troubles, no sleep; how long frames took at the end
    const std::unique_ptr<OnDevice> device = vulkan                                             ? inVulkan()
                                             : gl && (times || std::strcmp(way, "groups") == 0) ? inOpenGl()
                                                                                                : nullptr;
    if (vulkan && !device) return std::fprintf(stderr, "no Vulkan\n"), 2;
    const bool quiet = times || device;
    std::vector<Uint64> took;
    Uint64 shown = SDL_GetPerformanceCounter();
    pthread_t helper;
    pthread_create(&helper, nullptr, help, nullptr);
    bool wantsToQuit = false;  // SDL makes an event of SIGINT and SIGTERM
    for (int frame = 1; frame <= frames && !wantsToQuit; ++frame) {
        SDL_Event event;
        while (SDL_PollEvent(&event)) wantsToQuit |= event.type == SDL_QUIT && std::strcmp(way, "stubborn") != 0;
        if (frame % 20 == 0 && !quiet) waitForHelper();
        if (frame % 30 == 0 && !quiet) work(40);
        if (frame % 25 == 0 && path && !quiet) writeToDisk(path);
        work(2);
        if (device) device->draw(frame % 24 != 0 || times ? 1 : vulkan ? 1000 : 100);
        if (vulkan) {
            SDL_UpdateWindowSurface(window);
        } else if (renderer) {
            SDL_SetRenderDrawColor(renderer, 0, 60, static_cast<Uint8>(frame), 255);
            SDL_RenderClear(renderer);
            SDL_RenderPresent(renderer);
        } else {
            SDL_GL_SwapWindow(window);
        }
        if (frame == frames / 2 && std::strcmp(way, "crash") == 0) std::abort();
        const Uint64 now = SDL_GetPerformanceCounter();
        took.push_back(now - shown);
        shown = now;
        if (!times) usleep(3000);
    }
    if (times) printTimes(took);
    end(helper);
    return 0;
}
