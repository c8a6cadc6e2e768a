// SPDX-License-Identifier: MIT
//
// Fugato recorder: the C++17 interface, a thin layer over fugato.h (read its banner first). With
// FUGATO_OFF defined the macros leave nothing and the classes are empty.
//
//     fug::Recording recording("run.fugato", fug::options("skerry"));
//     static fug::Series loop("loop", 16'666'667);
//     while (running) {
//         fug::Frame frame(loop);
//         FUG_MARK("Simulate", "physics", "one step of every boat");
//         FUG_ARGUMENT("boats", boats.size());
//         ...
//     }
#pragma once

#include <fugato/fugato.h>

#include <atomic>
#include <condition_variable>
#include <mutex>
#include <shared_mutex>
#include <string>
#include <type_traits>

namespace fug {

/// Options with the names most programs need; set the other members of the result as wanted.
inline fug_options options(const char* program, const char* build = "") noexcept {
    fug_options made{};
    made.size = sizeof made;
    made.program = program;
    made.build = build;
    return made;
}

/// Records from construction to destruction. ok() is false where the file could not be created.
class Recording {
public:
    explicit Recording(const char* path, const fug_options& options = {}) noexcept
        : error_(fug_start(path, &options)) {}
    ~Recording() { fug_stop(); }
    Recording(const Recording&) = delete;
    Recording& operator=(const Recording&) = delete;
    bool ok() const noexcept { return error_ == 0; }
    int error() const noexcept { return error_; }
    /// Of the file, with the patterns of its path filled in.
    const char* path() const noexcept { return fug_path(); }

private:
    int error_;
};

/// A marker that lasts as long as the object. Use FUG_MARK.
class Mark {
public:
    explicit Mark(fug_site& site) noexcept : began_(fug_begin(&site)) {}
    ~Mark() { fug_end(began_); }
    Mark(const Mark&) = delete;
    Mark& operator=(const Mark&) = delete;

private:
    const int began_;
};

/// Tells an argument of the innermost marker: whole numbers, reals and texts. Use FUG_ARGUMENT.
template <class Value>
void argument(fug_key& key, const Value& value) noexcept {
    if constexpr (std::is_integral_v<Value> || std::is_enum_v<Value>)
        fug_integer(&key, static_cast<int64_t>(value));
    else if constexpr (std::is_floating_point_v<Value>)
        fug_real(&key, static_cast<double>(value));
    else if constexpr (std::is_same_v<Value, std::string>)
        fug_text(&key, value.c_str());
    else
        fug_text(&key, value);
}

/// A series of frames with a deadline in nanoseconds (0: none, the reader's budget holds).
class Series {
public:
    FUG_CONSTEXPR explicit Series(const char* name, uint64_t deadlineNs = 0) noexcept
        : id_(fug_series(name, deadlineNs)) {}
    void begin(uint64_t deadlineNs = 0) const noexcept { fug_frame_begin(id_, deadlineNs); }
    void end() const noexcept { fug_frame_end(id_); }
    /// For programs that know only where one frame turns into the next.
    void tick(uint64_t deadlineNs = 0) const noexcept { fug_frame_tick(id_, deadlineNs); }

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
    FUG_CONSTEXPR explicit Counter(const char* name, const char* unit = "") noexcept
        : id_(fug_counter(name, unit, nullptr)) {}
    FUG_CONSTEXPR Counter(const char* name, const char* unit, double threshold) noexcept
        : id_(fug_counter(name, unit, &threshold)) {}
    void set(double value) const noexcept { fug_count(id_, value); }

private:
    uint32_t id_;
};

class State {
public:
    FUG_CONSTEXPR explicit State(const char* name) noexcept : id_(fug_state(name)) {}
    void set(const char* value) const noexcept { fug_state_set(id_, value); }

private:
    uint32_t id_;
};

/// Work that begins on one thread and ends on another. May be copied and handed on; whoever ends it
/// calls end() once.
class Operation {
public:
    Operation() = default;
    explicit Operation(fug_site& site) noexcept : number_(fug_operation_begin(&site)) {}
    void step(fug_site& site) const noexcept { fug_operation_step(number_, &site); }
    void end(int64_t code = 0, const char* text = nullptr) const noexcept { fug_operation_end(number_, code, text); }

private:
    uint64_t number_ = 0;
};

/// A named part of memory: what is taken from it and given back is told by its owner.
class Pool {
public:
    FUG_CONSTEXPR explicit Pool(const char* name) noexcept : id_(fug_pool(name)) {}
    void taken(const void* address, uint64_t bytes, const char* resource = nullptr) const noexcept {
        fug_memory_taken(id_, address, bytes, resource);
    }
    void given(const void* address) const noexcept { fug_memory_given(id_, address); }

private:
    uint32_t id_;
};

/// A lane of its own, for a fiber or a device queue.
class Lane {
public:
    Lane(const char* name, const char* role, fug_lane_kind kind = FUG_LANE_THREAD, uint32_t clock = 0) noexcept
        : lane_(fug_lane_make(name, role, kind, clock)) {}
    ~Lane() { fug_lane_end(lane_); }
    Lane(const Lane&) = delete;
    Lane& operator=(const Lane&) = delete;
    fug_lane* get() const noexcept { return lane_; }

private:
    fug_lane* lane_;
};

/// What the calling thread tells goes to a lane as long as the object lasts.
class InLane {
public:
    explicit InLane(const Lane& lane) noexcept : before_(fug_lane_enter(lane.get())) {}
    ~InLane() { fug_lane_enter(before_); }
    InLane(const InLane&) = delete;
    InLane& operator=(const InLane&) = delete;

private:
    fug_lane* before_;
};

/// Something threads wait for or hold: a lock, a queue, a fence.
class Object {
public:
    FUG_CONSTEXPR explicit Object(const char* name) noexcept : id_(fug_object(name)) {}
    uint32_t id() const noexcept { return id_; }

private:
    uint32_t id_;
};

/// A wait that lasts as long as the object. endedBy() names the link that ended it. Use FUG_WAIT.
class Wait {
public:
    Wait(fug_site& site, const Object& object, fug_wait_kind kind) noexcept
        : began_(fug_wait_begin(&site, object.id(), kind)) {}
    ~Wait() { fug_wait_end(began_, link_); }
    Wait(const Wait&) = delete;
    Wait& operator=(const Wait&) = delete;
    void endedBy(uint64_t link) noexcept { link_ = link; }

private:
    const int began_;
    uint64_t link_ = 0;
};

/// Any lock, told who waited and who held it; for std::mutex, std::shared_mutex and their like.
/// lock(site) with a site of the caller's own shows the place that waited; plain lock() (as
/// std::lock_guard calls it) shows this class. For home-made locks use Wait, fug_taken, fug_given.
template <class Lockable>
class Recorded {
public:
    explicit Recorded(const char* name) : object_(name) {}

    void lock() { lock(anySite()); }
    void lock(fug_site& site) {
        take(
            site, [this] { return lockable_.try_lock(); }, [this] { lockable_.lock(); });
    }
    bool try_lock() { return tried(lockable_.try_lock()); }
    void unlock() {
        fug_given(object_.id());
        lockable_.unlock();
    }

    void lock_shared() { lock_shared(anySite()); }
    void lock_shared(fug_site& site) {
        take(
            site, [this] { return lockable_.try_lock_shared(); }, [this] { lockable_.lock_shared(); });
    }
    bool try_lock_shared() { return tried(lockable_.try_lock_shared()); }
    void unlock_shared() {
        fug_given(object_.id());
        lockable_.unlock_shared();
    }

    const Object& object() const noexcept { return object_; }

private:
    static fug_site& anySite() {
        static fug_site site = FUG_SITE("wait for a lock", "lock", "");
        return site;
    }
    template <class Try, class Block>
    void take(fug_site& site, Try tryIt, Block block) {
        if (!tryIt()) {
            Wait wait(site, object_, FUG_WAIT_LOCK);
            block();
        }
        fug_taken(object_.id());
    }
    bool tried(bool taken) {
        if (taken) fug_taken(object_.id());
        return taken;
    }

    Lockable lockable_;
    Object object_;
};
using Mutex = Recorded<std::mutex>;
using SharedMutex = Recorded<std::shared_mutex>;

/// A condition variable for recorded locks that tells who waited and, by a link, who ended it.
class Condition {
public:
    explicit Condition(const char* name) : object_(name) {}

    void notify_one() noexcept {
        tellEnder();
        variable_.notify_one();
    }
    void notify_all() noexcept {
        tellEnder();
        variable_.notify_all();
    }
    template <class Lock>
    void wait(Lock& lock, fug_site& site = anySite()) {
        Wait wait(site, object_, FUG_WAIT_CONDITION);
        variable_.wait(lock);
        wait.endedBy(ender_);
    }
    template <class Lock, class Ready, class = std::enable_if_t<std::is_invocable_r_v<bool, Ready>>>
    void wait(Lock& lock, Ready ready, fug_site& site = anySite()) {
        if (ready()) return;
        Wait wait(site, object_, FUG_WAIT_CONDITION);
        while (!ready()) variable_.wait(lock);
        wait.endedBy(ender_);
    }
    const Object& object() const noexcept { return object_; }

private:
    static fug_site& anySite() {
        static fug_site site = FUG_SITE("wait for a condition", "lock", "");
        return site;
    }
    void tellEnder() noexcept {
        const uint64_t link = fug_link_new();
        fug_link_out(link);
        ender_ = link;
    }

    std::condition_variable_any variable_;
    Object object_;
    std::atomic<uint64_t> ender_{0};
};

/// Declares a site, so that it is known also where it is never reached.
class Declared {
public:
    explicit Declared(fug_site& site) noexcept { fug_declare(&site); }
};

}  // namespace fug

#define FUG_JOIN2(a, b) a##b
#define FUG_JOIN(a, b) FUG_JOIN2(a, b)
#define FUG_SITE_PICK(name, category, description, ...) FUG_SITE(name, category, description)
/// A site variable: FUG_SITE_HERE(variable, "name"[, "category"[, "description"]]).
#define FUG_SITE_HERE(variable, ...) [[maybe_unused]] static fug_site variable = FUG_SITE_PICK(__VA_ARGS__, "", "", "")
/// The same outside all functions, and declared: known also to recordings in which it is never reached.
#define FUG_DECLARED_SITE(variable, ...)  \
    FUG_SITE_HERE(variable, __VA_ARGS__); \
    [[maybe_unused]] static const ::fug::Declared FUG_JOIN(variable, Declared)(variable)
/// A wait until the end of the block, reachable as `variable` for endedBy().
#define FUG_WAIT(variable, object, kind, ...)             \
    FUG_SITE_HERE(FUG_JOIN(variable, Site), __VA_ARGS__); \
    ::fug::Wait variable(FUG_JOIN(variable, Site), object, kind)

#ifdef FUGATO_OFF
#define FUG_MARK(...) static_assert(true, "")
#define FUG_MARK_WITH(detail, longestNs, ...) static_assert(true, "")
#define FUG_ARGUMENT(key, value) static_assert(true, "")
#else
/// A marker until the end of the block: FUG_MARK("name"[, "category"[, "description"]]).
#define FUG_MARK(...) FUG_MARK_WITH(0, 0, __VA_ARGS__)
/// The same with a detail (see fug_detail) and an expected longest duration in nanoseconds, or 0.
#define FUG_MARK_WITH(detail, longestNs, ...) FUG_MARK_NUMBERED(__COUNTER__, detail, longestNs, __VA_ARGS__, "", "", "")
#define FUG_MARK_NUMBERED(number, detail, longestNs, name, category, description, ...)                         \
    static fug_site FUG_JOIN(fugSite, number) = FUG_SITE_WITH(name, category, description, detail, longestNs); \
    const ::fug::Mark FUG_JOIN(fugMark, number)(FUG_JOIN(fugSite, number))
/// An argument of the innermost marker: FUG_ARGUMENT("boats", boats.size()).
#define FUG_ARGUMENT(key, value) FUG_ARGUMENT_NUMBERED(__COUNTER__, key, value)
#define FUG_ARGUMENT_NUMBERED(number, key, value)           \
    static fug_key FUG_JOIN(fugKey, number) = FUG_KEY(key); \
    ::fug::argument(FUG_JOIN(fugKey, number), value)
#endif
