// SPDX-License-Identifier: GPL-3.0-or-later
//
// What stands in the window while no recording is open: the recordings there are, starting a program to record it,
// opening a file, the demo.
#pragma once

#include <QWidget>

#include "app/record/start_form.h"
#include "recording_card.h"

class QVBoxLayout;

namespace fugato {

class StartPage : public QWidget {
    Q_OBJECT
public:
    explicit StartPage(QWidget* parent = nullptr);
    /// Lists the recordings anew.
    void fill();
    StartForm& form() { return *form_; }
    /// Still working out what recordings hold.
    bool busy() const { return looking_.busy() || asking_.busy(); }
    /// The demo recording that came with the program; empty where there is none.
    static QString demoRecording();

signals:
    void openWanted();
    void recordingWanted(const QString& path);
    void programWanted(const Launch& launch);

protected:
    void showEvent(QShowEvent* event) override;
    void hideEvent(QHideEvent* event) override;

private:
    void show(const QStringList& recordings);
    void askForNext();

    QVBoxLayout* list_;
    StartForm* form_;
    QList<RecordingCard*> cards_;  // newest first
    BackgroundQuery looking_, asking_;
};

}  // namespace fugato
