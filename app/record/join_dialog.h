// SPDX-License-Identifier: GPL-3.0-or-later
//
// How a running program is to be recorded; without one chosen yet, which.
#pragma once

#include <QComboBox>
#include <QDialog>
#include <optional>

#include "keep_fields.h"
#include "running_list.h"
#include "session/joined_program.h"

namespace fugato {

class JoinDialog : public QDialog {
    Q_OBJECT
public:
    explicit JoinDialog(const std::optional<RunningProgram>& program, QWidget* parent);
    RunningList& list() { return *list_; }
    KeepFields& keepFields() { return *keep_; }

signals:
    void joined(const RunningProgram& program, const JoinOptions& options);
    void recordingWanted(const QString& path);

private:
    void join(const RunningProgram& program);
    QComboBox* collect_;
    KeepFields* keep_;
    RunningList* list_ = nullptr;
};

}  // namespace fugato
