// SPDX-License-Identifier: GPL-3.0-or-later
#include "world.h"

#include <algorithm>

namespace engines {

using fugato::Event;
using fugato::EventKind;
using fugato::LaneKind;

namespace {
constexpr int64_t kSlice = 3'000'000;    // of a core, where others of the same priority are ready
constexpr int64_t kWaking = 4'000;       // from being woken to being ready
constexpr uint32_t kFirstThread = 100;   // thread numbers of the operating system
constexpr uint32_t kFirstCore = 10'000;  // lanes of cores
constexpr uint32_t kProcess = 42, kOtherProcess = 77;
}  // namespace

// ---- Thread ---------------------------------------------------------------------------------------

bool Thread::Pause::await_suspend(std::coroutine_handle<> handle) {
    thread.next_ = handle;
    return !settle();
}

Thread::Pause Thread::run(int64_t ns) {
    return {*this, [this, ns] {
                if (ns <= 0) return true;
                need_ = ns;
                if (options_.device) world_->at(world_->now_ + ns, [this] { world_->resume(*this); });
                return false;
            }};
}

Thread::Pause Thread::sleepUntil(int64_t time) {
    return {*this, [this, time] {
                if (time <= world_->now_) return true;
                state_ = State::Blocked;
                world_->at(time, [this] { world_->wake(*this); });
                return false;
            }};
}

Thread::Pause Thread::block() {
    return {*this, [this] {
                state_ = State::Blocked;
                return false;
            }};
}

int64_t Thread::now() const { return world_->now_; }

void Thread::tell(EventKind kind, uint32_t id, uint64_t a, uint64_t b, std::string_view text) {
    const int64_t time = std::max<int64_t>(0, world_->now_ + options_.clockError);
    if (options_.recorded) world_->events_[id_ - kFirstThread].push_back({time, kind, id, a, b, text});
}
void Thread::begin(uint32_t site) {
    if (!world_->stacksAlone_) tell(EventKind::MarkBegin, site);
}
void Thread::end() {
    if (!world_->stacksAlone_) tell(EventKind::MarkEnd);
}
void Thread::waitBegin(uint32_t site, uint32_t object, fugato::WaitKind kind) {
    tell(EventKind::WaitBegin, object, site, static_cast<uint64_t>(kind));
}
void Thread::waitEnd(uint64_t link) { tell(EventKind::WaitEnd, 0, link); }

// ---- World ----------------------------------------------------------------------------------------

World::World(int cores, bool stacksAlone) : stacksAlone_(stacksAlone), cores_(static_cast<size_t>(cores)) {
    definitions_.push_back(fugato::ContextDefinition{"process", std::to_string(kProcess)});
}
World::~World() = default;

uint32_t World::site(const std::string& name) {
    const auto [at, isNew] = sites_.try_emplace(name, static_cast<uint32_t>(sites_.size() + 1));
    if (isNew) {
        fugato::SiteDefinition site;
        site.id = at->second;
        site.name = name;
        definitions_.push_back(site);
    }
    return at->second;
}
uint32_t World::object(const std::string& name) {
    definitions_.push_back(fugato::ObjectDefinition{++objects_, name});
    return objects_;
}
uint32_t World::series(const std::string& name, int64_t deadline) {
    definitions_.push_back(fugato::SeriesDefinition{++series_, static_cast<uint64_t>(deadline), name});
    return series_;
}
uint32_t World::state(const std::string& name) {
    definitions_.push_back(fugato::StateDefinition{++states_, name});
    return states_;
}

Thread& World::thread(const std::string& name, ThreadOptions options) {
    threads_.push_back(std::make_unique<Thread>());
    events_.emplace_back();
    Thread& thread = *threads_.back();
    thread.world_ = this;
    thread.id_ = kFirstThread + static_cast<uint32_t>(threads_.size() - 1);
    thread.options_ = std::move(options);
    const ThreadOptions& o = thread.options_;
    if (o.recorded) {
        fugato::LaneDefinition lane;
        lane.id = lane.osId = thread.id_;
        lane.kind = o.device ? LaneKind::Queue : LaneKind::Thread;
        if (o.device) lane.osId = 0;
        lane.name = name;
        lane.role = o.role;
        definitions_.push_back(lane);
    }
    if (!o.device)
        definitions_.push_back(
            fugato::OsThreadDefinition{thread.id_, processOf(o.process), o.process.empty() ? name : o.process});
    return thread;
}

uint32_t World::processOf(const std::string& program) {
    if (program.empty()) return kProcess;
    return processes_.try_emplace(program, kOtherProcess + static_cast<uint32_t>(processes_.size())).first->second;
}

void World::start(Thread& thread, std::function<Doing()> body) {
    thread.make_ = std::move(body);
    thread.body_ = std::make_unique<Doing>(thread.make_());
    thread.next_ = thread.body_->handle();
    if (thread.options_.device)
        at(now_, [this, &thread] { resume(thread); });
    else
        ready(thread);
}

void World::at(int64_t time, std::function<void()> action) { plan_.push({time, planned_++, std::move(action)}); }

/// In the lane of the core of whoever is acting; where that is a device or a timer, it interrupts the first core.
void World::tellWakeUp(const Thread& thread) {
    const bool hasCore = acting_ && acting_->core_ >= 0;
    cores_[hasCore ? static_cast<size_t>(acting_->core_) : 0].events.push_back(
        {now_, EventKind::WakeUp, thread.id_, hasCore ? acting_->id_ : 0, 0, {}});
}

void World::wake(Thread& thread) {
    if (thread.options_.device) {
        at(now_, [this, &thread] { resume(thread); });
        return;
    }
    tellWakeUp(thread);
    at(now_ + kWaking, [this, &thread] {
        thread.need_ = 0;
        ready(thread);
    });
}

void World::ready(Thread& thread) {
    thread.state_ = Thread::State::Ready;
    waiting_.push_back(&thread);
    dispatch();
}

void World::dispatch() {
    while (!waiting_.empty()) {
        const auto best = std::max_element(waiting_.begin(), waiting_.end(), [](Thread* a, Thread* b) {
            return a->options_.priority < b->options_.priority;
        });
        Thread* thread = *best;
        int core = -1;
        for (int i = 0; i < static_cast<int>(cores_.size()) && core < 0; ++i)
            if (!cores_[static_cast<size_t>(i)].running) core = i;
        for (int i = 0; i < static_cast<int>(cores_.size()) && core < 0; ++i)
            if (cores_[static_cast<size_t>(i)].running->options_.priority < thread->options_.priority) core = i;
        if (core < 0) return;
        waiting_.erase(best);
        Thread* before = cores_[static_cast<size_t>(core)].running;
        if (before) {  // has to go
            sample(*before);
            before->need_ -= now_ - before->since_;
            before->state_ = Thread::State::Ready;
            before->core_ = -1;
            ++before->turn_;
            waiting_.push_front(before);
        }
        give(core, thread, before != nullptr);
    }
}

void World::give(int core, Thread* thread, bool beforeIsReady) {
    Core& c = cores_[static_cast<size_t>(core)];
    c.running = thread;
    c.events.push_back({now_, EventKind::Switch, thread ? thread->id_ : 0, beforeIsReady ? 1u : 0u, 0, {}});
    if (!thread) return;
    thread->state_ = Thread::State::Running;
    thread->core_ = core;
    ++thread->turn_;
    turn(*thread);
}

/// Plans the end of what a thread computes, or of its turn where others are waiting.
void World::turn(Thread& thread) {
    thread.since_ = now_;
    const int64_t part = std::min(thread.need_, kSlice);
    at(now_ + part, [this, &thread, turn = thread.turn_, part] {
        if (thread.turn_ != turn || thread.state_ != Thread::State::Running) return;
        sample(thread);
        thread.need_ -= part;
        if (thread.need_ <= 0) return resume(thread);
        const bool others = std::any_of(waiting_.begin(), waiting_.end(), [&](Thread* other) {
            return other->options_.priority >= thread.options_.priority;
        });
        if (!others) return this->turn(thread);
        thread.state_ = Thread::State::Ready;
        const int core = std::exchange(thread.core_, -1);
        ++thread.turn_;
        Thread* next = *std::max_element(waiting_.begin(), waiting_.end(), [](Thread* a, Thread* b) {
            return a->options_.priority < b->options_.priority;
        });
        waiting_.erase(std::find(waiting_.begin(), waiting_.end(), next));
        waiting_.push_back(&thread);
        give(core, next, true);
    });
}

/// The call stacks of a thread since it last began to run.
void World::sample(Thread& thread) {
    if (!stacksAlone_ || thread.stack_.empty()) return;
    int64_t at = thread.since_;
    for (; at + thread.toSample_ <= now_; thread.toSample_ = kSampleEvery) {
        at += thread.toSample_;
        cores_[static_cast<size_t>(thread.core_)].events.push_back(
            {at, EventKind::Sample, thread.id_, 0, 0, thread.stack_});
    }
    thread.toSample_ -= now_ - at;
}

/// Lets a thread go on until it computes again, waits or ends.
void World::resume(Thread& thread) {
    thread.need_ = 0;
    const bool device = thread.options_.device;
    if (device) thread.state_ = Thread::State::Running;
    Thread* const before = std::exchange(acting_, &thread);
    thread.next_.resume();
    acting_ = before;
    if (thread.body_->handle().done()) thread.state_ = Thread::State::Ended;
    if (device) return;
    if (thread.state_ == Thread::State::Running) return turn(thread);  // it computes
    const int core = std::exchange(thread.core_, -1);
    ++thread.turn_;
    Core& c = cores_[static_cast<size_t>(core)];
    c.running = nullptr;
    if (waiting_.empty())
        give(core, nullptr, false);
    else
        dispatch();
}

void World::run() {
    while (!plan_.empty()) {
        const Planned next = plan_.top();
        plan_.pop();
        now_ = next.time;
        next.action();
    }
}

void World::tellAll(fugato::EventSink& sink, bool withSwitches, bool withWakeUps) const {
    sink.started(0);
    for (const fugato::Definition& definition : definitions_) sink.define(definition);
    if (withSwitches)
        for (size_t i = 0; i < cores_.size(); ++i) {
            fugato::LaneDefinition lane;
            lane.id = kFirstCore + static_cast<uint32_t>(i);
            lane.kind = LaneKind::Core;
            lane.osId = i;
            lane.name = "core " + std::to_string(i);
            sink.define(lane);
        }
    for (size_t i = 0; i < threads_.size(); ++i)
        for (const Event& event : events_[i]) sink.event(threads_[i]->id_, event);
    if (withSwitches)
        for (size_t i = 0; i < cores_.size(); ++i) {
            // Call stacks are put down where a thread stops.
            std::vector<Event> events = cores_[i].events;
            std::stable_sort(events.begin(), events.end(),
                             [](const Event& a, const Event& b) { return a.time < b.time; });
            for (const Event& event : events)
                if (withWakeUps || event.kind != EventKind::WakeUp)
                    sink.event(kFirstCore + static_cast<uint32_t>(i), event);
        }
}

// ---- what threads share -------------------------------------------------------------------------------

Doing Lock::take(Thread& thread, uint32_t waitSite) {
    if (holder_) {
        thread.waitBegin(waitSite, object_, fugato::WaitKind::Lock);
        waiting_.push_back(&thread);
        co_await thread.block();
        thread.waitEnd();
    }
    holder_ = &thread;
    thread.tell(EventKind::Taken, object_);
}

void Lock::give(Thread& thread) {
    thread.tell(EventKind::Given, object_);
    holder_ = nullptr;
    if (waiting_.empty()) return;
    Thread* next = waiting_.front();
    waiting_.pop_front();
    holder_ = next;
    world_.wake(*next);
}

void Fence::raise(Thread& thread, uint64_t value) {
    value_ = std::max(value_, value);
    const uint64_t link = world_.newLink();
    links_[value] = link;
    if (links_.size() > 64) links_.erase(links_.begin());
    if (told_) thread.tell(EventKind::LinkOut, 0, link);
    for (size_t i = 0; i < waiting_.size();) {
        if (waiting_[i].first > value_) {
            ++i;
            continue;
        }
        Thread* waiter = waiting_[i].second;
        waiting_.erase(waiting_.begin() + static_cast<std::ptrdiff_t>(i));
        world_.wake(*waiter);
    }
}

Doing Fence::waitFor(Thread& thread, uint64_t value, uint32_t waitSite) {
    thread.waitBegin(waitSite, object_, kind_);
    if (value_ < value) {
        waiting_.push_back({value, &thread});
        co_await thread.block();
    }
    const auto by = links_.lower_bound(value);
    thread.waitEnd(told_ && by != links_.end() ? by->second : 0);
}

void WorkQueue::push(Thread& thread, Work work, bool told) {
    uint64_t link = 0;
    if (told) {
        link = world_.newLink();
        thread.tell(EventKind::LinkOut, 0, link);
    }
    items_.push_back({std::move(work), link});
    if (idle_.empty()) return;
    Thread* taker = idle_.front();
    idle_.pop_front();
    world_.wake(*taker);
}

void WorkQueue::close() {
    closed_ = true;
    while (!idle_.empty()) {
        world_.wake(*idle_.front());
        idle_.pop_front();
    }
}

bool WorkQueue::take(Work& work, uint64_t& link) {
    if (items_.empty()) return false;
    work = std::move(items_.front().work);
    link = items_.front().link;
    items_.pop_front();
    return true;
}

Doing WorkQueue::serve(Thread& thread) {
    for (;;) {
        Work work;
        uint64_t link = 0;
        if (take(work, link)) {
            co_await work(thread, link);
            continue;
        }
        if (closed_) break;
        idle_.push_back(&thread);
        co_await thread.block();
    }
}

}  // namespace engines
