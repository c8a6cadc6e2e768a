// SPDX-License-Identifier: GPL-3.0-or-later
//
// What stands in the window while no recording is open: the recordings there are, starting a program to record it,
// opening a file, the demo.
#pragma once

#include <QWidget>

#include "app/record/running_list.h"
#include "app/record/start_form.h"
#include "recording_list.h"

namespace fugato {

class StartPage : public QWidget {
    Q_OBJECT
public:
    explicit StartPage(QWidget* parent = nullptr);
    /// Lists the recordings anew.
    void fill() { list_->fill(); }
    StartForm& form() { return *form_; }
    RunningList& running() { return *running_; }
    /// Still working out what recordings hold.
    bool busy() const { return list_->busy(); }
    RecordingList& list() { return *list_; }
    /// The demo recording that came with the program; empty where there is none.
    static QString demoRecording();

signals:
    void openWanted();
    void recordingWanted(const QString& path);
    void programWanted(const Launch& launch);
    void joinWanted(const RunningProgram& program);

protected:
    void showEvent(QShowEvent* event) override;

private:
    RecordingList* list_;
    StartForm* form_;
    RunningList* running_;
};

}  // namespace fugato
