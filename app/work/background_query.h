// SPDX-License-Identifier: GPL-3.0-or-later
//
// Puts a question to the recording on another thread. A newer question silences the older one; the
// answer arrives on the interface thread.
#pragma once

#include "app/work/task.h"
#include "app/work/workers.h"
#include "format/events.h"

namespace fugato {

class BackgroundQuery : public QObject {
    Q_OBJECT
public:
    explicit BackgroundQuery(QObject* parent = nullptr) : QObject(parent) {}
    ~BackgroundQuery() override { silence(); }
    bool busy() const { return busy_; }

    /// Runs `question(progress)` elsewhere and then `answer(its result)` here. A question that was
    /// cancelled gives a null result and no answer; one that failed tells failed(). The result is freed elsewhere, too.
    template <class Question, class Answer>
    void ask(Question question, Answer answer) {
        silence();
        busy_ = true;
        emit changed();
        task_ = Task::start(
            [this, question, answer](Task& task) {
                double told = 0;
                const auto result = freedElsewhere(question(Progress([&](double part) {
                    if (part - told >= 0.05) {
                        told = part;
                        task.post([this, part] { emit progressed(part); });
                    }
                    return !task.cancelled();
                })));
                task.post([this, result, answer] {
                    busy_ = false;
                    if (result) answer(result);
                    emit changed();
                });
            },
            [this](const QString& sentence) {
                busy_ = false;
                emit failed(sentence);
                emit changed();
            });
    }
    /// The answer is not wanted any more. Returns at once.
    void silence() {
        if (task_) task_->cancel();
        task_.reset();
        busy_ = false;
    }

signals:
    void changed();  // busy or not
    void progressed(double part);
    void failed(const QString& sentence);

private:
    bool busy_ = false;
    std::shared_ptr<Task> task_;
};

}  // namespace fugato
