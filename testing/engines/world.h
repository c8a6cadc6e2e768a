// SPDX-License-Identifier: GPL-3.0-or-later
//
// A small computer under a virtual clock: threads that share a few cores, queues of devices that need none,
// locks, fences and sleep. Its threads are coroutines; what they do is told to an EventSink as a recorder
// would have told it, with who had each core. One thread of the host runs it all, so the same program gives
// the same recording everywhere.
#pragma once

#include <coroutine>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <queue>
#include <string>
#include <utility>
#include <vector>

#include "format/events.h"

namespace engines {

class World;

inline constexpr int64_t kSampleEvery = 1'000'000;  // ns of running

/// The body of a thread, or a part of it that another awaits.
class Doing {
public:
    struct promise_type {
        std::coroutine_handle<> after;  // resumed at the end
        Doing get_return_object() { return Doing(std::coroutine_handle<promise_type>::from_promise(*this)); }
        std::suspend_always initial_suspend() noexcept { return {}; }
        struct Final {
            bool await_ready() noexcept { return false; }
            std::coroutine_handle<> await_suspend(std::coroutine_handle<promise_type> ended) noexcept {
                return ended.promise().after ? ended.promise().after : std::noop_coroutine();
            }
            void await_resume() noexcept {}
        };
        Final final_suspend() noexcept { return {}; }
        void return_void() {}
        void unhandled_exception() { std::terminate(); }
    };
    explicit Doing(std::coroutine_handle<promise_type> handle) : handle_(handle) {}
    Doing(Doing&& other) noexcept : handle_(std::exchange(other.handle_, nullptr)) {}
    Doing& operator=(Doing&&) = delete;
    ~Doing() {
        if (handle_) handle_.destroy();
    }
    bool await_ready() const { return false; }
    std::coroutine_handle<> await_suspend(std::coroutine_handle<> caller) {
        handle_.promise().after = caller;
        return handle_;
    }
    void await_resume() const {}
    std::coroutine_handle<> handle() const { return handle_; }

private:
    std::coroutine_handle<promise_type> handle_;
};

struct ThreadOptions {
    std::string role;
    int priority = 0;        // a higher one takes the core of a lower one at once
    bool device = false;     // a queue of a device: needs no core, has a clock of its own
    bool recorded = true;    // false: it tells nothing, only its switches are seen
    std::string process;     // another program, of a thread that is not recorded; empty: this program's
    int64_t clockError = 0;  // of a device's clock, ns
};

class Thread {
public:
    struct Pause {
        Thread& thread;
        std::function<bool()> settle;  // called when paused; true: go on at once
        bool await_ready() const { return false; }
        bool await_suspend(std::coroutine_handle<> handle);
        void await_resume() const {}
    };
    /// Computes for `ns`; takes longer where others have the cores. On a device: passes the time.
    Pause run(int64_t ns);
    Pause sleepUntil(int64_t time);
    /// Until wake() is called for it.
    Pause block();

    void begin(uint32_t site);
    void end();
    /// What its call stacks are from now on, where they are taken: as an event holds them, valid as long as the world.
    void runs(std::string_view stack) { stack_ = stack; }
    void waitBegin(uint32_t site, uint32_t object, fugato::WaitKind kind);
    void waitEnd(uint64_t link = 0);
    void tell(fugato::EventKind kind, uint32_t id = 0, uint64_t a = 0, uint64_t b = 0, std::string_view text = {});
    int64_t now() const;

private:
    friend class World;
    enum class State { Ready, Running, Blocked, Ended };
    World* world_ = nullptr;
    ThreadOptions options_;
    uint32_t id_ = 0;  // of the operating system; also of its lane
    State state_ = State::Blocked;
    std::coroutine_handle<> next_;
    int64_t need_ = 0;   // ns of computing left
    int64_t since_ = 0;  // when it last began to run
    std::string_view stack_;
    int64_t toSample_ = kSampleEvery;  // ns of running
    uint64_t turn_ = 0;                // counts its turns on a core, so that what was planned for an old one is dropped
    int core_ = -1;
    std::unique_ptr<Doing> body_;
    std::function<Doing()> make_;  // owns what the coroutine refers to
};

class World {
public:
    /// `stacksAlone`: its call stacks are taken, and its markers are not told.
    explicit World(int cores, bool stacksAlone = false);
    ~World();

    uint32_t site(const std::string& name);
    uint32_t object(const std::string& name);
    uint32_t series(const std::string& name, int64_t deadline);
    uint32_t state(const std::string& name);
    void define(fugato::Definition definition) { definitions_.push_back(std::move(definition)); }
    Thread& thread(const std::string& name, ThreadOptions options);
    void start(Thread& thread, std::function<Doing()> body);
    /// Runs until no thread has anything left to do.
    void run();
    void wake(Thread& thread);
    int64_t now() const { return now_; }
    uint64_t newLink() { return ++links_; }

    /// Everything that happened. `withSwitches`: also who had each core; `withWakeUps`: and who woke whom.
    void tellAll(fugato::EventSink& sink, bool withSwitches, bool withWakeUps) const;

private:
    friend class Thread;
    struct Core {
        Thread* running = nullptr;
        std::vector<fugato::Event> events;
    };
    void at(int64_t time, std::function<void()> action);
    void tellWakeUp(const Thread& thread);
    uint32_t processOf(const std::string& program);
    void ready(Thread& thread);
    void dispatch();
    void give(int core, Thread* thread, bool beforeIsReady);
    void turn(Thread& thread);
    void resume(Thread& thread);
    void sample(Thread& thread);

    struct Planned {
        int64_t time;
        uint64_t order;
        std::function<void()> action;
        bool operator<(const Planned& other) const {  // the earliest on top of a heap
            return time != other.time ? time > other.time : order > other.order;
        }
    };
    const bool stacksAlone_;
    int64_t now_ = 0;
    uint64_t planned_ = 0, links_ = 0;
    std::priority_queue<Planned> plan_;
    std::vector<Core> cores_;
    Thread* acting_ = nullptr;     // whose turn it is to go on; null: time passes
    std::deque<Thread*> waiting_;  // ready, in the order in which they became so
    std::vector<std::unique_ptr<Thread>> threads_;
    std::vector<std::vector<fugato::Event>> events_;  // by thread
    std::vector<fugato::Definition> definitions_;
    std::map<std::string, uint32_t> sites_;
    uint32_t objects_ = 0, series_ = 0, states_ = 0;
    std::map<std::string, uint32_t> processes_;  // other programs
};

/// A lock, told with who waited for it and who held it. First come, first served.
class Lock {
public:
    Lock(World& world, const std::string& name) : object_(world.object(name)), world_(world) {}
    Doing take(Thread& thread, uint32_t waitSite);
    void give(Thread& thread);

private:
    uint32_t object_;
    World& world_;
    Thread* holder_ = nullptr;
    std::deque<Thread*> waiting_;
};

/// A number that only rises; threads wait until it has reached theirs.
class Fence {
public:
    /// `told`: whether who raised it is recorded.
    Fence(World& world, const std::string& name, fugato::WaitKind kind, bool told = true)
        : object_(world.object(name)), kind_(kind), told_(told), world_(world) {}
    void raise(Thread& thread, uint64_t value);
    Doing waitFor(Thread& thread, uint64_t value, uint32_t waitSite);
    uint64_t value() const { return value_; }

private:
    uint32_t object_;
    fugato::WaitKind kind_;
    bool told_;
    World& world_;
    uint64_t value_ = 0;
    std::map<uint64_t, uint64_t> links_;  // by value reached
    std::vector<std::pair<uint64_t, Thread*>> waiting_;
};

/// Work handed to other threads, in order. Idle takers are not told as waiting.
class WorkQueue {
public:
    using Work = std::function<Doing(Thread&, uint64_t link)>;  // the link by which it was asked for, or 0
    explicit WorkQueue(World& world) : world_(world) {}
    /// `told`: whether the link from asking to doing is recorded.
    void push(Thread& thread, Work work, bool told = true);
    void close();
    /// Takes and does one segment of work without waiting; false where there is none.
    bool take(Work& work, uint64_t& link);
    /// What a thread does that only serves this queue.
    Doing serve(Thread& thread);

private:
    struct Item {
        Work work;
        uint64_t link;
    };
    World& world_;
    std::deque<Item> items_;
    std::deque<Thread*> idle_;
    bool closed_ = false;
};

}  // namespace engines
