// SPDX-License-Identifier: GPL-3.0-or-later
#include "notes_page.h"

#include <QKeyEvent>

#include "app/notes/note_dialog.h"
#include "app/notes/note_places.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

DrawerPage::Words NotesPage::words() const {
    return {"notes",        tr("Notes"),
            tr("&Notes"),   tr("What was noted of spikes, causes, markers, frames and stretches of time"),
            tr("Findings"), About::Recording};
}

NotesPage::NotesPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "notes", tr("Notes"), -1, parent) {
    for (const auto signal : {&Notes::changed, &Notes::loaded})
        connect(&document.notes(), signal, this, [this] { fill(true); });
    connect(&document, &Document::recordingChanged, this, [this] { fill(false); });
    connect(view_, &TableView::menuOpens, this, [this](QMenu* menu) { addActions(*menu); });
    view_->installEventFilter(this);
    fill(false);
}

void NotesPage::fill(bool same) {
    shown_ = document_.notes().all();
    title_->setText(tr("Notes"));
    size_t open = 0;
    for (const Note& note : shown_) open += note.state == NoteState::ToMend;
    about_->setText(shown_.empty() ? QString()
                    : open ? tr("%1, %2 to mend").arg(toQString(plural(shown_.size(), "note", "notes"))).arg(open)
                           : toQString(plural(shown_.size(), "note", "notes")));
    view_->setEmptyText(document_.recording() ? tr("Nothing is noted yet. A adds a note to the selected marker, cause, "
                                                   "frame or time; it is kept beside the recording.")
                                              : QString());
    view_->setTable(!shown_.empty() && document_.recording() ? noteTable(document_.recording(), shown_) : nullptr,
                    same);
}

std::string NotesPage::idOfRow(Table::Row row) const { return row < shown_.size() ? shown_[row].id : std::string(); }

void NotesPage::follow(Table::Row row, bool zoom) {
    if (row >= shown_.size() || !document_.recording()) return;
    if (zoom) return emit noteWanted(idOfRow(row));
    goToNote(shown_[row], document_, selection_);
}

void NotesPage::addActions(QMenu& menu) {
    menu.addAction(tr("&Add a note…"), this, [this] { emit noteWanted({}); });
    const QModelIndex index = view_->currentIndex();
    const Note* const note = index.isValid() ? document_.notes().find(idOfRow(TableModel::rowOf(index))) : nullptr;
    if (note) {
        menu.addAction(tr("C&hange it…"), this, [this, id = note->id] { emit noteWanted(id); });
        QMenu* states = menu.addMenu(tr("&State"));
        for (const NoteState state : {NoteState::None, NoteState::ToMend, NoteState::Mended, NoteState::Accepted}) {
            QAction* action = states->addAction(state == NoteState::None ? tr("none") : QString(wordOf(state)), this,
                                                [this, changed = *note, state]() mutable {
                                                    changed.state = state;
                                                    document_.notes().put(changed);
                                                });
            action->setCheckable(true);
            action->setChecked(note->state == state);
        }
        menu.addAction(tr("&Remove it"), this, [this, id = note->id] { document_.notes().remove(id); });
    }
    menu.addSeparator();
}

void NotesPage::fillMenu(QMenu& menu) {
    addActions(menu);
    TablePage::fillMenu(menu);
}

bool NotesPage::eventFilter(QObject* watched, QEvent* event) {
    if (watched == view_ && event->type() == QEvent::KeyPress) {
        const int key = static_cast<QKeyEvent*>(event)->key();
        const QModelIndex index = view_->currentIndex();
        if (index.isValid() && key == Qt::Key_Delete) {
            document_.notes().remove(idOfRow(TableModel::rowOf(index)));
            return true;
        }
        if (index.isValid() && key == Qt::Key_F2) {
            emit noteWanted(idOfRow(TableModel::rowOf(index)));
            return true;
        }
    }
    return TablePage::eventFilter(watched, event);
}

}  // namespace fugato
