// SPDX-License-Identifier: MIT
//
// A mutex that says what it guards: where clang compiles (-Wthread-safety), a field that is used without its mutex is
// an error. Other compilers take the words as nothing.
#pragma once

#include <mutex>

#if defined(__clang__)
#define FUGATO_CHECKED_BY_CLANG(words) __attribute__((words))
#else
#define FUGATO_CHECKED_BY_CLANG(words)
#endif
/// Of a field: used with that mutex held only.
#define FUGATO_GUARDED_BY(mutex) FUGATO_CHECKED_BY_CLANG(guarded_by(mutex))
/// Of a function: its callers hold the mutex.
#define FUGATO_NEEDS(...) FUGATO_CHECKED_BY_CLANG(requires_capability(__VA_ARGS__))
/// Of a function for which it cannot be told: say why there.
#define FUGATO_NOT_CHECKED FUGATO_CHECKED_BY_CLANG(no_thread_safety_analysis)

namespace fugato {

class FUGATO_CHECKED_BY_CLANG(capability("mutex")) Mutex {
public:
    void lock() FUGATO_CHECKED_BY_CLANG(acquire_capability()) { mutex_.lock(); }
    void unlock() FUGATO_CHECKED_BY_CLANG(release_capability()) { mutex_.unlock(); }
    bool try_lock() FUGATO_CHECKED_BY_CLANG(try_acquire_capability(true)) { return mutex_.try_lock(); }

private:
    std::mutex mutex_;
};

/// Holds a mutex as long as it lives. A std::condition_variable_any waits on the mutex itself.
class FUGATO_CHECKED_BY_CLANG(scoped_lockable) Lock {
public:
    explicit Lock(Mutex& mutex) FUGATO_CHECKED_BY_CLANG(acquire_capability(mutex)) : mutex_(mutex) { mutex_.lock(); }
    /// One that is held already.
    Lock(Mutex& mutex, std::adopt_lock_t) FUGATO_NEEDS(mutex) : mutex_(mutex) {}
    ~Lock() FUGATO_CHECKED_BY_CLANG(release_capability()) { mutex_.unlock(); }
    Lock(const Lock&) = delete;
    Lock& operator=(const Lock&) = delete;

private:
    Mutex& mutex_;
};

}  // namespace fugato
