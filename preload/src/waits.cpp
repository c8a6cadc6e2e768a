// SPDX-License-Identifier: GPL-3.0-or-later
//
// Locks, conditions, semaphores and joins. A lock that is free is taken without being told; a wait is told, with the
// link of the thread that ended it.
#include <pthread.h>
#include <semaphore.h>
#include <threads.h>
#include <time.h>

#include <new>

#include "hook.hpp"
#include "wait_table.hpp"

namespace fugato::preload {

namespace {

static_assert(thrd_success == 0, "as in the functions of POSIX, 0 says that the wait was ended");

/// Calls `wait` as a wait for what lies at `address`; where it gives 0, another thread ended it.
template <class Call>
int waitFor(fug_site& site, fug_wait_kind kind, const char* what, const void* address, const void* caller,
            Call&& wait) {
    if (!recorded()) return wait();
    WaitedFor* const one = waitForAt(address);
    uint32_t object = 0;
    if (one) {
        const KeepErrno keep;
        object = kind == FUG_WAIT_LOCK ? objectOf(*one, what, caller) : 0;
        one->link.store(0, std::memory_order_relaxed);
        one->waiting.fetch_add(1, std::memory_order_acq_rel);
    }
    Wait told(site, kind, object);
    const int result = wait();
    if (one) {
        one->waiting.fetch_sub(1, std::memory_order_acq_rel);
        if (result == 0) told.endedBy(one->link.load(std::memory_order_acquire));
    }
    return result;
}

/// A lock that is free is taken without telling; else it is waited for.
template <class Try, class Take>
int take(fug_site& site, const void* lock, const void* caller, Try&& tryToTake, Take&& takeIt, int busy = EBUSY) {
    if (!recorded()) return takeIt();
    const int taken = tryToTake();
    return taken != busy ? taken : waitFor(site, FUG_WAIT_LOCK, "lock", lock, caller, takeIt);
}

fug_site kLock = PLACELESS_SITE("Wait for lock", "wait", "A lock that another thread has");
fug_site kReadLock = PLACELESS_SITE("Wait for reading lock", "wait", "A lock that another thread has for writing");
fug_site kWriteLock = PLACELESS_SITE("Wait for writing lock", "wait", "A lock that other threads have");
fug_site kCondition = PLACELESS_SITE("Wait for condition", "wait", "Until another thread signals it");
fug_site kSemaphore = PLACELESS_SITE("Wait for semaphore", "wait", "Until another thread raises it");
fug_site kBarrier = PLACELESS_SITE("Wait at barrier", "wait", "Until the last thread comes");
fug_site kJoin = PLACELESS_SITE("Wait for thread's end", "wait", "Joins a thread");

constexpr char kConditions[] = "GLIBC_2.3.2";  // those before it were others

}  // namespace

}  // namespace fugato::preload

using namespace fugato::preload;

#define REAL_CONDITION(name) static RealFunction<decltype(name)> real_##name(#name, kConditions)

// ---- locks ------------------------------------------------------------------------------------------

FUGATO_REAL(pthread_mutex_lock);
FUGATO_REAL(pthread_mutex_trylock);
FUGATO_REAL(pthread_mutex_timedlock);
FUGATO_REAL(pthread_mutex_unlock);
FUGATO_REAL(pthread_rwlock_rdlock);
FUGATO_REAL(pthread_rwlock_tryrdlock);
FUGATO_REAL(pthread_rwlock_wrlock);
FUGATO_REAL(pthread_rwlock_trywrlock);
FUGATO_REAL(pthread_rwlock_unlock);

FUGATO_STANDS_IN int pthread_mutex_lock(pthread_mutex_t* mutex) noexcept {
    return take(
        kLock, mutex, __builtin_return_address(0), [=] { return real_pthread_mutex_trylock.get()(mutex); },
        [=] { return real_pthread_mutex_lock.get()(mutex); });
}
FUGATO_STANDS_IN int pthread_mutex_timedlock(pthread_mutex_t* mutex, const timespec* until) noexcept {
    return take(
        kLock, mutex, __builtin_return_address(0), [=] { return real_pthread_mutex_trylock.get()(mutex); },
        [=] { return real_pthread_mutex_timedlock.get()(mutex, until); });
}
FUGATO_STANDS_IN int pthread_mutex_unlock(pthread_mutex_t* mutex) noexcept {
    tellWaiting(mutex);
    return real_pthread_mutex_unlock.get()(mutex);
}
FUGATO_STANDS_IN int pthread_rwlock_rdlock(pthread_rwlock_t* lock) noexcept {
    return take(
        kReadLock, lock, __builtin_return_address(0), [=] { return real_pthread_rwlock_tryrdlock.get()(lock); },
        [=] { return real_pthread_rwlock_rdlock.get()(lock); });
}
FUGATO_STANDS_IN int pthread_rwlock_wrlock(pthread_rwlock_t* lock) noexcept {
    return take(
        kWriteLock, lock, __builtin_return_address(0), [=] { return real_pthread_rwlock_trywrlock.get()(lock); },
        [=] { return real_pthread_rwlock_wrlock.get()(lock); });
}
FUGATO_STANDS_IN int pthread_rwlock_unlock(pthread_rwlock_t* lock) noexcept {
    tellWaiting(lock);
    return real_pthread_rwlock_unlock.get()(lock);
}

// ---- conditions, semaphores, barriers -----------------------------------------------------------------

REAL_CONDITION(pthread_cond_wait);
REAL_CONDITION(pthread_cond_timedwait);
FUGATO_REAL(pthread_cond_clockwait);
REAL_CONDITION(pthread_cond_signal);
REAL_CONDITION(pthread_cond_broadcast);
FUGATO_REAL(sem_wait);
FUGATO_REAL(sem_trywait);
FUGATO_REAL(sem_timedwait);
FUGATO_REAL(sem_clockwait);
FUGATO_REAL(sem_post);
FUGATO_REAL(pthread_barrier_wait);

namespace {

template <class WaitForIt>
int waitForSemaphore(sem_t* semaphore, WaitForIt&& wait) {
    if (!recorded()) return wait();
    {
        const KeepErrno keep;
        if (real_sem_trywait.get()(semaphore) == 0) return 0;
    }
    return waitFor(kSemaphore, FUG_WAIT_CONDITION, "semaphore", semaphore, nullptr, wait);
}

}  // namespace

FUGATO_STANDS_IN int pthread_cond_wait(pthread_cond_t* condition, pthread_mutex_t* mutex) {
    tellWaiting(mutex);  // it is given back meanwhile
    return waitFor(kCondition, FUG_WAIT_CONDITION, "condition", condition, nullptr,
                   [=] { return real_pthread_cond_wait.get()(condition, mutex); });
}
FUGATO_STANDS_IN int pthread_cond_timedwait(pthread_cond_t* condition, pthread_mutex_t* mutex, const timespec* until) {
    tellWaiting(mutex);
    return waitFor(kCondition, FUG_WAIT_CONDITION, "condition", condition, nullptr,
                   [=] { return real_pthread_cond_timedwait.get()(condition, mutex, until); });
}
FUGATO_STANDS_IN int pthread_cond_clockwait(pthread_cond_t* condition, pthread_mutex_t* mutex, clockid_t clock,
                                            const timespec* until) {
    tellWaiting(mutex);
    return waitFor(kCondition, FUG_WAIT_CONDITION, "condition", condition, nullptr,
                   [=] { return real_pthread_cond_clockwait.get()(condition, mutex, clock, until); });
}
FUGATO_STANDS_IN int pthread_cond_signal(pthread_cond_t* condition) noexcept {
    tellWaiting(condition);
    return real_pthread_cond_signal.get()(condition);
}
FUGATO_STANDS_IN int pthread_cond_broadcast(pthread_cond_t* condition) noexcept {
    tellWaiting(condition);
    return real_pthread_cond_broadcast.get()(condition);
}

FUGATO_STANDS_IN int sem_wait(sem_t* semaphore) {
    return waitForSemaphore(semaphore, [=] { return real_sem_wait.get()(semaphore); });
}
FUGATO_STANDS_IN int sem_timedwait(sem_t* semaphore, const timespec* until) {
    return waitForSemaphore(semaphore, [=] { return real_sem_timedwait.get()(semaphore, until); });
}
FUGATO_STANDS_IN int sem_clockwait(sem_t* semaphore, clockid_t clock, const timespec* until) {
    return waitForSemaphore(semaphore, [=] { return real_sem_clockwait.get()(semaphore, clock, until); });
}
FUGATO_STANDS_IN int sem_post(sem_t* semaphore) noexcept {
    tellWaiting(semaphore);
    return real_sem_post.get()(semaphore);
}
FUGATO_STANDS_IN int pthread_barrier_wait(pthread_barrier_t* barrier) noexcept {
    const Wait told(kBarrier, FUG_WAIT_CONDITION);  // who came last cannot be known before
    return real_pthread_barrier_wait.get()(barrier);
}

// ---- the same in C11, whose functions are not made of those above --------------------------------------

FUGATO_REAL(mtx_lock);
FUGATO_REAL(mtx_trylock);
FUGATO_REAL(mtx_unlock);
FUGATO_REAL(cnd_wait);
FUGATO_REAL(cnd_timedwait);
FUGATO_REAL(cnd_signal);
FUGATO_REAL(cnd_broadcast);

FUGATO_STANDS_IN int mtx_lock(mtx_t* mutex) {
    return take(
        kLock, mutex, __builtin_return_address(0), [=] { return real_mtx_trylock.get()(mutex); },
        [=] { return real_mtx_lock.get()(mutex); }, thrd_busy);
}
FUGATO_STANDS_IN int mtx_unlock(mtx_t* mutex) {
    tellWaiting(mutex);
    return real_mtx_unlock.get()(mutex);
}
FUGATO_STANDS_IN int cnd_wait(cnd_t* condition, mtx_t* mutex) {
    tellWaiting(mutex);
    return waitFor(kCondition, FUG_WAIT_CONDITION, "condition", condition, nullptr,
                   [=] { return real_cnd_wait.get()(condition, mutex); });
}
FUGATO_STANDS_IN int cnd_timedwait(cnd_t* condition, mtx_t* mutex, const timespec* until) {
    tellWaiting(mutex);
    return waitFor(kCondition, FUG_WAIT_CONDITION, "condition", condition, nullptr,
                   [=] { return real_cnd_timedwait.get()(condition, mutex, until); });
}
FUGATO_STANDS_IN int cnd_signal(cnd_t* condition) {
    tellWaiting(condition);
    return real_cnd_signal.get()(condition);
}
FUGATO_STANDS_IN int cnd_broadcast(cnd_t* condition) {
    tellWaiting(condition);
    return real_cnd_broadcast.get()(condition);
}

// ---- threads ------------------------------------------------------------------------------------------

FUGATO_REAL(pthread_create);
FUGATO_REAL(pthread_join);
FUGATO_REAL(thrd_join);
FUGATO_REAL(pthread_setname_np);

namespace {

struct Begun {
    void* (*run)(void*);
    void* argument;
};

/// A thread that waits for this one's end learns that it came.
void endThread(void*) { tellWaiting(reinterpret_cast<const void*>(pthread_self())); }

void* runThread(void* given) {
    const Begun begun = *static_cast<Begun*>(given);
    delete static_cast<Begun*>(given);
    (void)recorded();  // it has a lane from its begin on
    void* result = nullptr;
    pthread_cleanup_push(endThread, nullptr);
    result = begun.run(begun.argument);
    pthread_cleanup_pop(1);
    return result;
}

}  // namespace

FUGATO_STANDS_IN int pthread_create(pthread_t* thread, const pthread_attr_t* attributes, void* (*run)(void*),
                                    void* argument) noexcept {
    Begun* const begun = recorded() ? new (std::nothrow) Begun{run, argument} : nullptr;
    if (!begun) return real_pthread_create.get()(thread, attributes, run, argument);
    const int failed = real_pthread_create.get()(thread, attributes, runThread, begun);
    if (failed) delete begun;
    return failed;
}
FUGATO_STANDS_IN int pthread_join(pthread_t thread, void** result) {
    return waitFor(kJoin, FUG_WAIT_JOB, "thread", reinterpret_cast<const void*>(thread), nullptr,
                   [=] { return real_pthread_join.get()(thread, result); });
}
FUGATO_STANDS_IN int thrd_join(thrd_t thread, int* result) {
    return waitFor(kJoin, FUG_WAIT_JOB, "thread", reinterpret_cast<const void*>(thread), nullptr,
                   [=] { return real_thrd_join.get()(thread, result); });
}
FUGATO_STANDS_IN int pthread_setname_np(pthread_t thread, const char* name) noexcept {
    const int failed = real_pthread_setname_np.get()(thread, name);
    if (!failed && pthread_equal(thread, pthread_self()) && recorded()) nameThread(name);
    return failed;
}
