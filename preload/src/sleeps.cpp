// SPDX-License-Identifier: GPL-3.0-or-later
//
// Sleeps, and waits for files and sockets to be ready. A sleep of the thread that shows pictures is its pacing.
#include <poll.h>
#include <sys/epoll.h>
#include <sys/select.h>
#include <threads.h>
#include <time.h>
#include <unistd.h>

#include "hook.hpp"

namespace fugato::preload {

namespace {

fug_site kSleep = PLACELESS_SITE("Sleep", "wait", "For a time the program chose");
fug_site kReady = PLACELESS_SITE("Wait for events", "wait", "Until a file or a connection is ready");

fug_wait_kind sleepKind() { return showsPictures() ? FUG_WAIT_PACING : FUG_WAIT_SLEEP; }
bool isNone(const timespec* time) { return time && time->tv_sec == 0 && time->tv_nsec == 0; }

}  // namespace

}  // namespace fugato::preload

using namespace fugato::preload;

FUGATO_REAL(nanosleep);
FUGATO_REAL(clock_nanosleep);
FUGATO_REAL(usleep);
FUGATO_REAL(sleep);
FUGATO_REAL(thrd_sleep);
FUGATO_REAL(poll);
FUGATO_REAL(ppoll);
FUGATO_REAL(select);
FUGATO_REAL(pselect);
FUGATO_REAL(epoll_wait);
FUGATO_REAL(epoll_pwait);

FUGATO_STANDS_IN int nanosleep(const timespec* time, timespec* left) {
    const Wait told(kSleep, sleepKind());
    return real_nanosleep.get()(time, left);
}
FUGATO_STANDS_IN int clock_nanosleep(clockid_t clock, int flags, const timespec* time, timespec* left) {
    const Wait told(kSleep, sleepKind());
    return real_clock_nanosleep.get()(clock, flags, time, left);
}
FUGATO_STANDS_IN int usleep(useconds_t time) {
    const Wait told(kSleep, sleepKind());
    return real_usleep.get()(time);
}
FUGATO_STANDS_IN unsigned sleep(unsigned seconds) {
    const Wait told(kSleep, sleepKind());
    return real_sleep.get()(seconds);
}
FUGATO_STANDS_IN int thrd_sleep(const timespec* time, timespec* left) {
    const Wait told(kSleep, sleepKind());
    return real_thrd_sleep.get()(time, left);
}

FUGATO_STANDS_IN int poll(pollfd* files, nfds_t count, int ms) {
    if (ms == 0) return real_poll.get()(files, count, ms);
    const Wait told(kReady, FUG_WAIT_OTHER);
    return real_poll.get()(files, count, ms);
}
FUGATO_STANDS_IN int ppoll(pollfd* files, nfds_t count, const timespec* time, const sigset_t* signals) {
    if (isNone(time)) return real_ppoll.get()(files, count, time, signals);
    const Wait told(kReady, FUG_WAIT_OTHER);
    return real_ppoll.get()(files, count, time, signals);
}
FUGATO_STANDS_IN int select(int count, fd_set* reading, fd_set* writing, fd_set* other, timeval* time) {
    if (time && time->tv_sec == 0 && time->tv_usec == 0) return real_select.get()(count, reading, writing, other, time);
    const Wait told(kReady, FUG_WAIT_OTHER);
    return real_select.get()(count, reading, writing, other, time);
}
FUGATO_STANDS_IN int pselect(int count, fd_set* reading, fd_set* writing, fd_set* other, const timespec* time,
                             const sigset_t* signals) {
    if (isNone(time)) return real_pselect.get()(count, reading, writing, other, time, signals);
    const Wait told(kReady, FUG_WAIT_OTHER);
    return real_pselect.get()(count, reading, writing, other, time, signals);
}
FUGATO_STANDS_IN int epoll_wait(int epoll, epoll_event* events, int most, int ms) {
    if (ms == 0) return real_epoll_wait.get()(epoll, events, most, ms);
    const Wait told(kReady, FUG_WAIT_OTHER);
    return real_epoll_wait.get()(epoll, events, most, ms);
}
FUGATO_STANDS_IN int epoll_pwait(int epoll, epoll_event* events, int most, int ms, const sigset_t* signals) {
    if (ms == 0) return real_epoll_pwait.get()(epoll, events, most, ms, signals);
    const Wait told(kReady, FUG_WAIT_OTHER);
    return real_epoll_pwait.get()(epoll, events, most, ms, signals);
}
