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

/// A file that is read, from the page cache or from the disk, and a file that is written.
class Files {
public:
    explicit Files(const std::string& folder) : chart_(folder + "/chart"), log_(folder + "/log"), bytes_(kRead, 'x') {
        charts_ = open(chart_.c_str(), O_RDWR | O_CREAT | O_TRUNC, 0600);
        logs_ = open(log_.c_str(), O_RDWR | O_CREAT | O_TRUNC, 0600);
        if (charts_ < 0 || logs_ < 0) std::abort();
        for (size_t at = 0; at < kChart; at += kRead)
            if (write(charts_, bytes_.data(), kRead) != static_cast<ssize_t>(kRead)) std::abort();
        fsync(charts_);
    }
    ~Files() {
        unlink(chart_.c_str());
        unlink(log_.c_str());
    }
    /// `fromDisk`: all of it, after the page cache was dropped.
    void readChart(bool fromDisk) {
        if (fromDisk) posix_fadvise(charts_, 0, 0, POSIX_FADV_DONTNEED);
        for (size_t at = 0; at < (fromDisk ? kChart : kRead); at += kRead)
            if (pread(charts_, bytes_.data(), kRead, static_cast<off_t>(at)) < 0) std::abort();
    }
    /// `toDisk`: a large part, then fsync.
    void keepLog(bool toDisk) {
        const size_t all = toDisk ? kLogged : 4096;
        for (size_t at = 0; at < all; at += std::min<size_t>(all, kRead))
            if (pwrite(logs_, bytes_.data(), std::min<size_t>(all, kRead), static_cast<off_t>(at)) < 0) std::abort();
        if (toDisk) fsync(logs_);
    }

private:
    std::string chart_, log_;
    std::vector<char> bytes_;
    int charts_ = -1, logs_ = -1;
};

void touchFreshMemory() {
    void* fresh = mmap(nullptr, kFresh, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (fresh == MAP_FAILED) std::abort();
    madvise(fresh, kFresh, MADV_NOHUGEPAGE);
    for (size_t at = 0; at < kFresh; at += 4096) static_cast<volatile char*>(fresh)[at] = 1;
    munmap(fresh, kFresh);
}

/// The other programs. They are forked first, before this process has threads and a recording.
struct OtherPrograms {
    Helper tide{"tide", false, [](int ms) { std::this_thread::sleep_for(milliseconds(ms)); }};
    Helper buoy{"buoy", true, [](int ms) { std::this_thread::sleep_for(milliseconds(ms)); }};
    Helper warden{"warden", false, [self = getpid()](int ms) {
                      kill(self, SIGSTOP);
                      std::this_thread::sleep_for(milliseconds(ms));
                      kill(self, SIGCONT);
                  }};
    std::vector<std::unique_ptr<Helper>> ferries;

    explicit OtherPrograms(bool onOneCore) {
        for (int i = 0; i < kBurners; ++i)
            ferries.push_back(std::make_unique<Helper>("ferry", false, [onOneCore](int ms) {
                if (onOneCore) keepToOneCore();
                burn(ms);
            }));
    }
};

/// What is done in every tick, and in some of them what makes it late.
class Lightship {
public:
    Lightship(Trouble trouble, const OtherPrograms& others, Files& files)
        : trouble_(trouble), others_(others), files_(files) {
        for (int i = 0; i < kBurners; ++i) sweepers_.push_back(std::make_unique<Thread>("sweeper"));
    }

    void watch(uint32_t n) {
        n_ = n;
        startTroubles();
        {
            FUG_MARK("Watch");
            {
                FUG_MARK("Read lamp");
                others_.tide.ask(is(Trouble::Pipe) ? kLate : 0);
                others_.tide.answer();
            }
            compute(milliseconds(1));
            {
                FUG_MARK("Decode");
                decoder_.ask([late = is(Trouble::Library)] { compute(late ? kHeldUp : milliseconds(2)); });
                decoder_.answer();
            }
            {
                FUG_MARK("Report");
                others_.buoy.ask(is(Trouble::Socket) ? kLate : 0);
                others_.buoy.answer();
            }
            {
                FUG_MARK("Read chart");
                const std::lock_guard held(charting_);
                files_.readChart(is(Trouble::DiskRead));
            }
            beam();
            {
                FUG_MARK("Keep log");
                files_.keepLog(is(Trouble::Sync));
            }
        }
        if (is(Trouble::Lock)) keeper_.answer();
    }

private:
    static constexpr int kLate = static_cast<int>(kHeldUp.count());

    bool is(Trouble one) const { return trouble_ == one && isTroubled(n_); }
    void startTroubles() {
        if (is(Trouble::AllCores) || is(Trouble::OneCore))
            for (const auto& ferry : others_.ferries) ferry->ask(static_cast<int>(kBurning.count()));
        if (is(Trouble::OwnThreads))
            for (const auto& sweeper : sweepers_) sweeper->ask([] { burn(static_cast<int>(kBurning.count())); });
        if (!is(Trouble::Lock)) return;
        keeper_.ask([this] {
            const std::lock_guard held(charting_);
            holding_ = true;
            compute(kHeldUp);
        });
        while (!holding_.exchange(false)) std::this_thread::yield();
    }
    void beam() {
        FUG_MARK("Beam");
        compute(milliseconds(2));
        if (is(Trouble::Stopped)) {
            others_.warden.ask(kLate);
            compute(milliseconds(1));
            others_.warden.answer();
        }
        if (is(Trouble::Sleep)) std::this_thread::sleep_for(kHeldUp);
        if (is(Trouble::PageFaults)) touchFreshMemory();
    }

    const Trouble trouble_;
    const OtherPrograms& others_;
    Files& files_;
    uint32_t n_ = 0;
    std::mutex charting_;
    std::atomic<bool> holding_{false};
    Thread decoder_{"decoder"}, keeper_{"keeper"};
    std::vector<std::unique_ptr<Thread>> sweepers_;
};

}  // namespace

int main(int count, char** words) {
    if (count != 4) return 2;
    Trouble trouble = Trouble::None;
    for (int i = 0; i < kTroubles; ++i)
        if (std::strcmp(words[1], kTroubleNames[i]) == 0) trouble = static_cast<Trouble>(i);
    const OtherPrograms others(trouble == Trouble::OneCore);
    Files files(words[3]);

    fug_options options = fug::options("lightship");
    options.os = FUG_OS_SWITCHES | FUG_OS_SAMPLES | FUG_OS_BLOCKING | FUG_OS_STACK_COPIES;
    options.existing = FUG_REPLACE_EXISTING;
    const fug::Recording recording(words[2], options);
    static const fug::Series watch("watch", kTickNs);
    static const fug::Object tick("next tick");
    Lightship ship(trouble, others, files);

    if (trouble == Trouble::OneCore) keepToOneCore();  // this thread alone
    auto next = Clock::now();
    for (uint32_t n = 0; n < kFrames; ++n) {
        const fug::Frame frame(watch);
        ship.watch(n);
        next += std::chrono::nanoseconds(kTickNs);
        if (next < Clock::now()) {
            next = Clock::now();  // late: the next tick counts from here
            continue;
        }
        FUG_WAIT(wait, tick, FUG_WAIT_PACING, "Wait for tick");
        std::this_thread::sleep_until(next);
    }
    return 0;
}
