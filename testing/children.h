// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
//
// What a test does in a forked child, so that it ends with it; and which sanitizer this program was built with.
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <filesystem>
#include <fstream>
#include <string>
#include <utility>

#if defined(__SANITIZE_ADDRESS__)  // GCC's words
#define ADDRESS_SANITIZER 1
#elif defined(__SANITIZE_THREAD__)
#define THREAD_SANITIZER 1
#elif defined(__has_feature)  // clang's
#if __has_feature(address_sanitizer)
#define ADDRESS_SANITIZER 1
#elif __has_feature(thread_sanitizer)
#define THREAD_SANITIZER 1
#endif
#endif

#ifdef ADDRESS_SANITIZER
constexpr bool kAddressSanitizer = true;
#else
constexpr bool kAddressSanitizer = false;
#endif
#ifdef THREAD_SANITIZER
constexpr bool kThreadSanitizer = true;
#else
constexpr bool kThreadSanitizer = false;
#endif

/// At the begin of a test whose child starts threads, as recording does.
#define NEEDS_THREADS_IN_A_CHILD() \
    if (kThreadSanitizer) QSKIP("the thread sanitizer ends a forked child that starts threads")

constexpr unsigned kMostSecondsOfAChild = 60;  // what takes longer hangs

/// The address sanitizer's memory hangs a child that is forked while another thread allocates: under it this
/// waits, at most two seconds, until all others sleep. Otherwise it returns at once.
inline void waitUntilOtherThreadsSleep() {
    const auto anyRuns = [] {
        for (const auto& thread : std::filesystem::directory_iterator("/proc/self/task")) {
            std::ifstream stat(thread.path() / "stat");
            std::string text;
            std::getline(stat, text);
            const size_t afterName = text.rfind(") ");
            if (afterName == std::string::npos) continue;  // it ended meanwhile
            const bool own = thread.path().filename() == std::to_string(gettid());
            if (!own && text[afterName + 2] != 'S') return true;
        }
        return false;
    };
    for (int tries = 0; kAddressSanitizer && tries < 2000 && anyRuns(); ++tries) usleep(1000);
}

template <class Work>
pid_t inChild(Work&& work) {
    waitUntilOtherThreadsSleep();
    const pid_t child = fork();
    if (child == 0) {
        prctl(PR_SET_PDEATHSIG, SIGKILL);  // not left behind where the test ends early
        for (const int number : {SIGSEGV, SIGABRT, SIGTERM, SIGALRM, SIGXFSZ}) signal(number, SIG_DFL);
        alarm(kMostSecondsOfAChild);
        work();
        _exit(0);
    }
    return child;
}

/// How a child ended: its exit code, or minus the signal.
inline int endOf(pid_t child) {
    int status = 0;
    waitpid(child, &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status);
}

template <class Work>
int ran(Work&& work) {
    return endOf(inChild(std::forward<Work>(work)));
}
