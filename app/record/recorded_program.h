// SPDX-License-Identifier: GPL-3.0-or-later
//
// The program that was started from here and is being recorded. It is started on another thread, since looking at a
// large program takes time; it goes on when this ends.
#pragma once

#include <QTimer>
#include <memory>

#include "app/work/background_query.h"
#include "session/launch.h"

namespace fugato {

class RecordedProgram : public QObject {
    Q_OBJECT
public:
    explicit RecordedProgram(QObject* parent = nullptr);
    /// One at a time; one that still runs goes on by itself.
    void start(const Launch& launch);
    bool runs() const { return program_ != nullptr || starting_.busy(); }
    /// Asks it to end, and ends it where it takes no notice.
    void end();
    const Launch& launch() const { return launch_; }

signals:
    void changed();                      // whether it runs
    void appeared(const QString& path);  // its recording
    void said(const QString& sentence);  // why there is none, or how it ended

private:
    void look();

    Launch launch_;
    BackgroundQuery starting_;
    std::shared_ptr<LaunchedProgram> program_;
    QTimer looking_, patience_;
    bool shown_ = false, asked_ = false;
};

}  // namespace fugato
