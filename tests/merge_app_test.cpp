// SPDX-License-Identifier: GPL-3.0-or-later
//
// Recordings of two programs become one in the real window: asked for in the menu, made with progress, opened; its
// lanes brought together by program.
#include <QComboBox>
#include <QFileDialog>
#include <QListWidget>
#include <QMenu>

#include "app/merge/merge_dialog.h"
#include "app/scope/scope_bar.h"
#include "testing/text_recording.h"
#include "window_test.h"

namespace fugato {

class MergeAppTest : public WindowTest {
    Q_OBJECT

    QString program(const QString& name, const QString& started) {
        TextRecording text;
        text.line(R"({"fugato":"text","version":1,"started_unix_ns":)" + started.toStdString() + "}")
            .line(R"({"define":"context","key":"program","value":")" + name.toStdString() + R"("})")
            .lane("main", 1)
            .lane("worker", 2)
            .lane("queue", 3, "queue");
        for (int frame = 0; frame < 20; ++frame) {
            const double at = frame * 10'000;
            text.frame(at, "main").mark(at + 100, at + (frame == 12 ? 19'000 : 5'000), "main", "Step");
            text.mark(at + 200, at + 3'000, "worker", "Job").mark(at + 300, at + 900, "queue", "Draw");
        }
        text.frameEnd(200'000, "main");
        return write(qPrintable(name + ".jsonl"), QByteArray::fromStdString(text.text()));
    }
    QStringList lanes() {
        QStringList names;
        for (const uint32_t lane : window_->lanes().picture().lanesFromTop())
            names << window_->lanes().picture().labelOf(lane);
        return names;
    }
    QAction* actionNamed(const QList<QAction*>& actions, const QString& name) {
        for (QAction* action : actions)
            if (action->text().remove('&') == name) return action;
        return nullptr;
    }
    void mergeWith(const std::function<void(MergeDialog&)>& act) {
        inDialog<MergeDialog>(act);
        QAction* merge = nullptr;
        for (QAction* menu : window_->findChildren<QAction*>())
            if (menu->text() == "&Merge recordings…") merge = menu;
        QVERIFY(merge);
        merge->trigger();
    }

private slots:
    void twoProgramsBecomeOneRecording() {
        const QString game = program("game", "1800000000000000000"), server = program("server", "1800000000005000000");
        open(game);
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        const QString wanted = folder_.filePath("game + server.fugato");
        mergeWith([&](MergeDialog& dialog) {
            QCOMPARE(dialog.recordings().count(), 1);
            QVERIFY(dialog.told().startsWith("Add the recording"));
            const auto button = [&](const QString& name) {
                for (QPushButton* one : dialog.findChildren<QPushButton*>())
                    if (one->text().remove('&') == name) return one;
                return static_cast<QPushButton*>(nullptr);
            };
            QVERIFY(!button("Merge")->isEnabled());
            inDialog<QFileDialog>([&](QFileDialog& files) {
                auto* name = files.findChild<QLineEdit*>();
                name->setText(server);
                QTest::keyClick(name, Qt::Key_Return);
            });
            QTest::mouseClick(button("Add recordings…"), Qt::LeftButton);
            QCOMPARE(dialog.recordings().count(), 2);
            QCOMPARE(dialog.path().text(), wanted);
            // Nothing that is there is written over; a list of one is not merged.
            dialog.path().setText(game);
            QVERIFY(dialog.told().contains("is there already") && !button("Merge")->isEnabled());
            dialog.path().setText(folder_.filePath("game + server.else"));
            QTest::mouseClick(button("Merge"), Qt::LeftButton);
            EVENTUALLY(dialog.told().startsWith("Cannot tell the form"));
            dialog.path().setText(wanted);
            QVERIFY(dialog.told().isEmpty());
            dialog.path().setFocus();
            QTest::keyClick(&dialog.path(), Qt::Key_Return);
        });
        QVERIFY(explained.count() || explained.wait(kPatience));
        settle();
        QCOMPARE(window_->document().path(), wanted);
        QVERIFY(window_->windowTitle().startsWith("game + server.fugato"));
        QCOMPARE(lanes(), (QStringList{"main", "worker", "server: main", "server: worker", "queue", "server: queue"}));
        // Brought together by program, from the menu of a lane; kept for these programs.
        QMenu menu;
        window_->lanes().fillLaneMenu(menu);
        QAction* together = actionNamed(menu.actions(), "Lanes of a program together");
        QVERIFY(together && !together->isChecked());
        together->trigger();
        const QStringList byProgram{"main", "worker", "queue", "server: main", "server: worker", "server: queue"};
        QCOMPARE(lanes(), byProgram);
        window_->activateWindow();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
        key(Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(lanes() != byProgram);
        const QKeyCombination redo = QKeySequence(QKeySequence::Redo)[0];
        key(redo.key(), redo.keyboardModifiers());
        QCOMPARE(lanes(), byProgram);
        window_.reset();
        window_ = std::make_unique<MainWindow>();
        window_->show();
        open(wanted);
        QCOMPARE(lanes(), byProgram);
        // The tables speak of one program's lanes: chosen in the line above them, and remembered.
        auto* on = window_->findChild<ScopeBar*>()->findChild<QComboBox*>();
        QCOMPARE(on->findText("lanes of game"), 3);
        on->setCurrentIndex(on->findText("lanes of server"));
        emit on->activated(on->currentIndex());
        QCOMPARE(selection().scope().lanes, ScopeChoice::Lanes::Program);
        QCOMPARE(selection().scope().group, std::string("server"));
        ScopeChoice whole = selection().scope();
        whole.of = ScopeChoice::Of::Whole;
        selection().chooseScope(whole);
        open(game);
        QCOMPARE(on->findText("lanes of game"), -1);
        open(wanted);
        QCOMPARE(selection().scope(), whole);
        QCOMPARE(on->currentText(), QString("lanes of server"));
        // A recording of one program has no such choice.
        open(game);
        QMenu alone;
        window_->lanes().fillLaneMenu(alone);
        QVERIFY(!actionNamed(alone.actions(), "Lanes of a program together"));
    }

    void whatIsMergedCanBeCancelledAndRefused() {
        const QString game = program("game", "1800000000000000000"), later = program("later", "1900000000000000000");
        mergeWith([&](MergeDialog& dialog) {
            QVERIFY(dialog.told().startsWith("Add a recording"));
            dialog.addRecording(game);
            dialog.addRecording(game);  // is in the list already
            dialog.addRecording(later);
            QCOMPARE(dialog.recordings().count(), 2);
            dialog.path().setFocus();
            QTest::keyClick(&dialog.path(), Qt::Key_Return);
            EVENTUALLY(dialog.told().contains("ended before"));
            dialog.recordings().setCurrentRow(1);
            for (QPushButton* one : dialog.findChildren<QPushButton*>())
                if (one->text() == "Re&move") QTest::mouseClick(one, Qt::LeftButton);
            QCOMPARE(dialog.recordings().count(), 1);
            // Escape ends the work, and then the dialog.
            for (int copy = 0; copy < 20; ++copy) {
                const QString path = folder_.filePath(QString("copy %1.fugato").arg(copy));
                QFile::copy(FUGATO_DEMO_RECORDING, path);
                dialog.addRecording(path);
            }
            dialog.path().setText(folder_.filePath("long.fugato"));
            dialog.path().setFocus();
            QTest::keyClick(&dialog.path(), Qt::Key_Return);
            EVENTUALLY(dialog.findChild<QProgressBar*>()->isVisible());
            QTest::keyClick(&dialog, Qt::Key_Escape);
            EVENTUALLY(!dialog.findChild<QProgressBar*>()->isVisible());
            QVERIFY(dialog.isVisible());
            QTest::keyClick(&dialog, Qt::Key_Escape);
        });
        QVERIFY(!QFileInfo::exists(folder_.filePath("long.fugato")));
        QVERIFY(!window_->document().recording());
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::MergeAppTest)
#include "merge_app_test.moc"
