// SPDX-License-Identifier: GPL-3.0-or-later
//
// The running programs that can be joined, as they come and go, looked at every second while it is seen.
#pragma once

#include <QTimer>
#include <QWidget>
#include <memory>

#include "app/work/background_query.h"
#include "session/running_programs.h"

class QLabel;
class QVBoxLayout;

namespace fugato {

class RunningCard;

class RunningList : public QWidget {
    Q_OBJECT
public:
    /// `whenNone` is said where there is none.
    explicit RunningList(const QString& whenNone, QWidget* parent = nullptr);
    int count() const { return static_cast<int>(cards_.size()); }
    QWidget* card(int at) const;

signals:
    void chosen(const RunningProgram& program);  // to be joined
    void recordingWanted(const QString& path);   // it is recorded already

protected:
    void showEvent(QShowEvent* event) override;
    void hideEvent(QHideEvent* event) override;

private:
    struct Looked {
        std::vector<RunningProgram> programs;
        std::string trouble;
    };
    void look();
    void show(const Looked& looked);

    std::shared_ptr<RunningPrograms> running_ = std::make_shared<RunningPrograms>();
    BackgroundQuery looking_;
    QTimer again_;
    QLabel* none_;
    const QString whenNone_;
    QVBoxLayout* lines_;
    std::vector<RunningCard*> cards_;
};

}  // namespace fugato
