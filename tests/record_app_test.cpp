// SPDX-License-Identifier: GPL-3.0-or-later
//
// Recording from the window: the form for a program, its recording that opens by itself and grows, ending it, starting
// it again, and what is said where nothing can be recorded.
#include <QComboBox>
#include <QDialog>
#include <QMenuBar>

#include "app/settings/settings.h"
#include "app/start/start_page.h"
#include "window_test.h"

namespace fugato {

class RecordAppTest : public WindowTest {
    Q_OBJECT

public:
    RecordAppTest() { qputenv("SDL_VIDEODRIVER", "dummy"); }

private:
    StartForm& form() { return window_->startPage().form(); }
    QLineEdit& field(const char* name) {
        for (QLineEdit* one : form().findChildren<QLineEdit*>())
            if (one->accessibleName() == name) return *one;
        qFatal("There is no such field.");
    }
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
        QTRY_COMPARE(form().about(),
                     QString("It carries no recorder: frames, waits, files and threads are recorded from "
                             "outside."));
        QTest::mouseClick(&button("Start and record"), Qt::LeftButton);
        QTRY_VERIFY(window_->recorded().runs());
        QTRY_VERIFY2_WITH_TIMEOUT(window_->document().explanation() && explanation().frames.size() > 30,
                                  qPrintable(window_->notice()), 30'000);
        QVERIFY(window_->document().recording()->growing);
        QVERIFY(!window_->startPage().isVisible());
        const QString first = window_->document().path();
        QVERIFY2(first.contains("/data/fugato/recordings/pictures-"), qPrintable(first));
        QVERIFY(entry("End the program").isEnabled());
        window_->lanes().setFocus();
        QTest::keyClick(&window_->lanes(), Qt::Key_E, Qt::ControlModifier);
        QTRY_VERIFY_WITH_TIMEOUT(!window_->recorded().runs(), 30'000);
        QTRY_VERIFY_WITH_TIMEOUT(!window_->document().recording()->growing, 30'000);
        settle();
        QVERIFY(!entry("End the program").isEnabled());
        // The same again: another recording, the first one stays.
        QTest::keyClick(&window_->lanes(), Qt::Key_R, Qt::ControlModifier | Qt::ShiftModifier);
        QTRY_VERIFY2_WITH_TIMEOUT(window_->document().path() != first && window_->document().explanation(),
                                  qPrintable(window_->notice()), 30'000);
        QVERIFY(QFile::exists(first));
        entry("End the program").trigger();
        QTRY_VERIFY_WITH_TIMEOUT(!window_->recorded().runs(), 30'000);
        QTRY_VERIFY_WITH_TIMEOUT(!window_->document().recording()->growing, 30'000);
        settle();
    }

    void theFormRemembersAndTheListShowsWhatWasRecorded() {
        typeProgram(PICTURES_PROGRAM, "renderer 40 \"a file\"");
        field("Record for").setText("20f");
        field("Environment").setText("BOAT=Plover");
        QTest::keyClick(&field("Record for"), Qt::Key_Return);
        QTRY_VERIFY_WITH_TIMEOUT(
            window_->document().recording() && !window_->document().recording()->growing && !window_->recorded().runs(),
            30'000);
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
        QTRY_VERIFY_WITH_TIMEOUT(!cards().isEmpty() && cards().front()->accessibleName().contains("20 frames"), 30'000);
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        QTest::mouseClick(cards().front(), Qt::LeftButton);
        QTRY_VERIFY_WITH_TIMEOUT(explained.count() > 0, 30'000);
        settle();
    }

    void whatCannotBeRecordedIsSaid() {
        typeProgram("ls", "/");
        QTest::keyClick(&field("Arguments"), Qt::Key_Return);
        QTRY_VERIFY2_WITH_TIMEOUT(window_->notice().startsWith("ls showed no picture, so nothing was recorded."),
                                  qPrintable(window_->notice()), 30'000);
        QVERIFY(window_->startPage().isVisible());
        typeProgram("/no/such/program", "");
        QTRY_COMPARE(form().about(), QString("/no/such/program was not found."));
        QTest::mouseClick(&button("Start and record"), Qt::LeftButton);
        QTRY_COMPARE_WITH_TIMEOUT(window_->notice(), QString("/no/such/program was not found."), 30'000);
        // What is typed wrongly is told, and nothing is started.
        field("Leave out").setText("soon");
        QTest::mouseClick(&button("Start and record"), Qt::LeftButton);
        QCOMPARE(form().about(), QString("“soon” is neither frames (300f) nor seconds (5s)."));
        QVERIFY(field("Leave out").hasFocus() && !window_->recorded().runs());
        field("Leave out").clear();
        field("Environment").setText("BOAT");
        QTest::mouseClick(&button("Start and record"), Qt::LeftButton);
        QCOMPARE(form().about(), QString("“BOAT” is not NAME=VALUE."));
    }

    void whileARecordingIsOpenTheFormIsADialog() {
        openDemo();
        bool seen = false;
        QTimer::singleShot(200, this, [&] {
            auto* dialog = qobject_cast<QDialog*>(QApplication::activeModalWidget());
            seen = dialog && dialog->findChild<StartForm*>();
            if (dialog) QTest::keyClick(dialog, Qt::Key_Escape);
        });
        QTest::keyClick(&window_->lanes(), Qt::Key_R, Qt::ControlModifier);
        QVERIFY(seen);
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::RecordAppTest)
#include "record_app_test.moc"
