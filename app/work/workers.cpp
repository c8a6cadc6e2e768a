// SPDX-License-Identifier: GPL-3.0-or-later
#include "workers.h"

#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <QSemaphore>
#include <QThread>
#include <QThreadPool>
#include <algorithm>
#include <atomic>

namespace fugato {

namespace {

constexpr int kStartTakesMs = 2000;  // at most

std::atomic<bool> ended{false};  // the program ends: there are no threads any more

/// All its threads are started at once and stay: QThreadPool loses work for which the system gives it no thread.
class Threads {
public:
    /// `begin` is called on each of them.
    Threads(int most, const std::function<void()>& begin) {
        pool_->setMaxThreadCount(most);
        pool_->setExpiryTimeout(-1);
        struct Gate {
            QSemaphore arrived, open;
        };
        const auto gate = std::make_shared<Gate>();
        for (int i = 0; i < most; ++i)
            pool_->start([gate, begin] {
                begin();
                gate->arrived.release();
                gate->open.acquire();
            });
        const bool all = gate->arrived.tryAcquire(most, kStartTakesMs);
        count_ = all ? most : gate->arrived.available();
        gate->open.release(most);
    }
    ~Threads() {
        ended = true;
        if (count_ < pool_->maxThreadCount()) (void)pool_.release();  // it would wait for threads that never came
    }
    Threads(const Threads&) = delete;
    Threads& operator=(const Threads&) = delete;
    int count() const { return count_; }
    bool start(std::function<void()> work, Urgency urgency) {
        if (count_) pool_->start(std::move(work), static_cast<int>(urgency));
        return count_ > 0;
    }

private:
    std::unique_ptr<QThreadPool> pool_ = std::make_unique<QThreadPool>();
    int count_ = 0;
};

/// Stands back behind the interface and what is painted, so that these need not wait for a core. Threads that it starts
/// do the same.
void standBack() {
    constexpr int kNice = 5;
    (void)setpriority(PRIO_PROCESS, static_cast<id_t>(syscall(SYS_gettid)), kNice);
}

Threads& workers() {
    // More than there are cores, since work that was cancelled still goes on for a moment, and reading waits for disks.
    constexpr int kFewest = 6;
    static Threads all(std::max(kFewest, QThread::idealThreadCount() + 2), standBack);
    return all;
}

Threads& painters() {
    static Threads all(std::max(1, QThread::idealThreadCount() - 1), [] {});
    return all;
}

}  // namespace

bool startWork(std::function<void()> work, Urgency urgency) {
    if (ended) return false;
    return (urgency == Urgency::Painting ? painters() : workers()).start(std::move(work), urgency);
}

void freeElsewhere(std::shared_ptr<const void> used) {
    if (used) (void)startWork([used = std::move(used)] {}, Urgency::Ahead);
}

int workerCount() { return workers().count(); }

}  // namespace fugato
