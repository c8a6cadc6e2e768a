// SPDX-License-Identifier: GPL-3.0-or-later
//
// Asks for the command of the person's editor, and for the folders in which the source lies here.
#pragma once

#include <QComboBox>
#include <QDialog>
#include <QLabel>
#include <QTableWidget>

#include "source_paths.h"

namespace fugato {

class SourceDialog : public QDialog {
    Q_OBJECT
public:
    /// `example`: a name from the open recording, of which it is told where it would be found; or empty.
    explicit SourceDialog(const QString& example, QWidget* parent = nullptr);
    QComboBox& command() { return *command_; }
    QTableWidget& folders() { return *folders_; }
    QString told() const { return told_->text(); }

private:
    QList<SourceFolder> asked() const;
    void addRow(const SourceFolder& folder);
    void tell();
    void keep();

    const QString example_;
    QComboBox* const command_;
    QTableWidget* const folders_;
    QLabel* const told_;
};

}  // namespace fugato
