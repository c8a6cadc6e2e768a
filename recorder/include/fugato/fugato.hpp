// SPDX-License-Identifier: MIT
//
// Fugato recorder: the C++17 interface, a thin layer over fugato.h (read its banner first).
//
//     fug::Recording recording("run.fugato", {"skerry"});
//     static fug::Series loop("loop", 16'666'667);
//     while (running) {
//         fug::Frame frame(loop);
//         FUG_MARK("Simulate", "physics", "one step of every boat");
//         ...
//     }
#pragma once

#include <fugato/fugato.h>

#include <mutex>

namespace fug {

/// Records from construction to destruction. ok() is false where the file could not be created.
class Recording {
public:
    explicit Recording(const char* path, const fug_options& options = {}) : error_(fug_start(path, &options)) {}
    ~Recording() { fug_stop(); }
    Recording(const Recording&) = delete;
    Recording& operator=(const Recording&) = delete;
    bool ok() const noexcept { return error_ == 0; }
    int error() const noexcept { return error_; }

private:
    int error_;
};

/// A marker that lasts as long as the object. Use FUG_MARK.
class Mark {
public:
    explicit Mark(fug_site& site) noexcept { fug_begin(&site); }
    ~Mark() { fug_end(); }
    Mark(const Mark&) = delete;
    Mark& operator=(const Mark&) = delete;
};

/// A series of frames with a deadline in nanoseconds (0: none, the reader's budget holds).
class Series {
public:
    explicit Series(const char* name, uint64_t deadlineNs = 0) : id_(fug_series(name, deadlineNs)) {}
    void begin(uint64_t deadlineNs = 0) const noexcept { fug_frame_begin(id_, deadlineNs); }
    void end() const noexcept { fug_frame_end(id_); }

private:
    uint32_t id_;
};

/// One frame that lasts as long as the object.
class Frame {
public:
    explicit Frame(const Series& series, uint64_t deadlineNs = 0) noexcept : series_(series) {
        series_.begin(deadlineNs);
    }
    ~Frame() { series_.end(); }
    Frame(const Frame&) = delete;
    Frame& operator=(const Frame&) = delete;

private:
    const Series& series_;
};

class Counter {
public:
    explicit Counter(const char* name, const char* unit = "") : id_(fug_counter(name, unit, nullptr)) {}
    Counter(const char* name, const char* unit, double threshold) : id_(fug_counter(name, unit, &threshold)) {}
    void set(double value) const noexcept { fug_count(id_, value); }

private:
    uint32_t id_;
};

class State {
public:
    explicit State(const char* name) : id_(fug_state(name)) {}
    void set(const char* value) const noexcept { fug_state_set(id_, value); }

private:
    uint32_t id_;
};

/// Something threads wait for or hold: a lock, a queue, a fence.
class Object {
public:
    explicit Object(const char* name) : id_(fug_object(name)) {}
    uint32_t id() const noexcept { return id_; }

private:
    uint32_t id_;
};

/// A wait that lasts as long as the object. endedBy() names the link that ended it. Use FUG_WAIT.
class Wait {
public:
    Wait(fug_site& site, const Object& object, fug_wait_kind kind) noexcept {
        fug_wait_begin(&site, object.id(), kind);
    }
    ~Wait() { fug_wait_end(link_); }
    Wait(const Wait&) = delete;
    Wait& operator=(const Wait&) = delete;
    void endedBy(uint64_t link) noexcept { link_ = link; }

private:
    uint64_t link_ = 0;
};

/// A mutex that tells who waited and who held it. lock() with a site of the caller's own shows the
/// place that waited; plain lock() (std::lock_guard) shows this class.
template <class Lockable>
class Recorded {
public:
    explicit Recorded(const char* name) : object_(name) {}
    void lock(fug_site& site) {
        if (!lockable_.try_lock()) {
            Wait wait(site, object_, FUG_WAIT_LOCK);
            lockable_.lock();
        }
        fug_taken(object_.id());
    }
    void lock() {
        static fug_site site = FUG_SITE("wait for a lock", "lock", "");
        lock(site);
    }
    void unlock() {
        fug_given(object_.id());
        lockable_.unlock();
    }
    const Object& object() const noexcept { return object_; }

private:
    Lockable lockable_;
    Object object_;
};
using Mutex = Recorded<std::mutex>;

}  // namespace fug

#define FUG_JOIN2(a, b) a##b
#define FUG_JOIN(a, b) FUG_JOIN2(a, b)
#define FUG_SITE_PICK(name, category, description, ...) FUG_SITE(name, category, description)
/// A site variable: FUG_SITE_HERE(variable, "name"[, "category"[, "description"]]).
#define FUG_SITE_HERE(variable, ...) static fug_site variable = FUG_SITE_PICK(__VA_ARGS__, "", "", "")
/// A marker until the end of the block: FUG_MARK("name"[, "category"[, "description"]]).
#define FUG_MARK(...) FUG_MARK_NUMBERED(__COUNTER__, __VA_ARGS__)
#define FUG_MARK_NUMBERED(number, ...)                     \
    FUG_SITE_HERE(FUG_JOIN(fugSite, number), __VA_ARGS__); \
    const ::fug::Mark FUG_JOIN(fugMark, number)(FUG_JOIN(fugSite, number))
/// A wait until the end of the block, reachable as `variable` for endedBy().
#define FUG_WAIT(variable, object, kind, ...)             \
    FUG_SITE_HERE(FUG_JOIN(variable, Site), __VA_ARGS__); \
    ::fug::Wait variable(FUG_JOIN(variable, Site), object, kind)
