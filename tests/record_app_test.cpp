// SPDX-License-Identifier: GPL-3.0-or-later
//
// Recording from the window: the form for a program, its recording that opens by itself and grows, ending it, starting
// it again, and what is said where nothing can be recorded.
#include <sys/stat.h>

#include <QComboBox>
#include <QDialog>
#include <QMenuBar>
#include <QProcess>
#include <QRegularExpression>
#include <QTimer>

#include "app/record/device_dialog.h"
#include "app/record/join_dialog.h"
#include "app/record/presets_dialog.h"
#include "app/record/session_bar.h"
#include "app/settings/settings.h"
#include "app/start/start_page.h"
#include "window_test.h"

namespace fugato {

class RecordAppTest : public WindowTest {
    Q_OBJECT

public:
    RecordAppTest() {
        qputenv("SDL_VIDEODRIVER", "dummy");
        qputenv("XDG_RUNTIME_DIR", folder_.path().toUtf8());  // no other test's programs are listed
    }

private:
    StartForm& form() { return window_->startPage().form(); }
    QLineEdit& field(const char* name) {
        for (QLineEdit* one : form().findChildren<QLineEdit*>())
            if (one->accessibleName() == name) return *one;
        qFatal("There is no such field.");
    }
    bool said_ = false;  // in a dialog
    QPushButton& button(const QString& words) {
        for (QPushButton* one : window_->findChildren<QPushButton*>())
            if (one->text().remove('&') == words && one->isVisible()) return *one;
        qFatal("There is no such button.");
    }
    QAction& entry(const QString& words) {
        for (const QAction* top : window_->menuBar()->actions())
            if (top->text() == "&Record")
                for (QAction* one : top->menu()->actions())
                    if (one->text().remove('&') == words) return *one;
        qFatal("There is no such entry.");
    }
    /// A program that offers itself, and its card on the start page.
    std::unique_ptr<QProcess> started(const QStringList& arguments) {
        auto process = std::make_unique<QProcess>();
        process->start(OFFERED_PROGRAM, arguments);
        if (!QTest::qWaitFor([&] { return process->canReadLine(); }, kPatience)) qWarning("it does not become ready");
        return process;
    }
    QWidget* cardOf(const QString& program) {
        RunningList& list = window_->startPage().running();
        for (int i = 0; i < list.count(); ++i)
            if (list.card(i)->accessibleName().startsWith(program + ", ")) return list.card(i);
        return nullptr;
    }
    static QPushButton& buttonIn(QWidget& where, const QString& words) {
        for (QPushButton* one : where.findChildren<QPushButton*>())
            if (one->text().remove('&') == words) return *one;
        qFatal("There is no such button.");
    }
    void typeProgram(const QString& program, const QString& arguments) {
        form().program().setFocus();
        form().program().lineEdit()->selectAll();
        QTest::keyClicks(form().program().lineEdit(), program);
        field("Arguments").setText(arguments);
    }

private slots:
    void aProgramIsStartedSeenLiveEndedAndStartedAgain() {
        QVERIFY(window_->startPage().isVisible());
        QVERIFY(form().program().hasFocus() || form().program().lineEdit()->hasFocus());
        QVERIFY(!entry("Start again as before").isEnabled() && !entry("End the program").isEnabled());
        typeProgram(PICTURES_PROGRAM, "renderer 1000000");
        EVENTUALLY_EQUAL(form().about(),
                         QString("It carries no recorder: frames, waits, files and threads are recorded from "
                                 "outside."));
        QTest::mouseClick(&button("Start and record"), Qt::LeftButton);
        EVENTUALLY(window_->session().runs());
        EVENTUALLY_ELSE_SAY(window_->document().explanation() && explanation().frames.size() > 30,
                            qPrintable(window_->notice()));
        QVERIFY(window_->document().recording()->growing);
        QVERIFY(!window_->startPage().isVisible());
        const QString first = window_->document().path();
        QVERIFY2(first.contains("/data/fugato/recordings/pictures-"), qPrintable(first));
        QVERIFY(entry("End the program").isEnabled());
        window_->lanes().setFocus();
        QTest::keyClick(&window_->lanes(), Qt::Key_E, Qt::ControlModifier);
        EVENTUALLY(!window_->session().runs());
        EVENTUALLY(!window_->document().recording()->growing);
        settle();
        QVERIFY(!entry("End the program").isEnabled());
        // The same again: another recording, the first one stays.
        QTest::keyClick(&window_->lanes(), Qt::Key_R, Qt::ControlModifier | Qt::ShiftModifier);
        EVENTUALLY_ELSE_SAY(window_->document().path() != first && window_->document().explanation(),
                            qPrintable(window_->notice()));
        QVERIFY(QFile::exists(first));
        entry("End the program").trigger();
        EVENTUALLY(!window_->session().runs());
        EVENTUALLY(!window_->document().recording()->growing);
        settle();
    }

    void theFormRemembersAndTheListShowsWhatWasRecorded() {
        typeProgram(PICTURES_PROGRAM, "renderer 40 \"a file\"");
        field("Record for").setText("20f");
        field("Environment").setText("BOAT=Plover");
        QTest::keyClick(&field("Record for"), Qt::Key_Return);
        EVENTUALLY(window_->document().recording() && !window_->document().recording()->growing &&
                   !window_->session().runs());
        settle();
        QCOMPARE(explanation().frames.size(), size_t{20});
        window_ = std::make_unique<MainWindow>();  // as after a new start
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        QCOMPARE(form().program().currentText(), QString(PICTURES_PROGRAM));
        QCOMPARE(field("Arguments").text(), QString("renderer 40 \"a file\""));
        QCOMPARE(field("Record for").text(), QString("20f"));
        QCOMPARE(field("Environment").text(), QString("BOAT=Plover"));
        const auto cards = [&] {
            QList<RecordingCard*> found;
            for (RecordingCard* one : window_->startPage().findChildren<RecordingCard*>())
                if (one->accessibleName().startsWith("pictures, ")) found << one;
            return found;
        };
        EVENTUALLY(!cards().isEmpty() && cards().front()->accessibleName().contains("20 frames"));
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        QTest::mouseClick(cards().front(), Qt::LeftButton);
        EVENTUALLY(explained.count() > 0);
        settle();
    }

    void whatCannotBeRecordedIsSaid() {
        typeProgram("ls", "/");
        QTest::keyClick(&field("Arguments"), Qt::Key_Return);
        EVENTUALLY_ELSE_SAY(window_->notice().startsWith("ls showed no picture, so nothing was recorded."),
                            qPrintable(window_->notice()));
        QVERIFY(window_->startPage().isVisible());
        typeProgram("/no/such/program", "");
        EVENTUALLY_EQUAL(form().about(), QString("/no/such/program was not found."));
        QTest::mouseClick(&button("Start and record"), Qt::LeftButton);
        EVENTUALLY_EQUAL(window_->notice(), QString("/no/such/program was not found."));
        // What is typed wrongly is told, and nothing is started.
        field("Leave out").setText("soon");
        QTest::mouseClick(&button("Start and record"), Qt::LeftButton);
        QCOMPARE(form().about(), QString("“soon” is neither frames (300f) nor seconds (5s)."));
        QVERIFY(field("Leave out").hasFocus() && !window_->session().runs());
        field("Leave out").clear();
        field("Environment").setText("BOAT");
        QTest::mouseClick(&button("Start and record"), Qt::LeftButton);
        QCOMPARE(form().about(), QString("“BOAT” is not NAME=VALUE."));
    }

    // ---- joining ---------------------------------------------------------------------------------------------

    void aRunningProgramIsJoinedFollowedLookedBackAtAndLeft() {
        const auto ferry = started({"ferry"});
        EVENTUALLY(cardOf("ferry"));
        EVENTUALLY_ELSE_SAY(cardOf("ferry")->accessibleName().contains("frames a second, Join"),
                            qPrintable(cardOf("ferry")->accessibleName()));
        inDialog<JoinDialog>([](JoinDialog& dialog) { QTest::keyClick(&dialog, Qt::Key_Return); });
        QTest::mouseClick(cardOf("ferry"), Qt::LeftButton);
        EVENTUALLY(window_->session().joined());
        window_->activateWindow();  // off screen nothing does that when a dialog closes
        EVENTUALLY_ELSE_SAY(window_->document().explanation() && !explanation().causes.empty(),
                            qPrintable(window_->notice()));
        QCOMPARE(window_->notice(), QString());
        // The bar over the panels tells, and its frames count from the joining on.
        QVERIFY(window_->sessionBar().isVisible());
        EVENTUALLY_ELSE_SAY(QRegularExpression("^Recording ferry  ·  \\d+ frames, \\d+\\.\\d a second$")
                                .match(window_->sessionBar().words())
                                .hasMatch(),
                            qPrintable(window_->sessionBar().words()));
        // The view follows the end.
        QVERIFY(selection().followsEnd() && selection().scope().of == ScopeChoice::Of::View);
        QVERIFY(window_->statusText().contains("following the end"));
        const int64_t end = selection().view().end;
        EVENTUALLY(selection().view().end > end + 200'000'000);
        QVERIFY(window_->document().recording()->end - selection().view().end < 1'000'000'000);  // a few times a second
        QVERIFY(selection().view().end - selection().view().begin <= 250'000'000);
        QCOMPARE(selection().frame(), kNone);
        // Looking at a spike stops that, without stopping the recording.
        key(Qt::Key_N);
        QVERIFY(!selection().followsEnd() && selection().frame() != kNone);
        QVERIFY(selection().scope().of == ScopeChoice::Of::Frame);
        QVERIFY(window_->statusText().contains("looking back"));
        const View looked = selection().view();
        const int64_t before = window_->document().recording()->end;
        EVENTUALLY(window_->document().recording()->end > before + 300'000'000);
        QCOMPARE(selection().view().begin, looked.begin);
        QCOMPARE(selection().frame(), looked.frame);
        key(Qt::Key_End);
        QVERIFY(selection().followsEnd());
        EVENTUALLY(selection().view().end > before + 300'000'000);
        // Left by a key: the recording is whole, the program goes on and is listed again.
        const QString path = window_->document().path();
        key(Qt::Key_E, Qt::ControlModifier);
        EVENTUALLY(!window_->session().runs());
        EVENTUALLY(!window_->document().recording()->growing);
        QVERIFY(!selection().followsEnd() && !window_->sessionBar().isVisible());
        settle();
        QVERIFY(path.contains("/data/fugato/recordings/ferry-"));
        QCOMPARE(ferry->state(), QProcess::Running);
        // Again, by keys alone.
        inDialog<JoinDialog>([](JoinDialog& dialog) {
            QTimer::singleShot(0, &dialog, [&dialog] {
                if (!QTest::qWaitFor([&] { return dialog.list().count() == 1; }, kPatience)) return dialog.reject();
                QTest::keyClick(dialog.list().card(0), Qt::Key_Space);
            });
        });
        key(Qt::Key_J, Qt::ControlModifier);
        EVENTUALLY(window_->session().joined());
        EVENTUALLY(window_->document().path() != path && window_->document().explanation());
        // It is killed: what was recorded stays.
        ferry->kill();
        ferry->waitForFinished(kPatience);
        EVENTUALLY(!window_->session().runs());
        EVENTUALLY_EQUAL(window_->notice().left(28), QString("ferry: The program has ended"));
        EVENTUALLY(!window_->document().recording()->growing);
        settle();
    }

    void detailIsSwitchedWhileItRuns() {
        const auto ferry = started({"ferry"});
        EVENTUALLY(cardOf("ferry"));
        inDialog<JoinDialog>([](JoinDialog& dialog) { QTest::keyClick(&dialog, Qt::Key_Return); });
        QTest::mouseClick(cardOf("ferry"), Qt::LeftButton);
        EVENTUALLY(window_->session().categories().size() == 3);
        QMenu& menu = window_->sessionBar().detail();
        const auto level = [&](const QString& category, const QString& words) -> QAction* {
            emit menu.aboutToShow();
            for (QAction* one : menu.actions())
                if (one->text() == category)
                    for (QAction* of : one->menu()->actions())
                        if (of->text() == words) return of;
            return nullptr;
        };
        QVERIFY(level("drawing", "Everything")->isChecked());
        level("drawing", "Nothing")->trigger();
        EVENTUALLY(level("drawing", "Nothing")->isChecked());
        QVERIFY(level("game", "Everything")->isChecked());
        level("All categories", "Everything")->trigger();
        EVENTUALLY(level("drawing", "Everything")->isChecked());
        QTest::mouseClick(&window_->sessionBar().end(), Qt::LeftButton);
        EVENTUALLY(!window_->session().runs());
        EVENTUALLY(window_->document().recording() && !window_->document().recording()->growing);
        settle();
    }

    void onlyMomentsAreKeptAndTheSavedOneIsOpened() {
        const auto ferry = started({"ferry"});
        EVENTUALLY(cardOf("ferry"));
        inDialog<JoinDialog>([](JoinDialog& dialog) {
            dialog.keepFields().kind().setCurrentIndex(1);
            const auto plan = dialog.keepFields().moments();
            QVERIFY(plan && plan->frameNs == 50'000'000 && plan->errors && plan->beforeNs == 20'000'000'000);
            for (QSpinBox* one : dialog.findChildren<QSpinBox*>())
                if (one->accessibleName() == "Seconds saved after") one->setValue(0);
            QTest::mouseClick(&buttonIn(dialog, "Join"), Qt::LeftButton);
        });
        QTest::mouseClick(cardOf("ferry"), Qt::LeftButton);
        EVENTUALLY(window_->session().joined() && window_->session().keepsMoments());
        QVERIFY(window_->startPage().isVisible());
        EVENTUALLY(window_->sessionBar().words().startsWith("Holding the last seconds of ferry"));
        EVENTUALLY(window_->sessionBar().words().contains("1 saved"));
        QVERIFY(window_->sessionBar().openSaved().isVisible());
        QTest::mouseClick(&window_->sessionBar().openSaved(), Qt::LeftButton);
        EVENTUALLY(window_->document().explanation() != nullptr);
        settle();
        // On a busy machine a frame that was not meant to be long can be the first one.
        const QString reason = QString::fromStdString(window_->document().recording()->context.at("saved because"));
        QVERIFY(QRegularExpression("^a frame took [\\d.]+ ms, more than").match(reason).hasMatch());
        QVERIFY2(window_->notice().contains("Saved because " + reason), qPrintable(window_->notice()));
        // The button saves; with a key too.
        QVERIFY(entry("Save the last seconds").isEnabled());
        QVERIFY(window_->sessionBar().save().isVisible());
        QTest::mouseClick(&window_->sessionBar().end(), Qt::LeftButton);
        EVENTUALLY(!window_->session().runs());
        QVERIFY(!entry("Save the last seconds").isEnabled());
    }

    void aProgramThatRecordsItselfIsOpenedInstead() {
        const auto ferry = started({"ferry", "own", folder_.filePath("own.fugato")});
        EVENTUALLY(cardOf("ferry"));
        QVERIFY(cardOf("ferry")->accessibleName().endsWith("Open its recording"));
        QTest::mouseClick(cardOf("ferry"), Qt::LeftButton);
        EVENTUALLY(window_->document().explanation() != nullptr);
        QCOMPARE(window_->document().path(), folder_.filePath("own.fugato"));
        ferry->terminate();
        QVERIFY(ferry->waitForFinished(kPatience));
        EVENTUALLY(!window_->document().recording()->growing);
        settle();
    }

    void programsOfADeviceAreConnectedToListedAndJoined() {
        // The device: a runtime folder of its own.
        QDir(folder_.path()).mkdir("device");
        ::chmod(folder_.filePath("device").toUtf8().constData(), 0700);
        QProcessEnvironment onDevice = QProcessEnvironment::systemEnvironment();
        onDevice.insert("XDG_RUNTIME_DIR", folder_.filePath("device"));
        onDevice.insert("XDG_CACHE_HOME", folder_.filePath("device/cache"));  // what lies there others may enter
        QProcess ferry, relay;
        for (QProcess* one : {&ferry, &relay}) one->setProcessEnvironment(onDevice);
        ferry.start(OFFERED_PROGRAM, {"ferry"});
        relay.start(RELAY_PROGRAM, {"--address", "127.0.0.1", "--port", "0", "--name", "ferry-kit"});
        QByteArray shown;
        QVERIFY(QTest::qWaitFor(
            [&] {
                shown += relay.readAllStandardOutput();
                return shown.contains("Anyone with this code");
            },
            kPatience));
        static const QRegularExpression port("port (\\d+)"), code("pairing code  (\\S+)");
        const QString address = "127.0.0.1:" + port.match(shown).captured(1), right = code.match(shown).captured(1);
        const auto typed = [&](const QString& where, const QString& what, const QString& expected) {
            inDialog<DeviceDialog>([=, this](DeviceDialog& dialog) {
                const auto fields = dialog.findChildren<QLineEdit*>();
                fields[0]->setText(where);
                QTest::keyClicks(fields[1], what);
                QTest::keyClick(&dialog, Qt::Key_Return);
                const auto says = [&] {
                    for (QLabel* label : dialog.findChildren<QLabel*>())
                        if (label->text().contains(expected)) return true;
                    return false;
                };
                if (!QTest::qWaitFor(says, kPatience)) {
                    QStringList said{fields[0]->text(), fields[1]->text()};
                    for (QLabel* label : dialog.findChildren<QLabel*>()) said << label->text();
                    qWarning("it says: %s", qPrintable(said.join(" | ")));
                }
                said_ = says();
                QTest::keyClick(&dialog, Qt::Key_Escape);
            });
            entry("Connect to a device…").trigger();
        };
        typed(address, "7KQM", "sixteen letters and digits");
        QVERIFY(said_);
        typed("127.0.0.1:0", right, "no port that there could be");
        QVERIFY(said_);
        typed(address, "7KQM-02XV-H9TD-4WRA", "the pairing code is not that of the device");
        QVERIFY(said_);
        typed(address, right.toLower(), "Connected to ferry-kit. 1 program can be recorded there");
        QVERIFY(said_);
        window_->activateWindow();
        EVENTUALLY(cardOf("ferry"));
        EVENTUALLY_ELSE_SAY(cardOf("ferry")->accessibleName().contains("on ferry-kit · "),
                            qPrintable(cardOf("ferry")->accessibleName()));
        inDialog<JoinDialog>([](JoinDialog& dialog) { QTest::keyClick(&dialog, Qt::Key_Return); });
        QTest::mouseClick(cardOf("ferry"), Qt::LeftButton);
        EVENTUALLY(window_->session().joined());
        window_->activateWindow();
        EVENTUALLY(window_->document().explanation() && !explanation().causes.empty());
        QVERIFY(window_->document().recording()->growing && selection().followsEnd());
        key(Qt::Key_E, Qt::ControlModifier);
        EVENTUALLY(!window_->session().runs());
        EVENTUALLY(!window_->document().recording()->growing);
        QVERIFY(!window_->document().recording()->damage.any());
        settle();
        // The relay ends: the window says so, and the program is no longer listed.
        relay.terminate();
        QVERIFY(relay.waitForFinished(kPatience));
        EVENTUALLY(window_->notice().contains("The connection to ferry-kit was lost"));
        ferry.kill();
        ferry.waitForFinished(kPatience);
    }

    void whatAStartedProgramKeepsIsRemembered() {
        typeProgram(PICTURES_PROGRAM, "renderer 60");
        form().keepFields().kind().setCurrentIndex(1);
        QVERIFY(form().launch() && form().launch()->moments && form().launch()->moments->frameNs == 50'000'000);
        for (QCheckBox* one : form().findChildren<QCheckBox*>()) one->setChecked(one->text() == "a frame takes");
        QTest::mouseClick(&button("Start and record"), Qt::LeftButton);
        EVENTUALLY(!window_->session().runs());
        window_ = std::make_unique<MainWindow>();  // as after a new start
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        const auto launch = form().launch();
        QVERIFY(launch && launch->moments);
        QCOMPARE(launch->moments->timesUsual, 3.0);
        QVERIFY(!launch->moments->frameNs && !launch->moments->errors);
        settle();
    }

    // ---- presets ---------------------------------------------------------------------------------------------

    void presetsAreMadeMeasuredUsedAndRemoved() {
        bool done = false;
        inDialog<PresetsDialog>([&](PresetsDialog& dialog) {
            QTimer::singleShot(0, &dialog, [&dialog, &done] {
                [&] {
                    QCOMPARE(dialog.list().count(), 5);
                    QVERIFY(!dialog.remove().isEnabled() && !dialog.box("switches").isEnabled());
                    EVENTUALLY(!dialog.busy());
                    dialog.list().setCurrentRow(3);  // with memory
                    QVERIFY(dialog.box("memory").isChecked());
                    QTest::mouseClick(&dialog.measure(), Qt::LeftButton);
                    EVENTUALLY_ELSE_SAY(dialog.cost().endsWith(" ns for each allocation."), qPrintable(dialog.cost()));
                    dialog.list().setCurrentRow(4);
                    QVERIFY(!dialog.box("switches").isChecked());
                    QTest::mouseClick(&dialog.add(), Qt::LeftButton);
                    QCOMPARE(dialog.list().count(), 6);
                    QVERIFY(dialog.name().hasFocus());
                    QTest::keyClicks(&dialog.name(), "Only switches");
                    QTest::mouseClick(&dialog.box("switches"), Qt::LeftButton, {}, QPoint(8, 8));
                    QVERIFY(dialog.box("switches").isChecked());
                    QVERIFY(dialog.cost().contains("has not been measured"));
                    QTest::mouseClick(&dialog.measure(), Qt::LeftButton);
                    EVENTUALLY_ELSE_SAY(dialog.cost().startsWith("Measured on this machine: "),
                                        qPrintable(dialog.cost()));
                    done = true;
                }();
                dialog.accept();
            });
        });
        QTest::mouseClick(&button("Presets…"), Qt::LeftButton);
        QVERIFY(done);
        QComboBox* const collect = [&] {
            for (QComboBox* one : form().findChildren<QComboBox*>())
                if (one->accessibleName() == "Collect") return one;
            return static_cast<QComboBox*>(nullptr);
        }();
        QCOMPARE(collect->count(), 6);
        QCOMPARE(collect->itemText(5), QString("Only switches"));
        collect->setCurrentIndex(5);
        form().program().setEditText("ls");
        QCOMPARE(form().launch()->collect, std::string("switches"));
        inDialog<PresetsDialog>([](PresetsDialog& dialog) {
            dialog.list().setCurrentRow(5);
            QTest::mouseClick(&dialog.remove(), Qt::LeftButton);
            dialog.accept();
        });
        // From the menu; the form on the start page follows.
        const auto actions = window_->findChildren<QAction*>();
        const auto entry = std::find_if(actions.begin(), actions.end(),
                                        [](const QAction* one) { return one->text() == "&What to collect…"; });
        QVERIFY(entry != actions.end());
        (*entry)->trigger();
        QCOMPARE(collect->count(), 5);
        QCOMPARE(collect->currentIndex(), 0);
    }

    void whileARecordingIsOpenTheFormIsADialog() {
        openDemo();
        bool seen = false;
        inDialog([&](QDialog& dialog) {
            seen = dialog.findChild<StartForm*>();
            QTest::keyClick(&dialog, Qt::Key_Escape);
        });
        QTest::keyClick(&window_->lanes(), Qt::Key_R, Qt::ControlModifier);
        QVERIFY(seen);
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::RecordAppTest)
#include "record_app_test.moc"
