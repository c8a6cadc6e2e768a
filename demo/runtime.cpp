// SPDX-License-Identifier: GPL-3.0-or-later
#include "runtime.h"

#include <array>
#include <atomic>
#include <chrono>
#include <fugato_mutex.hpp>
#include <optional>
#include <queue>
#include <random>
#include <thread>
#include <tuple>
#include <vector>

#include "call_stacks.h"

namespace skerry {

namespace {

class RealRuntime final : public Runtime {
public:
    bool isVirtual() const override { return false; }
    int64_t now() override {
        return std::chrono::duration_cast<std::chrono::nanoseconds>(Clock::now() - begin_).count();
    }
    void start(const std::string&, std::function<void()> body, bool) override {
        threads_.emplace_back(std::move(body));
    }
    void join() override {
        for (auto& thread : threads_) thread.join();
        threads_.clear();
    }
    void beginComputing(int64_t) override {}
    void endComputing() override {}
    void elapse(int64_t ns) override { sleepUntil(now() + ns); }
    void sleepUntil(int64_t ns) override { std::this_thread::sleep_until(begin_ + std::chrono::nanoseconds(ns)); }
    void enter() override { mutex_.lock(); }
    void leave() override { mutex_.unlock(); }
    void wait(Event& event) override { event.changed.wait(mutex_); }
    void notify(Event& event) override { event.changed.notify_all(); }

private:
    using Clock = std::chrono::steady_clock;
    Clock::time_point begin_ = Clock::now();
    std::mutex mutex_;
    std::vector<std::thread> threads_;
};

struct VirtualThread {
    std::thread thread;
    std::function<void()> body;
    int64_t time = 0;
    Event* waitingFor = nullptr;
    bool finished = false, leaving = false;
    bool onCores = false;  // it is no device
    uint32_t number = 0;   // from 1
    std::condition_variable_any turn;
    std::minstd_rand noise;
    // The computation it makes: until when, at which times it is looked where the thread is, and what was seen.
    int64_t computesUntil = 0;
    std::vector<int64_t> looks;
    std::optional<KeptPlaces> places;
    int64_t nextLook = 0;  // after so much more computing
    std::minstd_rand chance;
};

thread_local VirtualThread* self = nullptr;
std::atomic<int64_t> reached{0};  // where paced: what a thread without a virtual time of its own is told

constexpr int64_t kWakeNs = 9'000;  // from being woken to running
constexpr size_t kCores = 6;

/// Which virtual thread has which core: the one that it had last, or another that is free. Told once it is certain that
/// nothing earlier comes.
class Cores {
public:
    explicit Cores(Seen seen) : seen_(seen) {
        for (size_t i = 0; i < kCores && (seen.cores || seen.stacks); ++i)
            lanes_.push_back(std::make_unique<fug::Lane>(("core " + std::to_string(i)).c_str(), "", FUG_LANE_CORE, 0));
    }
    void begins(uint32_t thread, int64_t time) { changes_.push({time, told_++, thread, What::Begins, {}}); }
    void ends(uint32_t thread, int64_t time) { changes_.push({time, told_++, thread, What::Ends, {}}); }
    void isAt(uint32_t thread, int64_t time, CallStack stack) {
        changes_.push({time, told_++, thread, What::IsAt, std::move(stack)});
    }
    /// All that happens before `time` is known. Called between threads, by the one whose turn it is.
    void tellUntil(int64_t time) {
        for (; !changes_.empty() && changes_.top().time < time; changes_.pop()) tell(changes_.top());
    }

private:
    enum class What : uint8_t { Begins, Ends, IsAt };
    struct Change {
        int64_t time;
        uint64_t number;
        uint32_t thread;
        What what;
        CallStack stack;
        bool operator<(const Change& other) const {  // the first on top
            return std::tie(time, number) > std::tie(other.time, other.number);
        }
    };
    void tell(const Change& change) {
        size_t& core = coreOf_[change.thread];
        if (change.what == What::Begins && runs_[core])
            while (runs_[core]) core = (core + 1) % kCores;
        if (change.what != What::IsAt) runs_[core] = change.what == What::Begins ? change.thread : 0;
        const fug::InLane here(*lanes_[core]);
        fug_at(static_cast<uint64_t>(change.time));
        if (change.what == What::IsAt)
            fug_call_stack(change.thread, change.stack.data(), change.stack.size());
        else if (seen_.cores)
            fug_switch(runs_[core], 0);
    }
    const Seen seen_;
    std::priority_queue<Change> changes_;
    uint64_t told_ = 0;
    std::unordered_map<uint32_t, size_t> coreOf_;
    std::array<uint32_t, kCores> runs_{};
    std::vector<std::unique_ptr<fug::Lane>> lanes_;
};

class VirtualRuntime final : public Runtime {
public:
    VirtualRuntime(uint64_t seed, bool paced, Seen seen) : seed_(seed), paced_(paced), seen_(seen), cores_(seen) {}
    bool isVirtual() const override { return true; }
    int64_t now() override { return self ? self->time : 0; }

    void start(const std::string&, std::function<void()> body, bool device) override {
        auto& made = threads_.emplace_back(std::make_unique<VirtualThread>());
        made->body = std::move(body);
        made->onCores = (seen_.cores || seen_.stacks) && !device;
        made->number = static_cast<uint32_t>(threads_.size());
        made->noise.seed(static_cast<unsigned>(seed_ * 7919 + threads_.size() * 104729 + 1));
        made->chance.seed(static_cast<unsigned>(seed_ * 6101 + threads_.size() * 15485863 + 1));
        made->nextLook = static_cast<int64_t>(made->chance()) % kStackEveryNs;
    }
    void join() override {
        for (auto& thread : threads_) thread->thread = std::thread([this, mine = thread.get()] { run(*mine); });
        {
            const fugato::Lock lock(mutex_);
            running_ = next();
            running_->turn.notify_one();
            while (running_) allFinished_.wait(mutex_);
        }
        for (auto& thread : threads_) {  // one after another: even their last events come in a fixed order
            {
                const fugato::Lock lock(mutex_);
                thread->leaving = true;
                thread->turn.notify_one();
            }
            thread->thread.join();
        }
        threads_.clear();
    }
    void beginComputing(int64_t ns) override {
        const int64_t takes = noisy(ns);
        self->computesUntil = self->time + takes;
        if (!seen_.stacks || !self->onCores) return;
        for (self->nextLook -= takes; self->nextLook < 0; self->nextLook += kStackEveryNs)
            self->looks.push_back(self->computesUntil + self->nextLook);
        if (!self->looks.empty()) keptPlaces = &self->places.emplace(self->looks.size(), self->chance);
    }
    void endComputing() override {
        keptPlaces = nullptr;
        for (size_t i = 0; i < self->looks.size(); ++i)
            if (!self->places->kept()[i].empty()) cores_.isAt(self->number, self->looks[i], self->places->kept()[i]);
        self->looks.clear();
        self->time = self->computesUntil;
    }
    void elapse(int64_t ns) override { leaveCoreUntil(self->time + noisy(ns)); }
    void sleepUntil(int64_t ns) override {
        leaveCoreUntil(ns);
        giveWay();
    }
    void enter() override { giveWay(); }
    void leave() override {}
    void wait(Event& event) override {
        self->waitingFor = &event;
        if (self->onCores) cores_.ends(self->number, self->time);
        giveWay();
    }
    void notify(Event& event) override {
        for (auto& thread : threads_) {
            if (thread->waitingFor != &event) continue;
            thread->waitingFor = nullptr;
            thread->time = std::max(thread->time, self->time + kWakeNs);
            if (thread->onCores) cores_.begins(thread->number, thread->time);
        }
    }

private:
    /// Mostly within ±10 %, from the thread's own noise: the sum of four uniform numbers.
    static int64_t noisy(int64_t ns) {
        double sum = 0;
        for (int i = 0; i < 4; ++i)
            sum += static_cast<double>(self->noise()) / static_cast<double>(std::minstd_rand::max());
        return static_cast<int64_t>(static_cast<double>(ns) * (1 + 0.16 * (sum - 2)));
    }
    void leaveCoreUntil(int64_t time) {
        if (time > self->time && self->onCores) {
            cores_.ends(self->number, self->time);
            cores_.begins(self->number, time);
        }
        self->time = std::max(self->time, time);
    }
    VirtualThread* next() const {
        VirtualThread* best = nullptr;
        for (const auto& thread : threads_)
            if (!thread->finished && !thread->waitingFor && (!best || thread->time < best->time)) best = thread.get();
        return best;
    }
    /// Nothing happens before the time of the one that is furthest behind.
    void tellCores() FUGATO_NEEDS(mutex_) { cores_.tellUntil(running_ ? running_->time : INT64_MAX); }
    /// Lets every thread that is further behind run first.
    void giveWay() {
        VirtualThread* const mine = self;
        const fugato::Lock lock(mutex_);
        running_ = next();
        tellCores();
        if (running_ != mine) {
            if (running_)
                running_->turn.notify_one();
            else
                allFinished_.notify_one();
            while (running_ != mine) mine->turn.wait(mutex_);
        }
        if (!paced_) return;
        reached = mine->time;
        // All others are further on, and wait for their turn.
        std::this_thread::sleep_until(begin_ + std::chrono::nanoseconds(mine->time));
    }
    void run(VirtualThread& mine) {
        self = &mine;
        {
            const fugato::Lock lock(mutex_);
            while (running_ != &mine) mine.turn.wait(mutex_);
        }
        if (mine.onCores) {
            fug_thread_number(mine.number);
            cores_.begins(mine.number, mine.time);
        }
        mine.body();
        const fugato::Lock lock(mutex_);
        mine.finished = true;
        if (mine.onCores) cores_.ends(mine.number, mine.time);
        running_ = next();
        tellCores();
        if (running_)
            running_->turn.notify_one();
        else
            allFinished_.notify_one();
        while (!mine.leaving) mine.turn.wait(mutex_);
    }

    const uint64_t seed_;
    const bool paced_;
    const Seen seen_;
    Cores cores_;
    const std::chrono::steady_clock::time_point begin_ = std::chrono::steady_clock::now();
    fugato::Mutex mutex_;
    std::condition_variable_any allFinished_;
    std::vector<std::unique_ptr<VirtualThread>> threads_;
    VirtualThread* running_ FUGATO_GUARDED_BY(mutex_) = nullptr;
};

}  // namespace

std::unique_ptr<Runtime> makeRealRuntime() { return std::make_unique<RealRuntime>(); }
std::unique_ptr<Runtime> makeVirtualRuntime(uint64_t seed, bool paced, Seen seen) {
    return std::make_unique<VirtualRuntime>(seed, paced, seen);
}
uint64_t virtualNow() { return static_cast<uint64_t>(self ? self->time : reached.load()); }

void Gate::lock(fug_site& waitSite) {
    const Section section(runtime_);
    if (held_) {
        fug::Wait wait(waitSite, object_, FUG_WAIT_LOCK);
        while (held_) runtime_.wait(free_);
    }
    held_ = true;
    fug_taken(object_.id());
}

void Gate::unlock() {
    const Section section(runtime_);
    fug_given(object_.id());
    held_ = false;
    runtime_.notify(free_);
}

void Fence::raise(uint64_t value) {
    const Section section(runtime_);
    if (value <= value_) return;  // two raisers may come in the other order
    const uint64_t link = fug_link_new();
    fug_link_out(link);
    for (uint64_t v = value_ + 1; v <= value; ++v) links_[v] = link;
    value_ = value;
    if (value > 64) links_.erase(value - 64);
    runtime_.notify(raised_);
}

void Fence::waitFor(uint64_t value, fug_site& waitSite) {
    const Section section(runtime_);
    if (value_ >= value) return;
    fug::Wait wait(waitSite, object_, kind_);
    while (value_ < value) runtime_.wait(raised_);
    wait.endedBy(links_[value]);
}

void WorkQueue::push(std::function<void()> work) {
    const Section section(runtime_);
    const uint64_t link = fug_link_new();
    fug_link_out(link);
    items_.push_back({std::move(work), link});
    runtime_.notify(changed_);
}

void WorkQueue::close() {
    const Section section(runtime_);
    closed_ = true;
    runtime_.notify(changed_);
}

bool WorkQueue::pop(std::function<void()>& work, uint64_t& link, fug_site& waitSite) {
    const Section section(runtime_);
    if (items_.empty() && !closed_) {
        fug::Wait wait(waitSite, object_, FUG_WAIT_JOB);
        while (items_.empty() && !closed_) runtime_.wait(changed_);
        if (!items_.empty()) wait.endedBy(items_.front().link);
    }
    if (items_.empty()) return false;
    work = std::move(items_.front().work);
    link = items_.front().link;
    items_.pop_front();
    return true;
}

}  // namespace skerry
