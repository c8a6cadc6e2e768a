// SPDX-License-Identifier: GPL-3.0-or-later
//
// Work on several threads at once. What one of them throws is thrown again to whoever waits for them; where the system
// gives no thread, the work is done all the same.
#pragma once

#include <algorithm>
#include <exception>
#include <fugato_mutex.hpp>
#include <functional>
#include <system_error>
#include <thread>
#include <vector>

namespace fugato {

/// As many as there are cores, but no more than are worth it for so many shares of work.
inline size_t threadsFor(size_t shares) {
    return std::clamp<size_t>(std::thread::hardware_concurrency(), 1, shares + 1);
}

/// Threads beside the one that has them. Used from that thread only.
class Helpers {
public:
    Helpers() = default;
    Helpers(const Helpers&) = delete;
    Helpers& operator=(const Helpers&) = delete;
    ~Helpers() { wait(); }

    void start(const std::function<void()>& work) {
        try {
            threads_.emplace_back([this, work] { run(work); });
        } catch (const std::system_error&) {
            later_.push_back(work);
        }
    }
    size_t size() const { return threads_.size(); }
    /// Runs `work` here, as one of them: what it throws comes from finish().
    void run(const std::function<void()>& work) {
        try {
            work();
        } catch (...) {
            const Lock lock(mutex_);
            if (!failure_) failure_ = std::current_exception();
        }
    }
    /// Waits for all of them; throws what the first that failed did.
    void finish() {
        for (const auto& work : later_) run(work);
        later_.clear();
        wait();
        const Lock lock(mutex_);
        if (failure_) std::rethrow_exception(failure_);
    }

private:
    void wait() {
        for (std::thread& thread : threads_) thread.join();
        threads_.clear();
    }
    std::vector<std::thread> threads_;
    std::vector<std::function<void()>> later_;
    Mutex mutex_;
    std::exception_ptr failure_ FUGATO_GUARDED_BY(mutex_);
};

/// Runs `work(0)` here and the others beside it.
inline void sideBySide(size_t threads, const std::function<void(size_t)>& work) {
    Helpers helpers;
    for (size_t i = 1; i < threads; ++i) helpers.start([&work, i] { work(i); });
    helpers.run([&work] { work(0); });
    helpers.finish();
}

}  // namespace fugato
