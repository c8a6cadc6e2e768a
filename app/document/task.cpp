// SPDX-License-Identifier: GPL-3.0-or-later
#include "task.h"

#include <algorithm>
#include <list>
#include <mutex>
#include <new>
#include <system_error>
#include <thread>

namespace fugato {

namespace {

/// The threads there are. Those that have ended are joined when the next one starts, the rest at the program's end.
class Threads {
public:
    ~Threads() {
        for (One& one : all_) one.thread.join();
    }
    void start(std::function<void()> work) {
        const std::lock_guard lock(lock_);
        all_.remove_if([](One& one) {
            if (!*one.ended) return false;
            one.thread.join();
            return true;
        });
        auto ended = std::make_shared<std::atomic<bool>>(false);
        all_.push_back({std::thread([work = std::move(work), ended]() mutable {
                            work();
                            work = {};  // what it owns ends before it counts as ended
                            *ended = true;
                        }),
                        ended});
    }
    bool anyRuns() {
        const std::lock_guard lock(lock_);
        return std::any_of(all_.begin(), all_.end(), [](const One& one) { return !*one.ended; });
    }

private:
    struct One {
        std::thread thread;
        std::shared_ptr<std::atomic<bool>> ended;
    };
    std::mutex lock_;  // guards all_
    std::list<One> all_;
};

Threads& threads() {
    static Threads all;
    return all;
}

/// What posts are addressed to. Never deleted: the last of a task may be a post that Qt throws away at the program's
/// end, while it holds the lock that deleting an object takes.
QObject* mailbox() {
    static QObject* const ofInterfaceThread = new QObject;
    return ofInterfaceThread;
}

}  // namespace

Task::Task() : mailbox_(mailbox()) {}

std::shared_ptr<Task> Task::start(std::function<void(Task&)> work, std::function<void(const QString&)> failed) {
    std::shared_ptr<Task> task(new Task);
    const auto run = [task, work = std::move(work), failed] {
        QString sentence;
        try {
            return work(*task);
        } catch (const std::bad_alloc&) {
            sentence = QObject::tr("There is not enough memory for this. Close other programs and try again.");
        } catch (const std::exception& error) {
            sentence = QObject::tr("This could not be done: %1.").arg(QString::fromUtf8(error.what()));
        }
        task->post([failed, sentence] { failed(sentence); });
    };
    try {
        threads().start(run);
    } catch (const std::system_error&) {
        task->post(
            [failed] { failed(QObject::tr("The system gives no more threads. Close other programs and try again.")); });
    }
    return task;
}

bool Task::anyRuns() { return threads().anyRuns(); }

void Task::post(std::function<void()> tell) {
    QMetaObject::invokeMethod(
        mailbox_,
        [task = shared_from_this(), tell = std::move(tell)] {
            if (!task->cancelled()) tell();
        },
        Qt::QueuedConnection);
}

}  // namespace fugato
