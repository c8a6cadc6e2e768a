// SPDX-License-Identifier: GPL-3.0-or-later
#include "workers.h"

#include <QSemaphore>
#include <QThreadPool>
#include <algorithm>
#include <memory>

namespace fugato {

namespace {

/// More than there are cores, since work that was cancelled still goes on for a moment, and reading waits for disks.
constexpr int kFewest = 6;
constexpr int kStartTakesMs = 2000;  // at most

/// All its threads are started at once and stay: QThreadPool loses work for which the system gives it no thread.
class Workers {
public:
    Workers() {
        pool_->setMaxThreadCount(std::max(kFewest, QThread::idealThreadCount() + 2));
        pool_->setExpiryTimeout(-1);
        struct Gate {
            QSemaphore arrived, open;
        };
        const auto gate = std::make_shared<Gate>();
        for (int i = 0; i < pool_->maxThreadCount(); ++i)
            pool_->start([gate] {
                gate->arrived.release();
                gate->open.acquire();
            });
        const bool all = gate->arrived.tryAcquire(pool_->maxThreadCount(), kStartTakesMs);
        count_ = all ? pool_->maxThreadCount() : gate->arrived.available();
        gate->open.release(pool_->maxThreadCount());
    }
    ~Workers() {
        if (count_ < pool_->maxThreadCount()) (void)pool_.release();  // it would wait for threads that never came
    }
    Workers(const Workers&) = delete;
    Workers& operator=(const Workers&) = delete;
    int count() const { return count_; }
    void start(std::function<void()> work, Urgency urgency) {
        pool_->start(std::move(work), static_cast<int>(urgency));
    }

private:
    std::unique_ptr<QThreadPool> pool_ = std::make_unique<QThreadPool>();
    int count_ = 0;
};

Workers& workers() {
    static Workers all;
    return all;
}

}  // namespace

bool startWork(std::function<void()> work, Urgency urgency) {
    if (!workers().count()) return false;
    workers().start(std::move(work), urgency);
    return true;
}

int workerCount() { return workers().count(); }

}  // namespace fugato
