// SPDX-License-Identifier: GPL-3.0-or-later
#include "task.h"

#include <new>

#include "format/log.h"

namespace fugato {

namespace {

std::atomic<int> going{0};  // tasks that have not ended

/// What posts are addressed to. Never deleted: the last of a task may be a post that Qt throws away at the program's
/// end, while it holds the lock that deleting an object takes.
QObject* mailbox() {
    static QObject* const ofInterfaceThread = new QObject;
    return ofInterfaceThread;
}

}  // namespace

Task::Task() : mailbox_(mailbox()) {}

std::shared_ptr<Task> Task::start(std::function<void(Task&)> work, std::function<void(const QString&)> failed,
                                  Urgency urgency) {
    std::shared_ptr<Task> task(new Task);
    auto run = [task, work = std::move(work), failed]() mutable {
        QString sentence;
        try {
            if (!task->cancelled()) work(*task);
        } catch (const std::bad_alloc&) {
            sentence = QObject::tr("There is not enough memory for this. Close other programs and try again.");
        } catch (const std::exception& error) {
            sentence = QObject::tr("This could not be done: %1.").arg(QString::fromUtf8(error.what()));
        }
        if (!sentence.isEmpty()) {
            log(LogLevel::Error, sentence.toStdString());  // also where nobody hears of it
            task->post([failed, sentence] { failed(sentence); });
        }
        work = {};  // what it owns ends before it counts as ended
        --going;
    };
    ++going;
    if (!startWork(std::move(run), urgency)) {
        --going;
        task->post(
            [failed] { failed(QObject::tr("The system gives no more threads. Close other programs and try again.")); });
    }
    return task;
}

bool Task::anyRuns() { return going > 0; }

void Task::post(std::function<void()> tell) {
    QMetaObject::invokeMethod(
        mailbox_,
        [task = shared_from_this(), tell = std::move(tell)] {
            if (!task->cancelled()) tell();
        },
        Qt::QueuedConnection);
}

}  // namespace fugato
