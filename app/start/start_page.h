// SPDX-License-Identifier: GPL-3.0-or-later
//
// What stands in the window while no recording is open: opening one, those opened lately, the demo.
#pragma once

#include <QWidget>

class QVBoxLayout;

namespace fugato {

class StartPage : public QWidget {
    Q_OBJECT
public:
    explicit StartPage(QWidget* parent = nullptr);
    /// Lists those opened lately anew.
    void fill();
    /// The demo recording that came with the program; empty where there is none.
    static QString demoRecording();

signals:
    void openWanted();
    void recordingWanted(const QString& path);

protected:
    void showEvent(QShowEvent* event) override;

private:
    QVBoxLayout* recent_;
};

}  // namespace fugato
