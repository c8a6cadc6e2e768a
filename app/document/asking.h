// SPDX-License-Identifier: GPL-3.0-or-later
//
// Puts a question to the recording on another thread. A newer question silences the older one; the
// answer arrives on the interface thread.
#pragma once

#include <QObject>
#include <atomic>
#include <functional>
#include <memory>
#include <thread>

#include "format/events.h"

namespace fugato {

class Asking : public QObject {
    Q_OBJECT
public:
    explicit Asking(QObject* parent = nullptr) : QObject(parent) {}
    ~Asking() override { silence(); }
    bool busy() const { return busy_; }

    /// Runs `question(progress)` elsewhere and then `answer(its result)` here. A question that was
    /// cancelled gives a null result and no answer.
    template <class Question, class Answer>
    void ask(Question question, Answer answer) {
        silence();
        busy_ = true;
        cancelled_ = std::make_shared<std::atomic<bool>>(false);
        emit changed();
        thread_ = std::thread([this, question, answer, cancelled = cancelled_] {
            double told = 0;
            const auto result = question(Progress([&](double part) {
                if (part - told >= 0.05) {
                    told = part;
                    post(cancelled, [this, part] { emit progressed(part); });
                }
                return !cancelled->load();
            }));
            post(cancelled, [this, result, answer] {
                busy_ = false;
                if (result) answer(result);
                emit changed();
            });
        });
    }
    void silence() {
        if (cancelled_) *cancelled_ = true;
        if (thread_.joinable()) thread_.join();
        busy_ = false;
    }

signals:
    void changed();  // busy or not
    void progressed(double part);

private:
    template <class Tell>
    void post(const std::shared_ptr<std::atomic<bool>>& cancelled, Tell tell) {
        QMetaObject::invokeMethod(
            this,
            [cancelled, tell] {
                if (!*cancelled) tell();
            },
            Qt::QueuedConnection);
    }
    bool busy_ = false;
    std::shared_ptr<std::atomic<bool>> cancelled_;
    std::thread thread_;
};

}  // namespace fugato
