// SPDX-License-Identifier: GPL-3.0-or-later
//
// The tasks a person comes with, each by mouse alone and by keys alone, in windows of several sizes, looks and
// locales, with recordings of many lanes and with one that grows meanwhile. Some of it is run again at
// larger scales (CMakeLists.txt).
#include <QComboBox>
#include <QMenuBar>
#include <QProcess>
#include <QScrollBar>
#include <QTabBar>

#include "app/causes/causes_panel.h"
#include "app/drawer/advice_page.h"
#include "app/drawer/drawer.h"
#include "app/drawer/search_page.h"
#include "app/settings/settings.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/words.h"
#include "app/why/why_panel.h"
#include "format/opening.h"
#include "testing/text_recording.h"
#include "window_test.h"

namespace fugato {

namespace {

constexpr double kTick = 16'667;  // µs

/// Thirty workers below main, with names written from right to left; every twelfth frame main waits for a lock that the
/// last worker holds, and every seventh it paints too long. A second series has its own thread.
std::string thirtyLanes() {
    TextRecording t;
    const std::string paint = "ציור הים", load = "تحميل الخريطة";
    for (int f = 0; f < 120; ++f) {
        const double at = f * 2 * kTick;
        const bool waits = f % 12 == 11, paints = f % 7 == 6;
        const double waited = waits ? 14'000 : 50, painted = paints ? 17'000 : 3000;
        t.frame(at, "main", kTick).begin(at, "main", "Frame");
        t.mark(at + 10, at + 2000, "main", "Update");
        t.begin(at + 2010, "main", "Save").wait(at + 2020, "main", "Wait for map", "map", "lock");
        t.waitEnd(at + 2020 + waited, "main", 1 + f).taken(at + 2021 + waited, "main", "map");
        t.given(at + 2030 + waited, "main", "map").end(at + 2040 + waited, "main");
        t.begin(at + 2100 + waited, "main", "Scene").begin(at + 2110 + waited, "main", paint);
        t.argument(at + 2111 + waited, "main", "boats", paints ? "48" : "12").end(at + 2110 + waited + painted, "main");
        const double end = at + 2200 + waited + painted;
        t.end(end - 20, "main").end(end - 10, "main").frameEnd(end, "main");
        for (int w = 0; w < 30; ++w) {
            const std::string lane = "עובד " + std::to_string(w);
            t.begin(at + 200 + w, lane, "Job");
            if (w == 29 && waits) {
                t.begin(at + 300, lane, load).taken(at + 310, lane, "map").given(at + 2010 + waited, lane, "map");
                t.linkOut(at + 2015 + waited, lane, 1 + f).end(at + 2020 + waited, lane);
            }
            t.end(at + (w == 29 && waits ? 2100 + waited : 2000 + w), lane);
        }
        const double tick = at + 500;
        t.frame(tick, "network", 20'000, "tick").mark(tick, tick + (f % 30 == 29 ? 25'000 : 900), "network", "Send");
        t.frameEnd(tick + (f % 30 == 29 ? 25'100 : 1000), "network", "tick");
    }
    return t.text();
}

}  // namespace

class TasksAppTest : public WindowTest {
    Q_OBJECT

    QProcess program_;
    bool mouse_ = false, isDemo_ = false;

    const char* how() const { return mouse_ ? "by mouse" : "by keys"; }
    /// Off screen, a menu or a list that closed leaves no window active, and may do so late.
    void activate() {
        if (!window_->isActiveWindow()) QApplication::setActiveWindow(window_.get());
    }
    void type(Qt::Key which, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
        activate();
        QVERIFY2(QApplication::focusWidget(), "nothing has the keyboard");
        QTest::keyClick(QApplication::focusWidget(), which, modifiers);
    }
    static void click(QWidget* widget, const QPoint& at) {
        QVERIFY2(widget->rect().contains(at), "out of sight");
        QTest::mouseClick(widget, Qt::LeftButton, {}, at);
    }
    /// Of a picture: the first part whose name begins so.
    static int partOf(const PaintedParts& parts, const QString& begin) {
        const auto& all = parts.all();
        for (size_t i = 0; i < all.size(); ++i)
            if (all[i].name.startsWith(begin) && all[i].act) return static_cast<int>(i);
        return -1;
    }
    /// Clicked where it is seen (scrolled there), or come to by arrows and pressed with Enter.
    void use(QWidget* panel, const PaintedParts& parts, const QString& begin) {
        int part = partOf(parts, begin);
        QVERIFY2(part >= 0, qPrintable("no part “" + begin + "”"));
        if (mouse_) {
            auto* area = qobject_cast<QAbstractScrollArea*>(panel);
            QWidget* painted = area ? area->viewport() : panel;
            if (area) {
                const QRect box = parts.all()[static_cast<size_t>(part)].box;
                area->verticalScrollBar()->setValue(box.center().y() - painted->height() / 2);
                part = partOf(parts, begin);
            }
            click(painted, painted->mapFromGlobal(parts.onScreen(part).center()));
            return;
        }
        activate();
        panel->setFocus(Qt::TabFocusReason);
        const QString key = parts.all()[static_cast<size_t>(part)].key;
        // From the first part down, as far as need be.
        for (size_t i = 0; i < parts.all().size() && parts.currentIndex() > 0; ++i) type(Qt::Key_Up);
        for (size_t i = 0; i < parts.all().size() && parts.current()->key != key; ++i) type(Qt::Key_Down);
        QCOMPARE(parts.current()->key, key);
        type(Qt::Key_Return);
    }
    /// An entry of a menu, by the pointer.
    void choose(const QString& menu, const QString& entry) {
        const auto plain = [](const QAction* action) { return action->text().remove('&'); };
        QMenuBar* bar = window_->menuBar();
        for (QAction* top : bar->actions()) {
            if (plain(top) != menu) continue;
            QTest::mouseClick(bar, Qt::LeftButton, {}, bar->actionGeometry(top).center());
            EVENTUALLY(top->menu()->isVisible());
            for (QAction* action : top->menu()->actions())
                if (plain(action) == entry) {
                    QVERIFY2(action->isEnabled(), qPrintable(entry));
                    QTest::mouseClick(top->menu(), Qt::LeftButton, {}, top->menu()->actionGeometry(action).center());
                    return;
                }
        }
        QFAIL(qPrintable("no entry " + menu + " ▸ " + entry));
    }
    void command(const QString& menu, const QString& entry, Qt::Key which,
                 Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
        mouse_ ? choose(menu, entry) : type(which, modifiers);
    }
    /// What a field holds is replaced.
    void fill(QLineEdit& field, const QString& text, Qt::Key key, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
        activate();
        if (mouse_) {
            click(&field, field.rect().center());
            field.selectAll();
        } else {
            type(key, modifiers);
        }
        QWidget* has = QApplication::focusWidget();
        QVERIFY2(field.hasFocus(), has ? has->metaObject()->className() : "nothing has the keyboard");
        for (const QChar letter : text)
            QTest::sendKeyEvent(QTest::Click, &field, Qt::Key_unknown, letter, Qt::NoModifier);
        QTest::keyClick(&field, Qt::Key_Return);
        QVERIFY2(window_->lanes().hasFocus(), qPrintable(window_->statusBar()->currentMessage()));
    }
    uint32_t worst() {
        uint32_t frame = 0;
        for (uint32_t f = 1; f < explanation().frames.size(); ++f)
            if (explanation().frames[f].overrun > explanation().frames[frame].overrun) frame = f;
        return frame;
    }
    bool grows() { return window_->document().recording()->growing; }

    // ---- the tasks ----------------------------------------------------------------------------------

    void tellHowBadItIs() {
        const VerdictBar& bar = window_->verdict();
        QVERIFY2(bar.sentence().contains("over budget"), qPrintable(bar.sentence()));
        for (const QLabel* label : bar.findChildren<QLabel*>()) {
            if (label->text() != bar.sentence()) continue;
            QVERIFY(label->isVisible());
            // What is cut stands under the pointer.
            QVERIFY(label->width() >= label->fontMetrics().horizontalAdvance(bar.sentence()) ||
                    label->height() >= 2 * label->fontMetrics().height() || !label->toolTip().isEmpty());
        }
        QVERIFY(!explanation().causes.empty());
        QVERIFY(selection().frame() != kNone);
    }
    void goToTheWorstFrame() {
        selection().chooseFrame(1);
        window_->lanes().setFocus();
        command("Go", "Worst frame", Qt::Key_W);
        if (!grows()) QCOMPARE(selection().frame(), worst());
        QVERIFY(explanation().frames[selection().frame()].overrun > 0);
    }
    void seeAnotherSeriesAndBudget() {
        auto* series = window_->verdict().findChild<QComboBox*>();
        if (series->count() > 1) {
            QVERIFY(series->isVisible());
            const int before = series->currentIndex();
            if (mouse_) {
                click(series, series->rect().center());
                QAbstractItemView* list = series->view();
                EVENTUALLY(list->isVisible());
                const QPoint row(list->viewport()->width() / 2,
                                 list->visualRect(list->model()->index(1 - before, 0)).center().y());
                QTest::mouseMove(list->viewport(), row - QPoint(20, 0));
                QTest::mouseMove(list->viewport(), row);
                QTest::qWait(QApplication::doubleClickInterval());  // else the release belongs to the opening click
                click(list->viewport(), row);
            } else {
                for (int i = 0; i < 40 && !series->hasFocus(); ++i) type(Qt::Key_Tab);
                QVERIFY(series->hasFocus());
                type(before == 0 ? Qt::Key_Down : Qt::Key_Up);
            }
            EVENTUALLY_EQUAL(explanation().series, series->itemData(1 - before).toUInt());
            settle();
            series->setCurrentIndex(before);
            emit series->activated(before);
            EVENTUALLY_EQUAL(explanation().series, series->itemData(before).toUInt());
        }
        window_->lanes().setFocus();
        fill(window_->verdict().budget(), "13 ms", Qt::Key_B);
        EVENTUALLY_EQUAL(explanation().budget, int64_t{13'000'000});
        fill(window_->verdict().budget(), "16.67", Qt::Key_B);
        EVENTUALLY_EQUAL(explanation().budget, int64_t{16'670'000});
        if (!grows()) settle();
    }
    void stepBySpikeAndFrameAndToANumber() {
        window_->lanes().setFocus();
        selection().chooseFrame(0);
        command("Go", "Next spike", Qt::Key_N);
        const uint32_t first = selection().frame();
        QVERIFY(explanation().frames[first].overrun > 0);
        command("Go", "Next spike", Qt::Key_N);
        QVERIFY(selection().frame() > first);
        command("Go", "Previous spike", Qt::Key_P);
        QCOMPARE(selection().frame(), first);
        command("Go", "Next frame", Qt::Key_PageDown);
        QCOMPARE(selection().frame(), first + 1);
        command("Go", "Previous frame", Qt::Key_PageUp);
        QCOMPARE(selection().frame(), first);
        fill(window_->verdict().find(), "12", Qt::Key_F, Qt::ControlModifier);
        QCOMPARE(selection().frame(), 12u);
        // A spike of the strip.
        const QString spike = "spike at frame ";
        if (!grows()) {
            use(&window_->strip(), window_->strip().parts(), spike);
            QVERIFY(explanation().frames[selection().frame()].overrun > 0);
        }
    }
    void seeOriginAndAfterEffects() {
        // Some spike goes on for more than one frame, or came from an earlier one.
        const auto e = window_->document().explanation();
        const auto spike = std::find_if(e->spikes.begin(), e->spikes.end(),
                                        [](const Spike& s) { return s.origin < s.first || s.last > s.first; });
        QVERIFY(spike != e->spikes.end() || !isDemo_);
        if (spike == e->spikes.end()) return;
        for (const uint32_t frame : {spike->origin, spike->last}) {
            window_->lanes().setFocus();
            fill(window_->verdict().find(), QString::number(frame), Qt::Key_F, Qt::ControlModifier);
            QCOMPARE(selection().frame(), frame);
            if (!grows()) settle();
            EVENTUALLY(window_->why().title().contains(toQString(countText(frame))));
        }
    }
    void goDownToTheCulpritAndUpToItsCallers() {
        window_->lanes().setFocus();
        if (!grows()) {
            selection().chooseCause(0);
            selection().chooseFrame(explanation().causes[0].frames.front());
            settle();
        }
        // Its first sentence with a place leads there.
        EVENTUALLY(!window_->why().spoken().empty());
        QString sentence;
        for (const auto& spoken : window_->why().spoken())
            if (sentence.isEmpty() && spoken.sentence.lane != kNone) sentence = toQString(spoken.sentence.text);
        QVERIFY(!sentence.isEmpty() || grows());
        if (sentence.isEmpty()) return;  // this frame has none: nothing of it was recorded
        selection().showWhole();
        const View whole = selection().view();
        use(&window_->why(), window_->why().parts(), sentence);
        QVERIFY(selection().view().end - selection().view().begin < whole.end - whole.begin);
        // From a marker in the lanes to its caller.
        const auto recording = window_->document().recording();  // as it is now; it may grow
        const Recording& r = *recording;
        // Where it grows, lanes may move between looking and clicking: then again, as a person would.
        const auto chosen = [&] { return selection().marker().valid() && selection().marker().row > 0; };
        for (int tries = 0; tries == 0 || (grows() && tries < 5 && !chosen()); ++tries) {
            (void)window_->lanes().grab();
            MarkerRef inner;
            for (const MarkerRef& marker : window_->lanes().picture().drawnAlone())
                if (marker.row > 0 && window_->lanes().viewport()->rect().contains(placeOf(marker))) inner = marker;
            QVERIFY(inner.valid() || grows());
            if (!inner.valid()) return;
            if (mouse_) {
                click(window_->lanes().viewport(), placeOf(inner));
            } else {
                window_->lanes().setFocus();
                for (int i = 0; i < 60 && !chosen(); ++i) type(Qt::Key_Down);
            }
        }
        QVERIFY(chosen());
        const MarkerRef from = selection().marker();
        const int64_t begin = r.lanes[from.lane].rows[from.row].begin(from.index);
        type(Qt::Key_Up);
        const MarkerRef caller = selection().marker();
        QCOMPARE(caller.lane, from.lane);
        QCOMPARE(caller.row, from.row - 1);
        QVERIFY(r.lanes[caller.lane].rows[caller.row].begin(caller.index) <= begin);
    }
    void findAMarkerAndStepThroughIt(const QString& name) {
        window_->lanes().setFocus();
        fill(window_->verdict().find(), name, Qt::Key_F, Qt::ControlModifier);
        QCOMPARE(window_->drawer().shown(), QString("search"));
        auto& page = window_->drawer().page<SearchPage>();
        TableView& view = page.view();
        EVENTUALLY(!page.busy() && view.rows().rowCount() > 0);
        if (!grows()) settle();
        if (mouse_) {
            const QModelIndex row = view.model()->index(0, 0);
            view.scrollTo(row);
            click(view.viewport(), view.visualRect(row).center());
            window_->lanes().setFocus();
        }
        // An occurrence of another marker, chosen before, is no place to step from.
        const auto stepped = window_->document().recording();
        if (const MarkerRef& from = selection().marker(); from.valid())
            QCOMPARE(stepped->paths[stepped->pathOf(from)].site, selection().site());
        selection().showWhole();
        int64_t before = -1;
        for (int i = 0; i < 3; ++i) {
            const MarkerRef last = selection().marker();
            command("Go", "Next occurrence", Qt::Key_F3);
            EVENTUALLY_ELSE_SAY(selection().marker().valid() && !(selection().marker() == last),
                                qPrintable(window_->statusBar()->currentMessage()));
            const MarkerRef& now = selection().marker();
            const auto recording = window_->document().recording();
            const int64_t begin = recording->lanes[now.lane].rows[now.row].begin(now.index);
            QVERIFY(begin > before);
            before = begin;
            QVERIFY(!window_->lanes().picture().slim(now.lane));
            const QRect box = window_->lanes().picture().markerRect(window_->lanes().viewport()->rect(),
                                                                    window_->lanes().scrolled(), now);
            QVERIFY2(window_->lanes().viewport()->rect().intersects(box), how());
        }
    }
    void tryTwoRepairsAndReset() {
        const auto simulate = [&](uint32_t cause) {
            selection().chooseCause(cause);
            window_->lanes().setFocus();
            command("What if", "Selected cause at its usual time", Qt::Key_R);
        };
        const size_t causes = explanation().causes.size();
        simulate(0);
        QCOMPARE(window_->document().trials().repairs().size(), size_t{1});
        if (causes > 1) simulate(1);
        QCOMPARE(window_->document().trials().repairs().size(), std::min<size_t>(causes, 2));
        EVENTUALLY(window_->document().trials().prediction());
        EVENTUALLY(window_->verdict().sentence().contains("repaired"));
        command("What if", "Reset simulation", Qt::Key_Backspace);
        QVERIFY(window_->document().trials().repairs().empty());
        EVENTUALLY(window_->verdict().sentence().contains("over budget"));
    }
    void acceptAnAdvice() {
        if (mouse_) {
            QTabBar& tabs = window_->drawer().tabs();
            const auto clickTab = [&](const QString& words) {
                for (int i = 0; i < tabs.count(); ++i)
                    if (tabs.tabText(i) == words)
                        return QTest::mouseClick(&tabs, Qt::LeftButton, {}, tabs.tabRect(i).center());
            };
            clickTab("Findings ▸");  // opens the group, with its page of the last time
            EVENTUALLY_EQUAL(tabs.tabText(tabs.currentIndex()).contains("▸"), false);
            clickTab("Advice");
        } else {
            window_->lanes().setFocus();
            openPage("advice");
        }
        QCOMPARE(window_->drawer().shown(), QString("advice"));
        AdvicePage& page = window_->drawer().page<AdvicePage>();
        EVENTUALLY(page.advice() && (grows() || !page.busy()));
        TableView& view = page.view();
        QVERIFY(view.rows().rowCount() > 0 || !isDemo_);
        if (view.rows().rowCount() == 0) return;  // nothing found beyond the causes
        const QModelIndex box = view.model()->index(0, kAdviceAccepted);
        if (mouse_) {
            view.scrollTo(box);
            QStyleOptionViewItem option;
            option.initFrom(&view);
            option.rect = view.visualRect(box);
            option.features = QStyleOptionViewItem::HasCheckIndicator;
            const QRect mark = view.style()->subElementRect(QStyle::SE_ItemViewItemCheckIndicator, &option, &view);
            click(view.viewport(), mark.center());
        } else {
            type(Qt::Key_F6);
            QVERIFY(view.hasFocus());
            if (!view.currentIndex().isValid()) type(Qt::Key_Home);
            view.setCurrentIndex(view.currentIndex().siblingAtColumn(kAdviceAccepted));
            type(Qt::Key_Space);
        }
        EVENTUALLY_ELSE_SAY(page.about().contains("1 accepted"), qPrintable(page.about()));
        // And taken back; accepted ones stand at the end.
        const QModelIndex last = view.model()->index(view.model()->rowCount() - 1, kAdviceAccepted);
        view.model()->setData(last, Qt::Unchecked, Qt::CheckStateRole);
        EVENTUALLY(page.about().contains("0 accepted"));
        window_->lanes().setFocus();
    }

    void allTasks(const QString& marker) {
        for (const bool mouse : {true, false}) {
            mouse_ = mouse;
            qInfo("%s", how());
            const auto done = [&](const char* task) {
                if (QTest::currentTestFailed()) qWarning("%s %s", task, how());
                return !QTest::currentTestFailed();
            };
            if (tellHowBadItIs(); !done("how bad is it")) return;
            if (goToTheWorstFrame(); !done("the worst frame")) return;
            if (seeAnotherSeriesAndBudget(); !done("series and budget")) return;
            if (stepBySpikeAndFrameAndToANumber(); !done("stepping")) return;
            if (seeOriginAndAfterEffects(); !done("origin and after-effects")) return;
            if (goDownToTheCulpritAndUpToItsCallers(); !done("culprit and callers")) return;
            if (findAMarkerAndStepThroughIt(marker); !done("occurrences")) return;
            if (tryTwoRepairsAndReset(); !done("two repairs")) return;
            if (acceptAnAdvice(); !done("an advice")) return;
        }
    }

private slots:
    void allTasksByMouseAndByKeys_data() {
        QTest::addColumn<QString>("recording");
        QTest::addColumn<QSize>("size");
        QTest::addColumn<QString>("look");
        QTest::addColumn<QString>("marker");
        const QList<std::pair<QSize, QString>> windows{{QSize(900, 600), "light"},
                                                       {QSize(1024, 700), "dark"},
                                                       {QSize(1280, 800), "contrast"},
                                                       {QSize(1920, 1080), "light"}};
        for (const auto& [recording, marker] :
             QList<std::pair<QString, QString>>{{"demo", "Spray"}, {"thirty lanes", "تحميل"}, {"growing", "Spray"}})
            for (const auto& [size, look] : windows)
                QTest::addRow("%s %dx%d %s", qPrintable(recording), size.width(), size.height(), qPrintable(look))
                    << recording << size << look << marker;
    }
    void allTasksByMouseAndByKeys() {
        QFETCH(QString, recording);
        QFETCH(QSize, size);
        QFETCH(QString, look);
        QFETCH(QString, marker);
        settings::darkColours().set(look == "dark");
        settings::highContrast().set(look == "contrast");
        QLocale::setDefault(QLocale(QLocale::German, QLocale::Germany));
        window_ = std::make_unique<MainWindow>();
        window_->resize(size);
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        window_->activateWindow();
        isDemo_ = recording == "demo";
        if (isDemo_) {
            openDemo();
        } else if (recording == "thirty lanes") {
            open(write("thirty.jsonl", QByteArray::fromStdString(thirtyLanes())));
        } else {
            const QString path = folder_.filePath(QString("growing %1.fugato").arg(size.width()));
            // Under the virtual clock, so that the tasks find the same race however busy the machine is.
            program_.start(SKERRY_PROGRAM,
                           {"--out", path, "--seconds", "600", "--virtual", "--paced", "--detail", "1"});
            QVERIFY(program_.waitForStarted());
            EVENTUALLY(QFileInfo(path).size() > 20'000);
            open(path);
            EVENTUALLY(window_->document().explanation() && explanation().causes.size() > 1 &&
                       explanation().spikes.size() > 2 && explanation().frames.size() > 20);
        }
        allTasks(marker);
        program_.kill();
        program_.waitForFinished(kPatience);
        makeRecordingWhole(window_->document().path().toStdString());  // nothing of what was killed stays behind
        QLocale::setDefault(QLocale::c());
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::TasksAppTest)
#include "tasks_app_test.moc"
