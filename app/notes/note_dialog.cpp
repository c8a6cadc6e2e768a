// SPDX-License-Identifier: GPL-3.0-or-later
#include "note_dialog.h"

#include <QDialogButtonBox>
#include <QFormLayout>
#include <QKeyEvent>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/theme/words.h"

namespace fugato {

QString wordsOf(const Note& note) {
    const QString name = shown(toQString(note.name));
    switch (note.about) {
        case NoteAbout::Recording: return NoteDialog::tr("the whole recording");
        case NoteAbout::Stretch:
            return name.isEmpty() ? NoteDialog::tr("a stretch of time") : NoteDialog::tr("stretch %1").arg(name);
        case NoteAbout::Marker: return NoteDialog::tr("marker %1").arg(name);
        case NoteAbout::Cause: return NoteDialog::tr("cause %1").arg(name);
        default: return name;
    }
}

NoteDialog::NoteDialog(const std::vector<Note>& choices, QWidget* parent)
    : QDialog(parent),
      choices_(choices),
      about_(new QComboBox),
      state_(new QComboBox),
      name_(new QLineEdit),
      text_(new QPlainTextEdit) {
    const bool before = choices_.size() == 1 && !choices_[0].id.empty();
    setWindowTitle(before ? tr("Change the note") : tr("Add a note"));
    auto* lines = new QVBoxLayout(this);
    auto* form = new QFormLayout;
    const auto add = [&](const QString& words, QWidget* field) {
        auto* label = plainLabel(words);
        label->setBuddy(field);
        field->setAccessibleName(QString(words).remove('&'));
        form->addRow(label, field);
    };
    for (const Note& note : choices_) about_->addItem(wordsOf(note));
    about_->setEnabled(choices_.size() > 1);
    for (const NoteState state : {NoteState::None, NoteState::ToMend, NoteState::Mended, NoteState::Accepted})
        state_->addItem(state == NoteState::None ? tr("none") : QString(wordOf(state)), static_cast<int>(state));
    add(tr("&About"), about_);
    add(tr("&Name"), name_);
    add(tr("&Text"), text_);
    add(tr("&State"), state_);
    text_->setTabChangesFocus(true);
    text_->installEventFilter(this);
    lines->addLayout(form);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Save | QDialogButtonBox::Cancel);
    buttons->button(QDialogButtonBox::Save)->setDefault(true);
    lines->addWidget(buttons);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(about_, &QComboBox::currentIndexChanged, this, &NoteDialog::takeChoice);
    resize(460, 320);
    text_->setPlainText(toQString(choices_[0].text));
    state_->setCurrentIndex(static_cast<int>(choices_[0].state));
    takeChoice();
    (choices_[0].about == NoteAbout::Stretch ? static_cast<QWidget*>(name_) : text_)->setFocus();
}

/// Only a stretch has a name of its own.
void NoteDialog::takeChoice() {
    const Note& note = choices_[static_cast<size_t>(about_->currentIndex())];
    const bool stretch = note.about == NoteAbout::Stretch;
    name_->setEnabled(stretch);
    name_->setText(stretch ? toQString(note.name) : QString());
    name_->setPlaceholderText(stretch ? tr("by which it can be looked at") : QString());
}

Note NoteDialog::note() const {
    Note note = choices_[static_cast<size_t>(about_->currentIndex())];
    if (note.about == NoteAbout::Stretch) note.name = name_->text().trimmed().toStdString();
    note.text = text_->toPlainText().trimmed().toStdString();
    note.state = static_cast<NoteState>(state_->currentData().toInt());
    return note;
}

/// Ctrl+Return saves: Return alone begins a line.
bool NoteDialog::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::KeyPress) {
        const auto* key = static_cast<QKeyEvent*>(event);
        const bool enter = key->key() == Qt::Key_Return || key->key() == Qt::Key_Enter;
        if (enter && key->modifiers() & Qt::ControlModifier) {
            accept();
            return true;
        }
    }
    return QDialog::eventFilter(watched, event);
}

}  // namespace fugato
