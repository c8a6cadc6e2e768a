// SPDX-License-Identifier: GPL-3.0-or-later
//
// Asks for a note: what it is about, its text and state; of a stretch of time its name.
#pragma once

#include <QComboBox>
#include <QDialog>
#include <QLineEdit>
#include <QPlainTextEdit>

#include "core/notes/notes.h"

namespace fugato {

class NoteDialog : public QDialog {
    Q_OBJECT
public:
    /// `choices`: what can be noted now; the first is suggested. One that was written before is the only one.
    NoteDialog(const std::vector<Note>& choices, QWidget* parent = nullptr);
    QComboBox& about() { return *about_; }
    QLineEdit& name() { return *name_; }
    QPlainTextEdit& text() { return *text_; }
    QComboBox& state() { return *state_; }
    /// As it was asked for.
    Note note() const;

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void takeChoice();

    const std::vector<Note> choices_;
    QComboBox *const about_, *const state_;
    QLineEdit* const name_;
    QPlainTextEdit* const text_;
};

/// "frame 7 734", "stretch Start"…
QString wordsOf(const Note& note);

}  // namespace fugato
