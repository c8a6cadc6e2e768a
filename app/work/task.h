// SPDX-License-Identifier: GPL-3.0-or-later
//
// Work off the interface thread. Cancelling never waits: the work ends in its own time, and what it tells afterwards
// is not heard any more.
#pragma once

#include <QObject>
#include <QString>
#include <atomic>
#include <functional>
#include <memory>

#include "workers.h"

namespace fugato {

class Task : public std::enable_shared_from_this<Task> {
public:
    /// Runs `work` on another thread, unless it is cancelled before. What it throws, lack of memory for one, becomes a
    /// sentence that `failed` is told on the interface thread. To be called there. Whatever `work` uses it owns.
    static std::shared_ptr<Task> start(std::function<void(Task&)> work, std::function<void(const QString&)> failed,
                                       Urgency urgency = Urgency::Wanted);
    /// Whether any work still goes on, cancelled or not.
    static bool anyRuns();

    /// On the interface thread; nothing posted is heard from then on.
    void cancel() { cancelled_ = true; }
    bool cancelled() const { return cancelled_; }
    /// From the work: runs `tell` on the interface thread, unless it was cancelled by then.
    void post(std::function<void()> tell);

private:
    Task();
    std::atomic<bool> cancelled_{false};
    QObject* const mailbox_;  // of the interface thread
};

}  // namespace fugato
