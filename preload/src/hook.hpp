// SPDX-License-Identifier: GPL-3.0-or-later
//
// What every function of this library that stands in for another needs. Nothing here is done while nothing is
// recorded, nor on threads and in calls of the recorder's own.
#pragma once

#include <fugato/fugato.h>

#include <cerrno>
#include <cstdint>
#include <mutex>
#include <string_view>

#include "real_function.hpp"

/// Of a function that programs call by its name.
#define FUGATO_STANDS_IN extern "C" __attribute__((visibility("default")))

/// A site of this library's: no place in the program's source.
#define PLACELESS_SITE(name, category, description) \
    { 0, (name), (category), (description), "", 0, 0, 0, 0 }

namespace fugato::preload {

/// Whether the calling thread is recorded now. Gives its lane a name, when it is seen for the first time.
bool recorded();
/// While it lasts, what the calling thread does is its driver's, or this library's own, and is not told.
class InDriver {
public:
    InDriver() : before_(in) { in = true; }
    ~InDriver() { in = before_; }
    InDriver(const InDriver&) = delete;
    InDriver& operator=(const InDriver&) = delete;

    static __thread bool in;

private:
    const bool before_;
};
/// Whether the calling thread shows pictures.
bool showsPictures();
/// The calling thread has its name from now on.
void nameThread(const char* name);

/// Leaves errno as it was.
class KeepErrno {
public:
    KeepErrno() : before_(errno) {}
    ~KeepErrno() { errno = before_; }
    KeepErrno(const KeepErrno&) = delete;
    KeepErrno& operator=(const KeepErrno&) = delete;

private:
    const int before_;
};

/// A wait around a call, where the thread is recorded.
class Wait {
public:
    Wait(fug_site& site, fug_wait_kind kind, uint32_t object = 0)
        : began_(recorded() ? fug_wait_begin(&site, object, kind) : 0) {}
    ~Wait() {
        const KeepErrno keep;
        fug_wait_end(began_, link_);
    }
    Wait(const Wait&) = delete;
    Wait& operator=(const Wait&) = delete;
    void endedBy(uint64_t link) { link_ = link; }

private:
    const int began_;
    uint64_t link_ = 0;
};

/// A lock of this library's own.
class OwnLock {
public:
    explicit OwnLock(std::mutex& mutex) : guard_(mutex) {}

private:
    const InDriver quiet_;
    const std::lock_guard<std::mutex> guard_;
};

/// The site of a name that the program gives while it runs. Past a few thousand names they are all one.
fug_site& siteNamed(std::string_view name);

/// Whether the recording that was asked for may begin; called when something of a program that shows pictures is met.
void beginWherePicturesAre();

}  // namespace fugato::preload
