// SPDX-License-Identifier: GPL-3.0-or-later
//
// The function that a name stands for without this library, found at its first call. Any thread; after the first call
// one load. Null where the program has no such function.
#pragma once

#include <atomic>
#include <cstdint>

namespace fugato::preload {

/// As the dynamic linker would find it after this library, or in a library that was loaded by itself. `version`: of
/// the symbol, where one name has several; null: the default.
void* findReal(const char* name, const char* version = nullptr);
/// The dynamic linker's own; never this library's.
using Dlsym = void*(void*, const char*) noexcept;
Dlsym* realDlsym();

template <class Function>
class RealFunction {
public:
    constexpr explicit RealFunction(const char* name, const char* version = nullptr) : name_(name), version_(version) {}
    /// Null where there is none.
    Function* get() {
        void* found = found_.load(std::memory_order_acquire);
        if (!found) {
            found = findReal(name_, version_);
            found_.store(found, std::memory_order_release);
        }
        return reinterpret_cast<Function*>(found);
    }
    /// One that the program has asked for itself is taken where none was known.
    void offer(void* found) {
        void* none = nullptr;
        found_.compare_exchange_strong(none, found, std::memory_order_acq_rel);
    }

private:
    const char* const name_;
    const char* const version_;
    std::atomic<void*> found_{nullptr};
};

/// A function of which every device has its own. Its first parameter is a device or a queue of one: a pointer to a
/// structure that begins with the address of the device's functions, which tells devices apart (the loader's
/// interface).
template <class Function>
class DeviceFunction {
public:
    constexpr explicit DeviceFunction(const char* name) : any_(name) {}
    Function* get(const void* handle) {
        for (Own& one : own_)
            if (one.device.load(std::memory_order_acquire) == deviceOf(handle))
                return reinterpret_cast<Function*>(one.found.load(std::memory_order_acquire));
        return any_.get();
    }
    void offerFor(const void* handle, void* found) {
        for (Own& one : own_) {
            uintptr_t none = 0;
            if (!one.device.compare_exchange_strong(none, deviceOf(handle)) && none != deviceOf(handle)) continue;
            one.found.store(found, std::memory_order_release);
            return;
        }
    }
    void offer(void* found) { any_.offer(found); }

private:
    static uintptr_t deviceOf(const void* handle) { return *static_cast<const uintptr_t*>(handle); }
    struct Own {
        std::atomic<uintptr_t> device{0};
        std::atomic<void*> found{nullptr};
    };
    Own own_[8];
    RealFunction<Function> any_;
};

}  // namespace fugato::preload

/// `real_NAME`: what a function that is stood in for in this file is without that.
#define FUGATO_REAL(name) static fugato::preload::RealFunction<decltype(name)> real_##name(#name)
