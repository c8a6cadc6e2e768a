// SPDX-License-Identifier: GPL-3.0-or-later
//
// The application as a person opens recordings with it: dropped, recent, damaged, empty, still growing; what it
// remembers, and what it tells of its keys.
#include <QDropEvent>
#include <QFile>
#include <QFileDialog>
#include <QHelpEvent>
#include <QLabel>
#include <QLineEdit>
#include <QMimeData>
#include <QProcess>
#include <QPushButton>
#include <QSignalSpy>
#include <QTimer>
#include <QToolTip>
#include <QtTest>

#include "app/budget/budget_text.h"
#include "app/causes/causes_panel.h"
#include "app/drawer/drawer.h"
#include "app/drawer/markers_page.h"
#include "app/lanes/lanes_view.h"
#include "app/settings/settings.h"
#include "app/start/start_page.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "app/verdict/verdict_bar.h"
#include "app/why/why_panel.h"
#include "app/window/main_window.h"
#include "testing/text_recording.h"
#include "window_test.h"

using namespace fugato;

/// How often a window tells its panels that a recording grew, and what its strip shows of new frames at each look.
class Told : public QObject {
public:
    int details = 0, content = 0, looks = 0;
    size_t newFrames = 0, columns = 0;
    QString tip;  // over a frame that is not explained yet

    explicit Told(MainWindow& window) {
        Document& document = window.document();
        connect(&document, &Document::detailsChanged, this, [this] { ++details; });
        connect(&document, &Document::contentChanged, this, [this] { ++content; });
        connect(&document, &Document::newFramesChanged, this, [this, &window] { look(window); });
    }
    QString words(qint64 ms) const {
        return QString("%1, %2, %3 in %4 ms").arg(details).arg(content).arg(looks).arg(ms);
    }

private:
    void look(MainWindow& window) {
        OverrunStrip& strip = window.strip();
        const auto& shown = strip.picture().columns();
        for (size_t x = shown.size(); x-- > 0 && !tip.contains("not explained yet");) {
            if (shown[x].worst == kNone || shown[x].worst < window.document().explanation()->frames.size()) continue;
            const QPoint at(strip.area().left() + static_cast<int>(x), strip.area().center().y());
            QHelpEvent help(QEvent::ToolTip, at, strip.mapToGlobal(at));
            QApplication::sendEvent(&strip, &help);
            tip = QToolTip::text();
        }
        ++looks;
        newFrames += window.document().newFrames().size();
        for (const auto& column : shown) columns += column.first != kNone && !column.explained && !column.goesOn;
    }
};

class OpeningTest : public WindowTest {
    Q_OBJECT

    bool markerIsOutlined() {
        LanesView& lanes = window_->lanes();
        const QPoint corner =
            lanes.picture().markerRect(lanes.viewport()->rect(), lanes.scrolled(), selection().marker()).topLeft();
        return lanes.viewport()->grab().toImage().pixelColor(corner) == theme().text;
    }

private slots:
    void droppingAFileOpensIt() {
        QMimeData data;
        data.setUrls({QUrl::fromLocalFile(FUGATO_DEMO_RECORDING)});
        QDragEnterEvent enter({50, 50}, Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(window_.get(), &enter);
        QVERIFY(enter.isAccepted());
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        QDropEvent drop(QPointF(50, 50), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(window_.get(), &drop);
        QVERIFY(explained.wait(kPatience));
        QVERIFY(window_->windowTitle().startsWith("skerry-regatta.fugato"));
    }

    void recentFilesAreOfferedAndReopened() {
        openDemo();
        QMenu* recent = nullptr;
        for (QAction* action : window_->menuBar()->actions().first()->menu()->actions())
            if (action->menu()) recent = action->menu();
        QVERIFY(recent);
        emit recent->aboutToShow();
        QCOMPARE(recent->actions().first()->text(), QString("skerry-regatta.fugato"));
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        recent->actions().first()->trigger();
        QVERIFY(explained.wait(kPatience));
    }

    void aRecordingThatIsStillMadeIsFollowed() {
        // The real program, in real time.
        const QString path = folder_.filePath("growing.fugato");
        QProcess skerry;
        skerry.start(SKERRY_PROGRAM, {"--out", path, "--seconds", "600", "--system", "none", "--troubles", "gust,log"});
        QVERIFY(skerry.waitForStarted());
        EVENTUALLY(QFileInfo(path).size() > 20'000);
        open(path);
        QVERIFY(window_->document().recording()->growing);
        // However few frames it held when it was opened: the rest comes by itself.
        EVENTUALLY(window_->document().explanation() && explanation().frames.size() > 5);
        selection().chooseFrame(3);
        QCOMPARE(selection().frame(), 3u);
        selection().showSpan(explanation().frame(3).begin, explanation().frame(3).end);
        const uint32_t main = explanation().frame(3).lane;
        selection().chooseMarker(
            {main, 0, window_->document().recording()->lanes[main].rows[0].lastBefore(explanation().frame(3).end)});
        QVERIFY(markerIsOutlined());
        const View chosen = selection().view();
        const size_t first = explanation().frames.size();
        // Nothing changes under the hands: what is half typed, a closed notice, the page; and the tables fill.
        QVERIFY(window_->notice().contains("still being made"));
        for (QPushButton* button : window_->findChildren<QPushButton*>())
            if (button->text() == "Close" && button->isVisible()) QTest::mouseClick(button, Qt::LeftButton);
        QVERIFY(window_->notice().isEmpty());
        QLineEdit& budget = window_->verdict().budget();
        budget.setFocus();
        budget.selectAll();
        QTest::keyClicks(&budget, "12.");
        window_->drawer().show("markers");
        const auto rows = [&] { return window_->drawer().page<MarkersPage>().view().rows().rowCount(); };
        EVENTUALLY(rows() > 0);
        const Told told(*window_);
        QElapsedTimer clock;
        clock.start();
        EVENTUALLY(explanation().frames.size() > first + 20);
        const size_t second = explanation().frames.size();
        std::optional<CauseKey> tried;
        if (!explanation().causes.empty()) {
            tried = explanation().causes[0].key;
            window_->document().trials().setRepairs({{0, true}});
        }
        EVENTUALLY(explanation().frames.size() > second + 20);
        if (tried) {  // what is simulated is worked out although the recording goes on, and told of all its frames
            EVENTUALLY(window_->document().trials().prediction());
            QCOMPARE(window_->document().trials().prediction()->overrun.size(), explanation().frames.size());
            QCOMPARE(window_->document().trials().prediction()->lateBy.size(), explanation().causes.size());
        }
        const auto elapsed = clock.elapsed();
        QVERIFY2(told.details <= elapsed / 1000 + 2, qPrintable(told.words(elapsed)));
        QVERIFY2(told.content <= elapsed / 400 + 2, qPrintable(told.words(elapsed)));
        QVERIFY2(told.looks <= elapsed / 50 + 3, qPrintable(told.words(elapsed)));
        QVERIFY2(told.tip.contains("not explained yet"), qPrintable(told.tip));
        QVERIFY2(told.looks > 0 && told.newFrames > 0 && told.columns > 0,
                 "frames stand in the strip before they are explained");
        QCOMPARE(budget.text(), QString("12."));
        QVERIFY(budget.hasFocus());
        QCOMPARE(window_->drawer().shown(), QString("markers"));
        QVERIFY(window_->notice().isEmpty());
        QTest::keyClick(&budget, Qt::Key_Escape);
        QVERIFY(budget.text() != "12." && window_->lanes().hasFocus());
        if (tried) {  // what is being tried goes on
            QCOMPARE(window_->document().trials().repairs().size(), size_t{1});
            QVERIFY(explanation().causes[window_->document().trials().repairs()[0].cause].key == *tried);
        }
        // What the person looks at stays.
        QCOMPARE(selection().view().begin, chosen.begin);
        QCOMPARE(selection().view().end, chosen.end);
        QCOMPARE(selection().frame(), 3u);
        QVERIFY(markerIsOutlined());
        skerry.terminate();  // the race ends after the frame it is in, and its recording is whole
        QVERIFY(skerry.waitForFinished(kPatience));
        QCOMPARE(skerry.exitCode(), 0);
        EVENTUALLY(!window_->document().recording()->growing);
        QVERIFY(window_->document().recording()->notes().empty());
        EVENTUALLY_EQUAL(explanation().frames.size(), window_->document().recording()->series[0].frames.size());
        QVERIFY(window_->document().newFrames().empty());
    }

    void openingCanBeCancelled() {
        EventStore store;  // as text, the demo takes seconds to read
        QVERIFY(readRecordingFile(FUGATO_DEMO_RECORDING, store));
        const QString slow = folder_.filePath("slow.jsonl");
        QVERIFY(writeRecordingFile(slow.toStdString(), store));
        QSignalSpy cancelled(&window_->document(), &Document::cancelled),
            opened(&window_->document(), &Document::recordingChanged);
        auto* button = window_->findChild<QPushButton*>("cancel");
        for (const bool byKey : {false, true}) {
            window_->open(slow);
            EVENTUALLY(button->isVisible());
            if (byKey)
                key(Qt::Key_Escape);
            else
                QTest::mouseClick(button, Qt::LeftButton);
            EVENTUALLY(!button->isVisible());
        }
        QCOMPARE(cancelled.count(), 2);
        QCoreApplication::processEvents();
        QCOMPARE(opened.count(), 0);
        QVERIFY(window_->verdict().sentence().isEmpty());
        openDemo();  // and works the next time
        window_->open(slow);
        window_->document().cancel();
        QVERIFY(window_->verdict().sentence().contains("frames over budget"));  // what was open stays
    }

    void badFilesGetOneSentenceAndLeaveWhatIsOpen_data() {
        QTest::addColumn<QByteArray>("bytes");
        QTest::addColumn<QString>("words");
        QTest::newRow("empty") << QByteArray() << "is empty";
        QTest::newRow("other") << QByteArray("PK\3\4zzzz") << "is not a Fugato recording";
        QTest::newRow("cut") << QByteArray(
                                    "\x89"
                                    "FUG\r\n\x1a\n")
                             << "is cut off";
    }

    void badFilesGetOneSentenceAndLeaveWhatIsOpen() {
        QFETCH(QByteArray, bytes);
        QFETCH(QString, words);
        openDemo();
        const auto before = window_->document().recording();
        open(write("bad.fugato", bytes));
        QVERIFY2(window_->notice().contains(words), qPrintable(window_->notice()));
        QVERIFY(window_->document().recording() == before);
    }

    void damagedRecordingsShowWhatIsLeftAndSayWhatIsMissing() {
        QFile demo(FUGATO_DEMO_RECORDING);
        QVERIFY(demo.open(QIODevice::ReadOnly));
        QByteArray bytes = demo.readAll();
        bytes.truncate(bytes.size() / 2);
        for (int i = 0; i < 300; ++i)
            bytes[bytes.size() / 3 + i] = static_cast<char>(bytes[bytes.size() / 3 + i] ^ 0x55);
        open(write("damaged.fugato", bytes));
        QVERIFY(window_->document().explanation());
        QVERIFY(explanation().figures.frames > 1000);
        QVERIFY(window_->notice().contains("was not closed"));
        QVERIFY(window_->notice().contains("missing"));
        QVERIFY(explanation().figures.worst < 1'000'000'000);  // no frame reaches across the gap
        window_->grab();
    }

    void recordingsWithoutFramesOrEventsAreNotBlank() {
        TextRecording noFrames;
        noFrames.mark(0, 5, "main", "A");
        open(write("noframes.jsonl", QByteArray::fromStdString(noFrames.text())));
        QVERIFY(window_->verdict().sentence().startsWith("This recording holds no frames."));
        QCOMPARE(selection().frame(), kNone);
        window_->grab();
        open(write("nothing.jsonl", "{\"fugato\":\"text\",\"version\":1}\n"));
        window_->grab();
        key(Qt::Key_N);
        key(Qt::Key_PageDown);
        key(Qt::Key_F);
        TextRecording one;
        one.frame(0, "main").mark(1, 2, "main", "A").frameEnd(20'000, "main");
        open(write("one.jsonl", QByteArray::fromStdString(one.text())));
        QCOMPARE(explanation().figures.over, size_t{1});
        window_->grab();
    }

    void withoutARecordingOneCanOpenRecentOnesAndTheDemo() {
        QVERIFY(window_->startPage().isVisible() && !window_->lanes().isVisible());
        QVERIFY(window_->startPage().isAncestorOf(QApplication::focusWidget()));
        const QString there = write("there.jsonl", "{\"fugato\":\"text\",\"version\":1}\n");
        settings::recentFiles().set({there, folder_.filePath("gone.fugato")});
        window_->startPage().fill();
        const auto cards = [&] { return window_->startPage().findChildren<RecordingCard*>(); };
        EVENTUALLY_EQUAL(cards().size(), 2);
        // What it holds is worked out beside that.
        EVENTUALLY(cards()[0]->isEnabled() && cards()[0]->accessibleName().startsWith("there.jsonl, "));
        EVENTUALLY_ELSE_SAY(cards()[0]->accessibleName().endsWith(", no frames"),
                            qPrintable(cards()[0]->accessibleName()));
        QVERIFY(!cards()[1]->isEnabled() && cards()[1]->accessibleName().endsWith("It is no longer there."));
        QTest::keyClick(cards()[0], Qt::Key_Space);
        EVENTUALLY(window_->document().recording());
        QVERIFY(!window_->startPage().isVisible() && window_->lanes().isVisible());
    }

    void pageSeriesBudgetAndFoldsAreRememberedForEachRecording() {
        openDemo();
        window_->drawer().show("advice");
        window_->document().setSeries(1);
        settle();
        EVENTUALLY_EQUAL(explanation().series, 1u);
        window_->document().setBudget(9'000'000);
        EVENTUALLY_EQUAL(explanation().budget, int64_t{9'000'000});
        TextRecording other;
        other.frame(0, "main").mark(1, 2, "main", "A").frameEnd(20'000, "main");
        window_->drawer().show("markers");  // of the demo too
        window_->drawer().show("advice");
        open(write("other.jsonl", QByteArray::fromStdString(other.text())));
        QCOMPARE(explanation().budget, int64_t{0});
        window_->drawer().show("marker");
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        openDemo();
        QCOMPARE(explanation().series, 1u);
        QCOMPARE(explanation().budget, int64_t{9'000'000});
        QCOMPARE(window_->document().budget(), int64_t{9'000'000});
        QVERIFY(window_->verdict().budget().text().startsWith("9"));
        QCOMPARE(window_->drawer().shown(), QString("advice"));
    }

    void whatWasSetByHandCanBeTakenBack() {
        openDemo();
        const auto press = [&](const QKeySequence& keys) { QTest::keySequence(&window_->lanes(), keys); };
        window_->lanes().setFocus();
        key(Qt::Key_R);
        settle();
        key(Qt::Key_S);
        const auto range = selection().range();
        QVERIFY(range && !window_->document().trials().repairs().empty());
        press(QKeySequence::Undo);
        QVERIFY(!selection().range() && !window_->document().trials().repairs().empty());
        press(QKeySequence::Undo);
        QVERIFY(window_->document().trials().repairs().empty());
        press(QKeySequence::Undo);  // there is nothing more
        press(QKeySequence::Redo);
        press(QKeySequence::Redo);
        QVERIFY(selection().range() == range && window_->document().trials().repairs().size() == 1);
        window_->document().setBudget(8'000'000);
        EVENTUALLY_EQUAL(explanation().budget, int64_t{8'000'000});
        settle();
        press(QKeySequence::Undo);
        EVENTUALLY_EQUAL(explanation().budget, int64_t{0});
        settle();
        key(Qt::Key_E);  // the selected time alone
        EVENTUALLY(!explanation().scope.whole());
        settle();
        press(QKeySequence::Undo);
        EVENTUALLY(explanation().scope.whole());
    }

    void panelsFoldAndTablesTakeTheRoom() {
        openDemo();
        window_->lanes().setFocus();
        key(Qt::Key_F7);
        key(Qt::Key_F8);
        QVERIFY(!window_->causes().isVisible() && !window_->why().isVisible());
        key(Qt::Key_F7);
        const int lanesHigh = window_->lanes().height(), tablesHigh = window_->drawer().height();
        key(Qt::Key_F4);
        EVENTUALLY(window_->lanes().isVisible() && window_->lanes().height() < lanesHigh / 2);
        QVERIFY(window_->drawer().height() > 2 * tablesHigh && !window_->causes().isVisible());
        QVERIFY(window_->drawer().isAncestorOf(QApplication::focusWidget()));
        QTest::keyClick(QApplication::focusWidget(), Qt::Key_Escape);  // only the keyboard goes to the lanes
        QVERIFY(window_->lanes().hasFocus() && window_->drawer().height() > 2 * tablesHigh);
        window_->close();
        window_ = std::make_unique<MainWindow>();  // remembered
        window_->show();
        openDemo();
        EVENTUALLY(window_->drawer().height() > 2 * tablesHigh && !window_->causes().isVisible());
        window_->lanes().setFocus();
        key(Qt::Key_F4);  // all as it was before
        EVENTUALLY(window_->lanes().height() > window_->drawer().height() && window_->causes().isVisible());
        QVERIFY(window_->lanes().hasFocus());
        key(Qt::Key_F7);
        window_->close();
        window_ = std::make_unique<MainWindow>();  // the panels stay folded, the lanes are back
        window_->show();
        openDemo();
        QVERIFY(!window_->causes().isVisible() && !window_->why().isVisible() && window_->lanes().isVisible());
        window_->lanes().setFocus();
        key(Qt::Key_F7);
        QVERIFY(window_->causes().isVisible());
        key(Qt::Key_W);
        int64_t most = 0;
        for (const FrameVerdict& frame : explanation().frames) most = std::max(most, frame.overrun);
        QCOMPARE(explanation().frames[selection().frame()].overrun, most);
    }

    void noKeyCrashesWithoutARecording() {
        for (const Qt::Key which : {Qt::Key_N, Qt::Key_P, Qt::Key_F, Qt::Key_Home, Qt::Key_PageDown, Qt::Key_PageUp,
                                    Qt::Key_Left, Qt::Key_Plus, Qt::Key_F5})
            key(which);
        QTest::mouseClick(window_->lanes().viewport(), Qt::LeftButton, {}, {200, 200});
        QTest::mouseDClick(window_->lanes().viewport(), Qt::LeftButton, {}, {200, 200});
        QTest::mouseClick(&window_->strip(), Qt::LeftButton, {}, {200, 50});
        QVERIFY(window_->statusText().contains("Recordings stay in your data folder"));
    }

    void darkColoursAndWindowStateAreRemembered() {
        for (QAction* menu : window_->menuBar()->actions())
            for (QAction* action : menu->menu()->actions())
                if (action->text() == "&Dark colours") action->trigger();
        QVERIFY(theme().dark);
        window_->resize(760, 640);
        window_->close();
        window_ = std::make_unique<MainWindow>();
        QVERIFY(theme().dark);
        QCOMPARE(window_->size(), QSize(760, 640));
        // What was remembered of a larger screen fits this one.
        const QSize room = window_->screen()->availableGeometry().size();
        window_->resize(room + QSize(500, 300));
        window_->close();
        window_ = std::make_unique<MainWindow>();
        QCOMPARE(window_->width(), room.width());
        QVERIFY(window_->height() < room.height() && window_->height() > room.height() - 60);  // with its title
        QVERIFY(window_->screen()->availableGeometry().contains(window_->geometry()));
        applyTheme(false, false);
    }

    void helpListsEveryKey() {
        QStringList shown;
        inDialog([&](QDialog& dialog) {
            for (const QLabel* label : dialog.findChildren<QLabel*>()) shown << label->text();
            dialog.close();
        });
        key(Qt::Key_F1);
        EVENTUALLY(!shown.isEmpty());
        const QList<Commands::Line>& lines = window_->commands().lines();
        for (const auto& [keys, help] : lines) QVERIFY2(shown.contains(keys) && shown.contains(help), qPrintable(keys));
        // Whatever has a key in a menu is there, by its first key.
        QStringList all;
        for (const auto& line : lines) all << line.keys.split(", ");
        for (const QAction* action : window_->findChildren<QAction*>())
            if (!action->shortcut().isEmpty() && action->isVisible()) {
                QString key = action->shortcut().toString();
                key.replace("PgDown", "Page Down").replace("PgUp", "Page Up");
                QVERIFY2(all.contains(key), qPrintable(action->text() + " " + key));
            }
    }

    /// What a page says of itself stands in its tab, in the menu with its key, and on the page of keys.
    void pagesAreReachedByTabMenuAndKeyFromOneList() {
        openDemo();
        QMenu* tables = nullptr;
        for (QAction* action : window_->menuBar()->actions())
            if (action->text() == "&Tables") tables = action->menu();
        QVERIFY(tables);
        const auto& pages = window_->drawer().pages();
        QVERIFY(pages.size() >= 5);
        QStringList groups;
        for (int at = 0; at < pages.size(); ++at) {
            const DrawerPage::Words words = pages[at]->words();
            QVERIFY(!words.id.isEmpty() && !words.help.isEmpty() && !words.group.isEmpty());
            if (groups.isEmpty() || groups.back() != words.group) groups << words.group;
            QList<QAction*> all;
            for (const QAction* action : tables->actions())
                if (action->menu()) all << action->menu()->actions();
            const auto entry = std::find_if(all.begin(), all.end(), [&](auto* a) { return a->text() == words.menu; });
            QVERIFY(entry != all.end());
            (*entry)->trigger();
            QCOMPARE(window_->drawer().shown(), words.id);
            const QTabBar& tabs = window_->drawer().tabs();
            QCOMPARE(tabs.tabText(tabs.currentIndex()), words.tab);
            QVERIFY(tabs.tabToolTip(tabs.currentIndex()).contains(words.help));
            QVERIFY(tabs.tabToolTip(tabs.currentIndex()).contains("About: "));
            window_->drawer().show(at ? pages[0]->words().id : pages.back()->words().id);
            openPage(words.id);
            QCOMPARE(window_->drawer().shown(), words.id);
        }
        QCOMPARE(groups.removeDuplicates(), 0);  // pages of a group stand together

        // What can be done with the page in sight.
        window_->drawer().show("markers");
        settle();
        emit tables->aboutToShow();
        QMenu* inSight = tables->actions().back()->menu();
        QVERIFY(inSight->title().contains("Markers"));
        QStringList names;
        for (QAction* action : inSight->actions()) names << action->text().remove('&');
        for (const char* name : {"Filter rows", "Copy rows", "Copy all rows", "Save as…", "Columns"})
            QVERIFY2(names.contains(name), name);
        for (QAction* action : inSight->actions())
            if (action->text() == "Copy &all rows") action->trigger();
        QVERIFY(QApplication::clipboard()->text().count('\n') > 3);
        for (QAction* action : inSight->actions())
            if (action->text() == "&Filter rows") action->trigger();
        EVENTUALLY_EQUAL(QApplication::focusWidget(), &window_->drawer().page<MarkersPage>().filter());
    }

    void theMenusDialogOpensAFile() {
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        inDialog<QFileDialog>([](QFileDialog& dialog) {
            auto* name = dialog.findChild<QLineEdit*>();
            name->setText(FUGATO_DEMO_RECORDING);
            QTest::keyClick(name, Qt::Key_Return);
        });
        key(Qt::Key_O, Qt::ControlModifier);
        QVERIFY(explained.count() || explained.wait(kPatience));
        QVERIFY(window_->windowTitle().startsWith("skerry-regatta.fugato"));
    }
};

QTEST_MAIN(OpeningTest)
#include "opening_test.moc"
