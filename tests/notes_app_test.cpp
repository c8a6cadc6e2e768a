// SPDX-License-Identifier: GPL-3.0-or-later
//
// Notes in the real window: written, listed, found again, changed, removed, taken back; named stretches looked at.
#include <QMenu>
#include <QPushButton>
#include <QStatusBar>
#include <QToolButton>

#include "app/drawer/notes_page.h"
#include "app/notes/note_dialog.h"
#include "app/scope/scope_bar.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/words.h"
#include "app/why/why_panel.h"
#include "testing/files.h"
#include "window_test.h"

namespace fugato {

class NotesAppTest : public WindowTest {
    Q_OBJECT

    QString path_;
    NotesPage& page() { return window_->drawer().page<NotesPage>(); }
    Notes& notes() { return window_->document().notes(); }
    /// The demo in a folder of its own, without notes.
    void openCopy() {
        path_ = folder_.filePath("race.fugato");
        QFile::remove(path_);
        QFile::remove(path_ + ".notes.json");
        QVERIFY(QFile::copy(FUGATO_DEMO_RECORDING, path_));
        open(path_);
        QVERIFY(notes().all().empty());
    }
    void openAgain() {
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        open(path_);
    }
    /// Writes a note by keyboard, on what stands first or on what has these words.
    void addNote(const QString& about, const QString& text, const QString& name = {}, int state = 0) {
        inDialog<NoteDialog>([=](NoteDialog& dialog) {
            if (!about.isEmpty()) dialog.about().setCurrentText(about);
            QCOMPARE(about.isEmpty() ? about : dialog.about().currentText(), about);
            if (!name.isEmpty()) QTest::keyClicks(&dialog.name(), name);
            QTest::keyClicks(&dialog.text(), text);
            dialog.state().setCurrentIndex(state);
            QTest::keyClick(&dialog.text(), Qt::Key_Return, Qt::ControlModifier);
        });
        awake();
        key(Qt::Key_A);
        settle();
        awake();
    }
    /// After a dialog the window is the one that hears keys again.
    void awake() {
        window_->activateWindow();
        EVENTUALLY_EQUAL(QApplication::activeWindow(), static_cast<QWidget*>(window_.get()));
    }
    QStringList texts() {
        QStringList all;
        for (const Note& note : notes().all()) all << toQString(note.text);
        return all;
    }
    Table::Row rowOf(const std::string& text) {
        const auto table = page().view().table();
        for (Table::Row row = 0; row < table->rowLimit(); ++row)
            if (table->value(row, kNoteText) == TableValue(text)) return row;
        return Table::kTop;
    }

private slots:
    void notesAreWrittenAndFoundAgain() {
        openCopy();
        const uint32_t cause = selection().cause(), frame = selection().frame();
        addNote({}, "drawn too often", {}, 1);  // the cause stands first
        const QString frameWords = "frame " + QString::number(frame);
        addNote(frameWords, "look at the spray");
        QCOMPARE(texts(), (QStringList{"drawn too often", "look at the spray"}));
        QVERIFY(notes().all()[0].about == NoteAbout::Cause && notes().all()[0].state == NoteState::ToMend);
        EVENTUALLY(!notes().busy());
        QVERIFY(QFile::exists(path_ + ".notes.json"));
        openAgain();
        QCOMPARE(texts(), (QStringList{"drawn too often", "look at the spray"}));
        key(Qt::Key_N, Qt::ControlModifier);
        settle();
        QCOMPARE(window_->drawer().shown(), QString("notes"));
        QVERIFY2(page().about().contains("2 notes, 1 to mend"), qPrintable(page().about()));
        // They lead to what they are about.
        selection().chooseCause(3);
        settle();
        emit page().view().rowChosen(rowOf("drawn too often"));
        QCOMPARE(selection().cause(), cause);
        selection().chooseFrame(5);
        emit page().view().rowChosen(rowOf("look at the spray"));
        QCOMPARE(selection().frame(), frame);
        // The explanation tells what was noted of the frame and its cause.
        EVENTUALLY(window_->why().parts().textOfAll().contains("look at the spray"));
        QVERIFY(window_->why().parts().textOfAll().contains("Noted: to mend · "));
        // The strip marks the frame, and tells of it.
        const auto& parts = window_->strip().parts().all();
        QVERIFY(std::any_of(parts.begin(), parts.end(),
                            [](const PaintedPart& part) { return part.name.contains("look at the spray"); }));
    }

    void aMarkersNoteLeadsToIt() {
        openCopy();
        const Recording& r = *window_->document().recording();
        const MarkerRef marker = r.innermostBefore(0, explanation().frame(200).end);
        selection().lookAtMarker(marker, true);
        settle();
        addNote({}, "why here?");
        QVERIFY(notes().all()[0].about == NoteAbout::Marker);
        selection().showWhole();
        selection().chooseMarker({});
        window_->drawer().show("notes");
        settle();
        emit page().view().rowChosen(0);
        settle();
        QCOMPARE(selection().marker(), marker);
    }

    void aStretchWithANameIsLookedAt() {
        openCopy();
        const Recording& r = *window_->document().recording();
        const TimeRange range{r.begin + 20'000'000'000, r.begin + 22'000'000'000};
        selection().selectRange(range);
        settle();
        addNote({}, "smooth", "first lap");
        QVERIFY(notes().all()[0].about == NoteAbout::Stretch);
        selection().selectRange({});
        // The line above the lanes offers it.
        ScopeChoice choice;
        choice.of = ScopeChoice::Of::Stretch;
        choice.stage = "first lap";
        QMenu menu;
        window_->scopeBar().fillMenu(menu);
        QAction* found = nullptr;
        for (QAction* action : menu.actions())
            if (action->menu() && action->text() == "Stretch")
                for (QAction* one : action->menu()->actions())
                    if (one->text() == "first lap") found = one;
        QVERIFY(found);
        found->trigger();
        settle();
        QCOMPARE(selection().scope(), choice);
        QCOMPARE(window_->scopeBar().words(), QString("stretch first lap"));
        const auto chosen = chosenScope(r, &explanation(), selection().scope(), selection().scopeContext());
        QVERIFY(chosen);
        QCOMPARE(chosen->scope.stretches, std::vector<TimeRange>{range});
        // When the note goes there is no such stretch any more, and pages say so.
        notes().remove(notes().all()[0].id);
        settle();
        QVERIFY2(window_->scopeBar().words().contains("No stretch has the name"),
                 qPrintable(window_->scopeBar().words()));
    }

    void notesAreChangedRemovedAndTakenBack() {
        openCopy();
        addNote({}, "one");
        window_->drawer().show("notes");
        settle();
        page().view().showRow(0);
        inDialog<NoteDialog>([&](NoteDialog& dialog) {
            QVERIFY(!dialog.about().isEnabled());
            dialog.text().selectAll();
            QTest::keyClicks(&dialog.text(), "two");
            QTest::keyClick(&dialog.text(), Qt::Key_Return, Qt::ControlModifier);
        });
        QTest::keyClick(&page().view(), Qt::Key_F2);
        settle();
        awake();
        QCOMPARE(texts(), QStringList{"two"});
        QTest::keyClick(&page().view(), Qt::Key_Delete);
        settle();
        QVERIFY(texts().isEmpty());
        key(Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(texts(), QStringList{"two"});
        key(Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(texts(), QStringList{"one"});
        EVENTUALLY(!notes().busy());
        const auto read = readNotes(notesPath(path_.toStdString()));
        QVERIFY(read && read->notes.size() == 1 && read->notes[0].text == "one");
    }

    void whatSomebodyElseWroteIsKept() {
        openCopy();
        addNote({}, "mine");
        EVENTUALLY(!notes().busy());
        const std::string at = notesPath(path_.toStdString());
        auto file = *readNotes(at);
        Note other;
        other.id = "theirs";
        other.text = "theirs";
        file.notes.push_back(other);
        QVERIFY(writeNotes(at, file));
        addNote({}, "mine again");
        EVENTUALLY(!notes().busy());
        QCOMPARE(readNotes(at)->notes.size(), size_t{3});
        QVERIFY(texts().contains("theirs"));
    }

    void damagedNotesAreLeftAsTheyAre() {
        openCopy();
        const std::string at = notesPath(path_.toStdString());
        putBytes(at, "{broken");
        openAgain();
        settle();
        EVENTUALLY_ELSE_SAY(window_->notice().contains("damaged"), qPrintable(window_->notice()));
        addNote({}, "lost?");
        EVENTUALLY_ELSE_SAY(window_->notice().contains("cannot be kept"), qPrintable(window_->notice()));
        settle();
        QFile file(toQString(at));
        QVERIFY(file.open(QIODevice::ReadOnly));
        QCOMPARE(file.readAll(), QByteArray("{broken"));
    }

    void atTheEndNothingIsLost() {
        openCopy();
        Note note;
        note.text = "at the last moment";
        notes().put(note);
        window_.reset();  // at once
        const auto read = readNotes(notesPath(path_.toStdString()));
        QVERIFY(read && read->notes.size() == 1);
        window_ = std::make_unique<MainWindow>();
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::NotesAppTest)
#include "notes_app_test.moc"
