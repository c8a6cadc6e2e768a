// SPDX-License-Identifier: GPL-3.0-or-later
//
// The person's recordings on the start page: found, named, noted, moved to the bin and back, thinned out.
#include <QDialog>
#include <QProcess>
#include <QSpinBox>
#include <QTimer>

#include "app/settings/settings.h"
#include "app/start/recording_note.h"
#include "app/start/start_page.h"
#include "window_test.h"

namespace fugato {

namespace {

/// One late frame.
constexpr const char* kLines = R"({"fugato":"text","version":1}
{"define":"lane","id":1,"name":"main","role":"main"}
{"define":"series","id":1,"name":"frames","deadline_ns":16000000}
{"define":"site","id":1,"name":"Step","category":"game"}
{"define":"context","key":"program","value":"PROGRAM"}
{"define":"context","key":"recording id","value":"id of NAME"}
{"at":0,"lane":1,"do":"frame","series":1}
{"at":10000000,"lane":1,"do":"begin","site":1}
{"at":30000000,"lane":1,"do":"end"}
{"at":30000000,"lane":1,"do":"frame_end","series":1}
)";

}  // namespace

class RecordingsAppTest : public WindowTest {
    Q_OBJECT

public:
    RecordingsAppTest() { QDir::setCurrent(folder_.path()); }  // in Qt's test mode the bin may lie there

private:
    QString own(const char* name) const { return folder_.filePath(QString("data/fugato/recordings/") + name); }
    RecordingList& list() { return window_->startPage().list(); }
    QList<RecordingCard*> shown() {
        QList<RecordingCard*> out;
        for (RecordingCard* card : list().cards())
            if (card->isVisible()) out << card;
        return out;
    }
    void fresh() { QVERIFY(QDir(folder_.filePath("data")).removeRecursively()); }
    /// A recording of the folder with a program's name of its own; `days` old.
    void make(const char* name, const char* program, int days) {
        QVERIFY(QDir().mkpath(folder_.filePath("data/fugato/recordings")));
        QByteArray lines(kLines);
        lines.replace("PROGRAM", program).replace("NAME", name);
        const QString text = write("made.jsonl", lines);
        QProcess convert;
        convert.start(FUGATO_CLI_PROGRAM, {"convert", text, own(name)});
        QVERIFY(convert.waitForFinished(kPatience));
        QVERIFY2(convert.exitCode() == 0, convert.readAllStandardError());
        QFile file(own(name));
        QVERIFY(file.open(QIODevice::ReadWrite));
        QVERIFY(file.setFileTime(QDateTime::currentDateTime().addDays(-days), QFileDevice::FileModificationTime));
    }
    void listed(qsizetype count) {
        list().fill();
        EVENTUALLY(!list().busy() && list().cards().size() == count);
        for (RecordingCard* card : list().cards()) QVERIFY(card->hasFacts());
    }
    static void click(QDialog& dialog, const QString& words) {
        for (QPushButton* one : dialog.findChildren<QPushButton*>())
            if (one->text().remove('&') == words) return QTest::mouseClick(one, Qt::LeftButton);
        qFatal("There is no such button.");
    }

private slots:
    void recordingsAreSearchedNamedAndNoted() {
        fresh();
        make("a.fugato", "ferry", 0);
        make("b.fugato", "pilot", 1);
        listed(2);
        QCOMPARE(shown().front()->title(), QString("ferry"));
        QVERIFY(list().room().startsWith("2 recordings in your folder, ") &&
                list().room().contains(" free on its disk"));
        // A name, tags and a note, by keys.
        inDialog([](QDialog& dialog) {
            QTest::keyClicks(dialog.focusWidget(), "Before the fix");
            QTest::keyClick(&dialog, Qt::Key_Tab);
            QTest::keyClicks(dialog.focusWidget(), "pier, lock,pier");
            QTest::keyClick(&dialog, Qt::Key_Tab);
            QTest::keyClicks(dialog.focusWidget(), "the helper holds it");
            click(dialog, "OK");
        });
        shown().front()->setFocus();
        QTest::keyClick(shown().front(), Qt::Key_F2);
        window_->activateWindow();  // off screen nothing does that when a dialog closes
        QCOMPARE(shown().front()->title(), QString("Before the fix"));
        QCOMPARE(noteOf("id of a.fugato"), (RecordingNote{"Before the fix", "the helper holds it", {"pier", "lock"}}));
        QVERIFY(shown().front()->accessibleName().contains("ferry, ") &&
                shown().front()->accessibleName().contains("pier, lock"));
        // It belongs to the recording, wherever its file lies.
        QVERIFY(QFile::rename(own("a.fugato"), own("moved.fugato")));
        listed(2);
        QCOMPARE(shown().front()->title(), QString("Before the fix"));
        // Found by any word of it, and by the cause; Enter opens the first.
        for (const char* words : {"fix", "LOCK", "helper holds", "ferry pier", "moved"}) {
            list().search().setText(words);
            QVERIFY2(shown().size() == 1 && shown().front()->title() == "Before the fix", words);
        }
        list().search().setText("1 over");
        QCOMPARE(shown().size(), qsizetype{2});
        list().search().setText("canoe");
        QVERIFY(shown().isEmpty());
        const auto labels = list().findChildren<QLabel*>();
        QVERIFY(std::any_of(labels.begin(), labels.end(), [](QLabel* label) {
            return label->isVisible() && label->text() == "No recording holds “canoe”.";
        }));
        list().search().setText("pilot");
        QTest::keyClick(&list().search(), Qt::Key_Return);
        EVENTUALLY(window_->document().explanation() != nullptr);
        settle();
        QCOMPARE(window_->document().path(), own("b.fugato"));
        // Back to the list, and to the recording again.
        QTest::keyClick(&window_->lanes(), Qt::Key_O, Qt::ControlModifier | Qt::ShiftModifier);
        QVERIFY(window_->startPage().isVisible());
        settle();
        QTest::keyClick(&window_->startPage(), Qt::Key_O, Qt::ControlModifier | Qt::ShiftModifier);
        QVERIFY(!window_->startPage().isVisible() && window_->lanes().isVisible());
        // An empty note is no note.
        QVERIFY(keepNote("id of a.fugato", {}));
        QVERIFY(noteOf("id of a.fugato").empty());
    }

    void oneIsMovedToTheBinAndBack() {
        fresh();
        make("a.fugato", "ferry", 0);
        make("b.fugato", "pilot", 1);
        listed(2);
        QVERIFY(!list().undoBin().isVisible());
        shown().front()->setFocus();
        QTest::keyClick(shown().front(), Qt::Key_Delete);
        EVENTUALLY(!list().busy() && list().cards().size() == 1);
        QVERIFY(!QFile::exists(own("a.fugato")));
        QCOMPARE(list().binned().size(), qsizetype{1});
        const QString there = list().binned()[0].second;
        QVERIFY2(QFile::exists(there), qPrintable(there));
        QTest::mouseClick(&list().undoBin(), Qt::LeftButton);
        EVENTUALLY(!list().busy() && list().cards().size() == 2);
        QVERIFY(QFile::exists(own("a.fugato")));
        const QFileInfo was(there);
        QVERIFY(!QFile::exists(there));
        QVERIFY(!QFile::exists(was.absolutePath() + "/../info/" + was.fileName() + ".trashinfo"));
        QVERIFY(!list().undoBin().isVisible());
    }

    void oldOnesAreThinnedOutOnlyWithWord() {
        fresh();
        make("new.fugato", "ferry", 3);
        make("old.fugato", "ferry", 40);
        make("older.fugato", "ferry", 90);
        make("noted.fugato", "ferry", 90);
        QVERIFY(keepNote("id of noted.fugato", {"", "keep this", {}}));
        const QString elsewhere = folder_.filePath("elsewhere.fugato");
        QFile::remove(elsewhere);
        QVERIFY(QFile::copy(own("older.fugato"), elsewhere));
        settings::recentFiles().set({elsewhere});
        listed(5);
        QCOMPARE(list().olderThan(30).size(), qsizetype{2});
        QCOMPARE(list().olderThan(60).size(), qsizetype{1});
        inDialog([](QDialog& dialog) { dialog.reject(); });
        QTest::mouseClick(&list().thinOut(), Qt::LeftButton);
        QVERIFY(QFile::exists(own("old.fugato")));
        inDialog([](QDialog& dialog) {
            dialog.findChild<QSpinBox*>()->setValue(60);
            click(dialog, "Move them to the bin");
        });
        QTest::mouseClick(&list().thinOut(), Qt::LeftButton);
        EVENTUALLY(!list().busy() && list().cards().size() == 4);
        QVERIFY(!QFile::exists(own("older.fugato")));
        for (const char* stays : {"new.fugato", "old.fugato", "noted.fugato"}) QVERIFY(QFile::exists(own(stays)));
        QVERIFY(QFile::exists(elsewhere));
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::RecordingsAppTest)
#include "recordings_app_test.moc"
