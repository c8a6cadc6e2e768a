// SPDX-License-Identifier: GPL-3.0-or-later
//
// One line over the panels while a program is being recorded from this window: which, how many frames, what was saved,
// and what can be done with it.
#pragma once

#include <QLabel>
#include <QPushButton>
#include <QWidget>

#include "recording_session.h"

class QMenu;

namespace fugato {

class SessionBar : public QWidget {
    Q_OBJECT
public:
    explicit SessionBar(RecordingSession& session, QWidget* parent = nullptr);
    QString words() const { return words_->text(); }
    /// The categories, and how much of each is recorded.
    QMenu& detail() { return *detail_; }
    QPushButton& openSaved() { return *openSaved_; }
    QPushButton& save() { return *save_; }
    QPushButton& end() { return *end_; }

signals:
    void recordingWanted(const QString& path);

private:
    void tell();
    void fillDetail();

    RecordingSession& session_;
    QLabel *words_, *saved_;
    QPushButton *openSaved_, *save_, *detailButton_, *end_;
    QMenu* detail_;
    QString savedPath_;
};

}  // namespace fugato
