// SPDX-License-Identifier: GPL-3.0-or-later
#include "workers.h"

#include <sys/resource.h>
#include <unistd.h>

#include <QSemaphore>
#include <QThreadPool>
#include <algorithm>
#include <memory>

namespace fugato {

namespace {

/// More than there are cores, since work that was cancelled still goes on for a moment, and reading waits for disks.
constexpr int kFewest = 6;
constexpr int kStartTakesMs = 2000;  // at most
/// Added to the nice value of threads that are not for painting: the interface gets about three times their share of a
/// processor, and gets it at once.
constexpr int kNicer = 5;

/// Some threads. All of them are started at once and stay: QThreadPool loses work for which the system gives it no
/// thread.
class Threads {
public:
    Threads(int count, int nicer) {
        pool_.setMaxThreadCount(count);
        pool_.setExpiryTimeout(-1);
        struct Gate {
            QSemaphore arrived, open;
        };
        const auto gate = std::make_shared<Gate>();
        for (int i = 0; i < count; ++i)
            pool_.start([gate, nicer] {
                if (nicer) {
                    const auto thread = static_cast<id_t>(::gettid());
                    (void)::setpriority(PRIO_PROCESS, thread, ::getpriority(PRIO_PROCESS, thread) + nicer);
                }
                gate->arrived.release();
                gate->open.acquire();
            });
        count_ = gate->arrived.tryAcquire(count, kStartTakesMs) ? count : gate->arrived.available();
        gate->open.release(count);
    }
    int count() const { return count_; }
    void start(std::function<void()> work, Urgency urgency) { pool_.start(std::move(work), static_cast<int>(urgency)); }

private:
    QThreadPool pool_;
    int count_ = 0;
};

Threads& workers() {
    static Threads all(std::max(kFewest, QThread::idealThreadCount() + 2), kNicer);
    return all;
}
Threads& painters() {
    static Threads all(std::max(1, QThread::idealThreadCount() - 1), 0);
    return all;
}

}  // namespace

bool startWork(std::function<void()> work, Urgency urgency) {
    Threads& threads = urgency == Urgency::Painting ? painters() : workers();
    if (!threads.count()) return false;
    threads.start(std::move(work), urgency);
    return true;
}

int workerCount() { return workers().count(); }

}  // namespace fugato
