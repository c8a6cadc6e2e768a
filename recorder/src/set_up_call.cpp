// SPDX-License-Identifier: MIT
#include "set_up_call.hpp"

#include <pthread.h>
#include <time.h>

#include <cerrno>
#include <initializer_list>

namespace fugato::recording {

namespace {

bool sizeSignalIsPending() {
    sigset_t pending;
    return sigpending(&pending) == 0 && sigismember(&pending, SIGXFSZ) == 1;
}

}  // namespace

__thread bool inside = false;

SetUpCall::SetUpCall() {
    sigset_t all;
    sigfillset(&all);
    // Those that a fault of the thread's own brings about can't be put off.
    for (const int fault : {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGTRAP, SIGSYS, SIGABRT}) sigdelset(&all, fault);
    pthread_sigmask(SIG_BLOCK, &all, &before_);
    hadSizeSignal_ = sizeSignalIsPending();
    pthread_setcancelstate(PTHREAD_CANCEL_DISABLE, &cancelState_);
}

SetUpCall::~SetUpCall() {
    const int error = errno;
    if (!hadSizeSignal_ && sizeSignalIsPending()) {
        sigset_t size;
        sigemptyset(&size);
        sigaddset(&size, SIGXFSZ);
        const timespec now{0, 0};
        sigtimedwait(&size, nullptr, &now);
    }
    int ignored = 0;
    pthread_setcancelstate(cancelState_, &ignored);
    pthread_sigmask(SIG_SETMASK, &before_, nullptr);
    errno = error;
}

}  // namespace fugato::recording
