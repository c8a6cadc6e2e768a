// SPDX-License-Identifier: GPL-3.0-or-later
//
// What program to start, how, and what to record of it. What was started before is kept for each program.
#pragma once

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QWidget>
#include <optional>

#include "app/work/background_query.h"
#include "keep_fields.h"
#include "session/launch.h"

namespace fugato {

class StartForm : public QWidget {
    Q_OBJECT
public:
    explicit StartForm(QWidget* parent = nullptr);
    /// As it was started last; nothing where nothing was.
    static std::optional<Launch> before();
    /// What stands in the fields; nothing, and the wrong field marked, where it cannot be used.
    std::optional<Launch> launch();
    KeepFields& keepFields() { return *keep_; }
    QComboBox& program() { return *program_; }
    /// The presets of what to collect may have changed.
    void takePresets();
    QString about() const { return about_->text(); }

signals:
    void started(const Launch& launch);

protected:
    void showEvent(QShowEvent* event) override;

private:
    void fill();
    void take(const Launch& launch);
    void tellAboutProgram();
    void tellCost();
    void browse();
    void start();

    QComboBox *program_, *collect_;
    QLineEdit *arguments_, *folder_, *environment_, *leaveOut_, *length_;
    QLabel* about_;
    QLabel* cost_;
    KeepFields* keep_;
    QPushButton* go_;
    QTimer soon_;
    BackgroundQuery looking_;
};

}  // namespace fugato
