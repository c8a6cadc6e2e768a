// SPDX-License-Identifier: GPL-3.0-or-later
//
// lightship, a small program of another shape than the demo: it tells frames and a few markers, and neither links nor
// locks nor what its threads do. It watches a lamp fifty times a second, in real time, and troubles itself at known
// frames. `lightship TROUBLE RECORDING FOLDER`, the last for its files.
#include "lightship.h"

#include <fcntl.h>
#include <pthread.h>
#include <sched.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <condition_variable>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <fugato/fugato.hpp>
#include <functional>
#include <memory>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

namespace {

using namespace lightship;
using Clock = std::chrono::steady_clock;
using std::chrono::milliseconds;

constexpr int kBurners = 8;                   // processes, or threads
constexpr auto kBurning = milliseconds(120);  // of each
constexpr auto kHeldUp = milliseconds(40);    // what waits waits so much longer
constexpr size_t kChart = 48'000'000, kRead = 1'000'000, kFresh = 48'000'000, kLogged = 32'000'000;  // bytes

/// Computes for so long on its own; where it is interrupted it does not catch up.
volatile uint64_t computed = 0;
[[gnu::noinline]] void compute(Clock::duration time) {
    const auto cpu = [] {
        timespec now{};
        clock_gettime(CLOCK_THREAD_CPUTIME_ID, &now);
        return std::chrono::seconds(now.tv_sec) + std::chrono::nanoseconds(now.tv_nsec);
    };
    for (const auto end = cpu() + time; cpu() < end;)
        for (int i = 0; i < 2000; ++i) computed = computed * 31 + 7;
}

/// Another program, which waits for orders of so many milliseconds and carries them out.
class Helper {
public:
    template <class Order>
    Helper(const char* name, bool socket, Order order) {
        int there[2], back[2];
        if (socket) {
            if (socketpair(AF_UNIX, SOCK_STREAM, 0, there)) std::abort();
            back[0] = there[0];
            back[1] = there[1];
        } else if (pipe(there) || pipe(back)) {
            std::abort();
        }
        ask_ = socket ? there[0] : there[1];
        answer_ = back[0];
        const int in = socket ? there[1] : there[0], out = back[1];
        process_ = fork();
        if (process_) return;
        prctl(PR_SET_NAME, name);
        prctl(PR_SET_PDEATHSIG, SIGKILL);
        for (int ms = 0; read(in, &ms, sizeof ms) == sizeof ms;) {
            order(ms);
            if (write(out, &ms, sizeof ms) != sizeof ms) break;
        }
        _exit(0);
    }
    ~Helper() {
        kill(process_, SIGKILL);
        waitpid(process_, nullptr, 0);
    }
    void ask(int ms) const {
        if (write(ask_, &ms, sizeof ms) != sizeof ms) std::abort();
    }
    void answer() const {
        int ms = 0;
        if (read(answer_, &ms, sizeof ms) != sizeof ms) std::abort();
    }

private:
    pid_t process_ = 0;
    int ask_ = -1, answer_ = -1;
};

/// A thread without markers that does what it is asked to, one after the other.
class Thread {
public:
    explicit Thread(const char* name) : thread_([this, name] { run(name); }) {}
    ~Thread() {
        ask({});
        thread_.join();
    }
    void ask(std::function<void()> work) {
        {
            const std::lock_guard held(lock_);
            work_ = std::move(work);
            asked_ = true;
        }
        changed_.notify_all();
    }
    void answer() {
        std::unique_lock held(lock_);
        changed_.wait(held, [this] { return !asked_; });
    }

private:
    void run(const char* name) {
        pthread_setname_np(pthread_self(), name);
        for (;;) {
            std::function<void()> work;
            {
                std::unique_lock held(lock_);
                changed_.wait(held, [this] { return asked_; });
                work = work_;
            }
            if (!work) return;
            work();
            {
                const std::lock_guard held(lock_);
                asked_ = false;
            }
            changed_.notify_all();
        }
    }
    std::mutex lock_;
    std::condition_variable changed_;
    std::function<void()> work_;
    bool asked_ = false;
    std::thread thread_;
};

/// Holds this thread to the first core that it may use.
void keepToOneCore() {
    cpu_set_t cores;
    if (sched_getaffinity(0, sizeof cores, &cores)) std::abort();
    for (int core = 0; core < CPU_SETSIZE; ++core)
        if (CPU_ISSET(core, &cores)) {
            CPU_ZERO(&cores);
            CPU_SET(core, &cores);
        }
    if (sched_setaffinity(0, sizeof cores, &cores)) std::abort();
}

void burn(int ms) {
    const auto end = Clock::now() + milliseconds(ms);
    while (Clock::now() < end) computed = computed * 31 + 7;
}

}  // namespace

int main(int count, char** words) {
    if (count != 4) return 2;
    Trouble trouble = Trouble::None;
    for (int i = 0; i < kTroubles; ++i)
        if (std::strcmp(words[1], kTroubleNames[i]) == 0) trouble = static_cast<Trouble>(i);
    const std::string folder = words[3];

    // Other programs first: a copy of this process must not have its threads and its recording.
    const Helper tide("tide", false, [](int ms) { std::this_thread::sleep_for(milliseconds(ms)); });
    const Helper buoy("buoy", true, [](int ms) { std::this_thread::sleep_for(milliseconds(ms)); });
    const pid_t self = getpid();
    const Helper warden("warden", false, [self](int ms) {
        kill(self, SIGSTOP);
        std::this_thread::sleep_for(milliseconds(ms));
        kill(self, SIGCONT);
    });
    std::vector<std::unique_ptr<Helper>> ferries;
    const bool oneCore = trouble == Trouble::OneCore;
    for (int i = 0; i < kBurners; ++i)
        ferries.push_back(std::make_unique<Helper>("ferry", false, [oneCore](int ms) {
            if (oneCore) keepToOneCore();
            burn(ms);
        }));

    const std::string chart = folder + "/chart", log = folder + "/log";
    const int charts = open(chart.c_str(), O_RDWR | O_CREAT | O_TRUNC, 0600),
              logs = open(log.c_str(), O_RDWR | O_CREAT | O_TRUNC, 0600);
    std::vector<char> bytes(kRead, 'x');
    if (charts < 0 || logs < 0) return 1;
    for (size_t at = 0; at < kChart; at += kRead)
        if (write(charts, bytes.data(), kRead) != static_cast<ssize_t>(kRead)) return 1;
    fsync(charts);

    fug_options options = fug::options("lightship");
    options.os = FUG_OS_SWITCHES | FUG_OS_SAMPLES | FUG_OS_BLOCKING | FUG_OS_STACK_COPIES;
    options.existing = FUG_REPLACE_EXISTING;
    const fug::Recording recording(words[2], options);
    static const fug::Series watch("watch", kTickNs);
    static const fug::Object tick("next tick");
    std::mutex charting;
    std::atomic<bool> holding{false};
    Thread decoder("decoder"), keeper("keeper");
    std::vector<std::unique_ptr<Thread>> sweepers;
    for (int i = 0; i < kBurners; ++i) sweepers.push_back(std::make_unique<Thread>("sweeper"));

    if (oneCore) keepToOneCore();  // this thread alone
    auto next = Clock::now();
    for (uint32_t n = 0; n < kFrames; ++n) {
        const auto is = [&](Trouble one) { return trouble == one && isTroubled(n); };
        const int late = static_cast<int>(kHeldUp.count());
        const fug::Frame frame(watch);
        if (is(Trouble::AllCores) || is(Trouble::OneCore))
            for (const auto& ferry : ferries) ferry->ask(static_cast<int>(kBurning.count()));
        if (is(Trouble::OwnThreads))
            for (const auto& sweeper : sweepers) sweeper->ask([] { burn(static_cast<int>(kBurning.count())); });
        if (is(Trouble::Lock)) {
            keeper.ask([&] {
                const std::lock_guard held(charting);
                holding = true;
                compute(kHeldUp);
            });
            while (!holding.exchange(false)) std::this_thread::yield();
        }
        {
            FUG_MARK("Watch");
            {
                FUG_MARK("Read lamp");
                tide.ask(is(Trouble::Pipe) ? late : 0);
                tide.answer();
            }
            compute(milliseconds(1));
            {
                FUG_MARK("Decode");
                decoder.ask([&] { compute(is(Trouble::Library) ? kHeldUp : milliseconds(2)); });
                decoder.answer();
            }
            {
                FUG_MARK("Report");
                buoy.ask(is(Trouble::Socket) ? late : 0);
                buoy.answer();
            }
            {
                FUG_MARK("Read chart");
                const std::lock_guard held(charting);
                if (is(Trouble::DiskRead)) posix_fadvise(charts, 0, 0, POSIX_FADV_DONTNEED);
                for (size_t at = 0; at < (is(Trouble::DiskRead) ? kChart : kRead); at += kRead)
                    if (pread(charts, bytes.data(), kRead, static_cast<off_t>(at)) < 0) return 1;
            }
            {
                FUG_MARK("Beam");
                compute(milliseconds(2));
                if (is(Trouble::Stopped)) {
                    warden.ask(late);
                    compute(milliseconds(1));
                    warden.answer();
                }
                if (is(Trouble::Sleep)) std::this_thread::sleep_for(kHeldUp);
                if (is(Trouble::PageFaults)) {
                    void* fresh = mmap(nullptr, kFresh, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
                    if (fresh == MAP_FAILED) return 1;
                    madvise(fresh, kFresh, MADV_NOHUGEPAGE);
                    for (size_t at = 0; at < kFresh; at += 4096) static_cast<volatile char*>(fresh)[at] = 1;
                    munmap(fresh, kFresh);
                }
            }
            {
                FUG_MARK("Keep log");
                const size_t all = is(Trouble::Sync) ? kLogged : 4096;
                for (size_t at = 0; at < all; at += std::min<size_t>(all, kRead))
                    if (pwrite(logs, bytes.data(), std::min<size_t>(all, kRead), static_cast<off_t>(at)) < 0) return 1;
                if (is(Trouble::Sync)) fsync(logs);
            }
        }
        if (is(Trouble::Lock)) keeper.answer();
        next += std::chrono::nanoseconds(kTickNs);
        if (next < Clock::now()) {
            next = Clock::now();  // late: the next tick counts from here
            continue;
        }
        FUG_WAIT(wait, tick, FUG_WAIT_PACING, "Wait for tick");
        std::this_thread::sleep_until(next);
    }
    unlink(chart.c_str());
    unlink(log.c_str());
    return 0;
}
