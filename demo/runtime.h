// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the race's threads run on: real threads and the real clock, or the same threads taking turns
// under a virtual clock. In virtual time exactly one thread runs at once, always the one that is
// furthest behind whenever threads meet, so that the same seed gives the same recording anywhere.
#pragma once

#include <condition_variable>
#include <cstdint>
#include <deque>
#include <fugato/fugato.hpp>
#include <functional>
#include <memory>
#include <mutex>
#include <string>
#include <unordered_map>

namespace skerry {

/// Something threads can wait for; used under Runtime::enter().
struct Event {
    std::condition_variable_any changed;  // real time
};

class Runtime {
public:
    virtual ~Runtime() = default;
    virtual bool isVirtual() const = 0;
    virtual int64_t now() = 0;  // ns since the start
    /// `device`: it stands for one, and needs no core.
    virtual void start(const std::string& name, std::function<void()> body, bool device = false) = 0;
    /// Runs until every started thread has ended.
    virtual void join() = 0;
    /// Around a computation tell the virtual clock what it would take; nothing in real time.
    virtual void beginComputing(int64_t ns) = 0;
    virtual void endComputing() = 0;
    /// Time goes by, and the thread computes nothing: a device works.
    virtual void elapse(int64_t ns) = 0;
    virtual void sleepUntil(int64_t ns) = 0;

    /// Between enter and leave no other thread is between enter and leave.
    virtual void enter() = 0;
    virtual void leave() = 0;
    virtual void wait(Event& event) = 0;    // leaves, blocks until notified, enters again
    virtual void notify(Event& event) = 0;  // wakes all that wait
};

std::unique_ptr<Runtime> makeRealRuntime();
/// What a system would see, the virtual clock can tell of its threads: which has which core, and their call stacks.
struct Seen {
    bool cores = true, stacks = true;
};
constexpr int64_t kStackEveryNs = 2'000'000;  // of computing of each thread
/// `paced`: no faster than in real time.
std::unique_ptr<Runtime> makeVirtualRuntime(uint64_t seed, bool paced = false, Seen seen = {});
/// The calling thread's virtual time, for fug_options.now.
uint64_t virtualNow();

class Section {  // enter() and leave() as a scope
public:
    explicit Section(Runtime& runtime) : runtime_(runtime) { runtime_.enter(); }
    ~Section() { runtime_.leave(); }
    Section(const Section&) = delete;
    Section& operator=(const Section&) = delete;

private:
    Runtime& runtime_;
};

/// A recorded lock.
class Gate {
public:
    Gate(Runtime& runtime, const char* name) : runtime_(runtime), object_(name) {}
    void lock(fug_site& waitSite);
    void unlock();

private:
    Runtime& runtime_;
    fug::Object object_;
    Event free_;
    bool held_ = false;
};

/// A number that only rises; threads wait until it has reached theirs. Recorded with links from
/// whoever raised it to whoever waited.
class Fence {
public:
    Fence(Runtime& runtime, const char* name, fug_wait_kind kind) : runtime_(runtime), object_(name), kind_(kind) {}
    void raise(uint64_t value);
    void waitFor(uint64_t value, fug_site& waitSite);

private:
    Runtime& runtime_;
    fug::Object object_;
    fug_wait_kind kind_;
    Event raised_;
    uint64_t value_ = 0;
    std::unordered_map<uint64_t, uint64_t> links_;
};

/// Work handed from one thread to others, in order. Recorded with links from asking to beginning.
class WorkQueue {
public:
    WorkQueue(Runtime& runtime, const char* name) : runtime_(runtime), object_(name) {}
    void push(std::function<void()> work);
    void close();
    /// Takes the next piece of work and its link; false once closed and empty.
    bool pop(std::function<void()>& work, uint64_t& link, fug_site& waitSite);

private:
    struct Item {
        std::function<void()> work;
        uint64_t link;
    };
    Runtime& runtime_;
    fug::Object object_;
    Event changed_;
    std::deque<Item> items_;
    bool closed_ = false;
};

}  // namespace skerry
