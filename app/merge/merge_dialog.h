// SPDX-License-Identifier: GPL-3.0-or-later
//
// Asks for recordings of programs that ran on one machine at the same time, and makes one of them. Works while it is
// shown; its buttons and Escape cancel that. Interface thread only.
#pragma once

#include <QDialog>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QProgressBar>
#include <QPushButton>

#include "app/work/background_query.h"

namespace fugato {

class MergeDialog : public QDialog {
    Q_OBJECT
public:
    struct Merged {
        QString path;
        QStringList notes;  // what could not be read in the parts
    };
    /// `first`: a recording that is in the list from the start, or empty.
    explicit MergeDialog(const QString& first, QWidget* parent = nullptr);
    /// After it was accepted.
    const Merged& result() const { return merged_; }

    void addRecording(const QString& path);
    QListWidget& recordings() { return *recordings_; }
    QLineEdit& path() { return *path_; }
    QString told() const { return told_->text(); }
    void reject() override;

private:
    void removeRecording();
    void askForRecordings();
    void askForPath();
    void suggestPath();
    void check();
    void checkAnew();
    void merge();
    QStringList files() const;

    QListWidget* const recordings_;
    QLineEdit* const path_;
    QLabel* const told_;
    QProgressBar* const progress_;
    QPushButton *const merge_, *remove_ = nullptr;
    QString suggested_;
    QString trouble_;  // why merging failed
    Merged merged_;
    BackgroundQuery merging_;
};

}  // namespace fugato
