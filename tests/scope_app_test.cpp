// SPDX-License-Identifier: GPL-3.0-or-later
//
// The workspace in the real window: what is looked at, pages that follow it or are held, markers put together in
// several ways, room for the tables, pages in windows of their own.
#include <QAccessible>
#include <QClipboard>
#include <QComboBox>
#include <QMenuBar>
#include <QToolButton>

#include "app/drawer/counters_page.h"
#include "app/drawer/coverage_page.h"
#include "app/drawer/frames_page.h"
#include "app/drawer/marker_page.h"
#include "app/drawer/markers_page.h"
#include "app/drawer/memory_page.h"
#include "app/drawer/operations_page.h"
#include "app/drawer/page_windows.h"
#include "app/drawer/waits_page.h"
#include "app/scope/scope_bar.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/ask/occurrence_table.h"
#include "core/explain/words/quantities.h"
#include "testing/text_recording.h"
#include "window_test.h"

namespace fugato {

using Of = ScopeChoice::Of;

class ScopeAppTest : public WindowTest {
    Q_OBJECT

    ScopeBar& bar() { return window_->scopeBar(); }
    MarkersPage& page() { return window_->drawer().page<MarkersPage>(); }
    void look(Of of) {
        QVERIFY(bar().chip(of).isVisible());
        QTest::mouseClick(&bar().chip(of), Qt::LeftButton);
        settle();
    }
    void putTogether(MarkersBy by) {
        QComboBox& box = page().by();
        box.setFocus();
        const int wanted = box.findData(int(by));
        while (box.currentIndex() != wanted)
            QTest::keyClick(&box, box.currentIndex() < wanted ? Qt::Key_Down : Qt::Key_Up);
        settle();
    }
    /// The value of a row, by its words, in the table of a page.
    static QVariant valueOf(TablePage& page, const QString& name, MarkerColumn column) {
        const auto& table = page.view().table();
        for (Table::Row row = 0; table && row < table->rowLimit(); ++row)
            if (const QModelIndex at = page.view().rows().indexOf(row); at.data().toString() == name)
                return at.siblingAtColumn(int(column)).data(TableModel::kRawRole);
        return {};
    }
    uint32_t siteNamed(const std::string& name) {
        const auto& sites = window_->document().recording()->sites;
        for (uint32_t i = 0; i < sites.size(); ++i)
            if (sites[i].name == name) return i;
        return kNone;
    }

private slots:
    void whatIsLookedAtIsChosenOnceAndPagesFollow() {
        openDemo();
        QVERIFY(bar().isVisible() && bar().chip(Of::Frame).isChecked());
        QCOMPARE(bar().chip(Of::Frame).accessibleName(), toQString("frame " + countText(selection().frame())));
        QCOMPARE(page().title(), capitalised(bar().chip(Of::Frame).accessibleName()));
        const auto spray = [&] { return valueOf(page(), "Spray", kMarkerCalls).toLongLong(); };
        QCOMPARE(spray(), 1);
        const Cause& cause = explanation().causes[selection().cause()];
        look(Of::Cause);
        QCOMPARE(page().title(), toQString(plural(cause.frames.size(), "late frame", "late frames")) + " of A");
        QCOMPARE(spray(), qlonglong(cause.frames.size()));
        QVERIFY(!bar().chip(Of::Frame).isChecked());
        look(Of::Late);
        QCOMPARE(spray(), qlonglong(explanation().late.size()));
        // Another frame: the choice stays.
        selection().stepSpike(1);
        settle();
        QCOMPARE(spray(), qlonglong(explanation().late.size()));
        look(Of::Frame);
        QCOMPARE(page().title(), capitalised(bar().chip(Of::Frame).accessibleName()));
        // Selected time is looked at as soon as there is some, and until there is none.
        QVERIFY(!bar().chip(Of::Selection).isVisible());
        window_->lanes().setFocus();
        key(Qt::Key_S);
        QVERIFY(bar().chip(Of::Selection).isVisible() && bar().chip(Of::Selection).isChecked());
        settle();
        QVERIFY2(page().title().endsWith(" selected"), qPrintable(page().title()));
        key(Qt::Key_S);
        QVERIFY(bar().chip(Of::Frame).isChecked());
        // A frame that is in time belongs to no spike, and has no cause.
        selection().chooseFrame(100);
        QVERIFY(explanation().frames[100].overrun == 0 && !bar().chip(Of::Spike).isVisible());
    }

    void itIsChosenByKeysAndByTheMenu() {
        openDemo();
        QTest::keyClick(&window_->lanes(), Qt::Key_L, Qt::ControlModifier);
        QVERIFY(bar().chip(Of::Frame).hasFocus());
        QTest::keyClick(QApplication::focusWidget(), Qt::Key_Right);
        QTest::keyClick(QApplication::focusWidget(), Qt::Key_Right);
        QCOMPARE(selection().scope().of, Of::Cause);
        QTest::keyClick(QApplication::focusWidget(), Qt::Key_Left);
        QCOMPARE(selection().scope().of, Of::Spike);
        QMenu* looking = nullptr;
        for (QAction* menu : window_->menuBar()->actions())
            if (menu->text() == "&Tables")
                for (QAction* entry : menu->menu()->actions())
                    if (entry->text() == "&Look at") looking = entry->menu();
        QVERIFY(looking);
        emit looking->aboutToShow();
        QStringList names;
        for (QAction* entry : looking->actions()) {
            names << entry->text();
            if (entry->text() == "whole recording") entry->trigger();
        }
        QCOMPARE(selection().scope().of, Of::Whole);
        QVERIFY2(names.contains("Stage") && names.contains("time in view"), qPrintable(names.join(", ")));
        settle();
        QCOMPARE(page().title(), QString("Whole recording"));
    }

    void aStageAndLanesAreChosenToo() {
        openDemo();
        const QString here = bar().chip(Of::Stage).accessibleName();
        QVERIFY2(here.startsWith("stage "), qPrintable(here));
        look(Of::Stage);
        QCOMPARE(page().title(), capitalised(here));
        QMenu* stages = bar().chip(Of::Stage).menu();
        emit stages->aboutToShow();
        QCOMPARE(stages->actions().size(), 3);
        stages->actions()[0]->trigger();
        settle();
        QCOMPARE(page().title(), QString("Stage Harbour"));
        QComboBox& lanes = bar().lanes();
        const int helpers = lanes.findText("worker");
        QVERIFY2(helpers > 0, "the demo's workers have a role");
        lanes.setFocus();
        while (lanes.currentIndex() != helpers) QTest::keyClick(&lanes, Qt::Key_Down);
        settle();
        QCOMPARE(page().title(), QString("Stage Harbour on worker"));
        for (int row = 0; row < page().view().rows().rowCount(); ++row)
            QVERIFY(page().view().rows().index(row, 0).data().toString().startsWith("worker"));
        // Other frames, the same lanes; and it is remembered which were chosen while the recording is open.
        look(Of::Late);
        QVERIFY(page().title().endsWith(" late frames on worker"));
    }

    void whatLastsIsRememberedOfEachRecording() {
        openDemo();
        ScopeChoice stage;
        stage.of = Of::Stage;
        stage.stage = "Race";
        stage.lanes = ScopeChoice::Lanes::Group;
        stage.group = "main";
        selection().chooseScope(stage);
        window_ = std::make_unique<MainWindow>();
        window_->show();
        openDemo();
        QVERIFY(selection().scope() == stage);
        QVERIFY2(page().title().startsWith("Stage Race on main"), qPrintable(page().title()));
        // A frame that was selected then is not.
        look(Of::Frame);
        window_ = std::make_unique<MainWindow>();
        window_->show();
        openDemo();
        QCOMPARE(selection().scope().of, Of::Frame);
        QVERIFY(!selection().scopeIsChosen());
    }

    void aPageIsHeldToWhatItShows() {
        openDemo();
        const QString first = page().title();
        QToolButton& hold = *page().holdButton();
        QVERIFY(hold.isVisible() && !hold.isChecked());
        QTest::mouseClick(&hold, Qt::LeftButton);
        look(Of::Late);
        selection().stepSpike(1);
        settle();
        QCOMPARE(page().title(), first);
        QTest::mouseClick(&hold, Qt::LeftButton);
        settle();
        QVERIFY(page().title().endsWith(" late frames"));
        // The page of one marker is held to the whole recording at first; that it is not is remembered.
        MarkerPage& marker = window_->drawer().page<MarkerPage>();
        selection().chooseSite(siteNamed("Spray"));
        window_->drawer().show("marker");
        settle();
        QVERIFY(marker.holdButton()->isChecked() && marker.about().startsWith("whole recording"));
        const uint64_t all = marker.statistics()->count;
        QTest::mouseClick(marker.holdButton(), Qt::LeftButton);
        settle();
        QVERIFY(marker.statistics()->count < all && marker.about().contains(" late frames"));
        window_ = std::make_unique<MainWindow>();
        QVERIFY(!window_->drawer().page<MarkerPage>().holdButton()->isChecked());
    }

    void markersArePutTogetherInSeveralWays() {
        openDemo();
        look(Of::Cause);
        const auto value = [&](const QString& name, MarkerColumn column) { return valueOf(page(), name, column); };
        const qlonglong total = value("Spray", kMarkerTotal).toLongLong();
        QVERIFY(total > 0);
        // From the leaves up it is on top, and its callers lie below it.
        putTogether(MarkersBy::Leaves);
        QCOMPARE(value("Spray", kMarkerSelf).toLongLong(), total);
        bool below = false;
        for (int row = 0; row < page().view().rows().rowCount(); ++row)
            if (const QModelIndex at = page().view().rows().index(row, 0); at.data().toString() == "Spray")
                below = page().view().rows().index(0, 0, at).data().toString() == "Scene";
        QVERIFY(below);
        putTogether(MarkersBy::Marker);
        QVERIFY(!page().view().table()->countBelow(0));
        QCOMPARE(value("Spray", kMarkerTotal).toLongLong(), total);
        putTogether(MarkersBy::Category);
        QVERIFY(value("Spray", kMarkerTotal).toLongLong() == total);
        putTogether(MarkersBy::Role);
        QVERIFY(!value("worker, 2 lanes", kMarkerTotal).isNull());
        // Around the selected marker.
        putTogether(MarkersBy::Around);
        QCOMPARE(page().view().rows().rowCount(), 0);  // none is selected
        window_->lanes().setFocus();
        selection().chooseSite(siteNamed("Simulate"));
        window_->drawer().show("markers");
        settle();
        QCOMPARE(page().title(), QString("Around Simulate"));
        QVERIFY(!value("Called from", kMarkerTotal).isNull() && !value("Calls", kMarkerTotal).isNull());
        QVERIFY(!value("Boats", kMarkerCalls).isNull() && !value("Race frame", kMarkerCalls).isNull());
        // The choice is remembered.
        window_ = std::make_unique<MainWindow>();
        QCOMPARE(page().by().currentData().toInt(), int(MarkersBy::Around));
    }

    void onePageTellsAllOfAMarker() {
        openDemo();
        MarkerPage& marker = window_->drawer().page<MarkerPage>();
        selection().chooseSite(siteNamed("Plan path"));
        window_->drawer().show("marker");
        settle();
        QVERIFY(!marker.durations().isVisible() && !marker.partsList().isVisible());  // there is no room for them
        window_->lanes().setFocus();
        key(Qt::Key_F4);
        EVENTUALLY(marker.durations().isVisible() && marker.inFrames().isVisible() && marker.partsList().isVisible());
        settle();
        // Plan path is expected to take 1 ms at most; what takes longer is plum.
        const BarPlot::Contents& lengths = marker.durations().contents();
        int usual = 0, telling = 0;
        bool between = false;
        for (const BarPlot::Bar& bar : lengths.bars) {
            if (bar.height > 0) (bar.telling ? telling : usual)++;
            between |= bar.height > 0 && !bar.telling && telling > 0;
        }
        QVERIFY(usual > 3 && telling > 3 && !between);
        const auto marked = [&](const QString& words) {
            const auto& marks = marker.durations().contents().marks;
            return std::any_of(marks.begin(), marks.end(), [&](auto& mark) { return mark.words.startsWith(words); });
        };
        QVERIFY(marked("median ") && marked("expected at most 1.0 ms") && !marked("selected: "));
        const QImage plot = marker.durations().grab().toImage();
        QVERIFY(pixelsLike(plot, theme().plum) > 300 && pixelsLike(plot, theme().headroom) > 1000);
        // A row of the table selects an occurrence, and it is drawn in.
        TableView& view = marker.view();
        view.setFocus();
        QTest::mouseClick(view.viewport(), Qt::LeftButton, {}, view.visualRect(view.rows().index(2, 0)).center());
        const QString length = view.rows().index(2, kOccurrenceDuration).data().toString();
        QVERIFY2(marked("selected: " + length), qPrintable(length));
        // All of them are there, sorted by any column.
        QVERIFY(marker.statistics()->count > 10'000);
        QCOMPARE(uint64_t(view.rows().rowCount()), marker.statistics()->count);
        view.sortByColumn(kOccurrenceBegin, Qt::AscendingOrder);
        EVENTUALLY(!marker.busy());
        qlonglong before = -1;
        for (int row = 0; row < 200; ++row) {
            const qlonglong begin = view.rows().index(row, kOccurrenceBegin).data(TableModel::kRawRole).toLongLong();
            QVERIFY(begin >= before);
            before = begin;
        }
        // The plot of the frames leads to the one with the most; by the mouse and by keys.
        const auto& frames = marker.inFrames().contents().bars;
        const auto most = std::max_element(frames.begin(), frames.end(),
                                           [](const auto& a, const auto& b) { return a.height < b.height; });
        QVERIFY(most->telling && most->words.contains(", late"));
        const QString words = most->words;
        const PaintedPart* part = nullptr;
        for (const PaintedPart& one : marker.inFrames().parts().all())
            if (one.name == words) part = &one;
        QVERIFY(part);
        QTest::mouseClick(&marker.inFrames(), Qt::LeftButton, {}, part->box.center());
        QVERIFY2(words.startsWith("frame " + toQString(countText(selection().frame())) + ":"), qPrintable(words));
        marker.inFrames().setFocus(Qt::TabFocusReason);
        const uint32_t frameBefore = selection().frame();
        for (int i = 0; i < 3; ++i) QTest::keyClick(&marker.inFrames(), Qt::Key_Right);
        QTest::keyClick(&marker.inFrames(), Qt::Key_Return);
        QVERIFY(selection().frame() != frameBefore);
        QTest::keyClick(&marker.inFrames(), Qt::Key_C, Qt::ControlModifier);
        QVERIFY(QApplication::clipboard()->text().startsWith("frame "));
        // By caller and by stage, in words for screen readers too.
        const auto& sections = marker.partsList().sections();
        QCOMPARE(sections.size(), size_t{2});
        QCOMPARE(sections[0].title, QString("Called from"));
        QCOMPARE(sections[0].lines[0].name, QString("Race frame ▸ Simulate ▸ Gulls"));
        QCOMPARE(sections[1].lines.size(), size_t{3});
        QAccessibleInterface* list = QAccessible::queryAccessibleInterface(&marker.partsList());
        QCOMPARE(list->childCount() > 0 ? list->child(0)->text(QAccessible::Name) : QString(), QString("Called from"));
        QCOMPARE(QAccessible::queryAccessibleInterface(&marker.durations())->text(QAccessible::Name),
                 QString("How long it takes"));
        // Only in the late frames of a cause: nothing but long ones.
        QTest::mouseClick(marker.holdButton(), Qt::LeftButton);
        selection().chooseCause(0);
        look(Of::Cause);
        QVERIFY(marker.about().contains(" late frames of A"));
        QVERIFY(marker.statistics()->count < 1000);
    }

    void whatAnArgumentSaysIsToldByItsValues() {
        TextRecording t;
        for (int i = 0; i < 60; ++i) {
            const double at = i * 20'000;
            const bool north = i % 3 == 0;
            t.frame(at, "main").begin(at, "main", "Plan");
            t.at(at + 1, "main",
                 std::string(R"("do":"argument","key":"course","value":")") + (north ? "north" : "pier") + "\"");
            t.end(at + (north ? 9000 : 3000), "main").frameEnd(at + 10'000, "main");
        }
        open(write("arguments.jsonl", QByteArray::fromStdString(t.text())));
        selection().chooseSite(siteNamed("Plan"));
        window_->drawer().show("marker");
        window_->lanes().setFocus();
        key(Qt::Key_F4);
        settle();
        const auto& sections = window_->drawer().page<MarkerPage>().partsList().sections();
        EVENTUALLY_EQUAL(sections.size(), size_t{2});
        QCOMPARE(sections[1].title, QString("By argument course"));
        QCOMPARE(sections[1].lines[0].name, QString("north"));
        QCOMPARE(sections[1].lines[0].words, QString("mean 9.0 ms, 20 times"));
        QCOMPARE(sections[1].lines[1].words, QString("mean 3.0 ms, 40 times"));
    }

    void waitsAreToldWithWhoHeldWhatWasWaitedFor() {
        openDemo();
        window_->drawer().show("waits");
        look(Of::Late);
        WaitsPage& waits = window_->drawer().page<WaitsPage>();
        QVERIFY(waits.title().endsWith(" late frames") && waits.about().contains(" waits, "));
        TableView& view = waits.view();
        const auto indexOf = [&](const QString& name) {
            for (Table::Row row = 0; row < view.table()->rowLimit(); ++row)
                if (const QModelIndex at = view.rows().indexOf(row); at.data().toString() == name) return at;
            return QModelIndex();
        };
        const QModelIndex lock = indexOf("scene lock"), holder = indexOf("held by autosave, in Replay ▸ Flush");
        QVERIFY(lock.isValid() && holder.isValid() && holder.parent() == lock);
        QCOMPARE(lock.siblingAtColumn(kWaitKind).data().toString(), QString("lock"));
        QVERIFY(view.isExpanded(lock));  // as others held it
        QVERIFY(!view.isExpanded(indexOf("sound device")));
        // The lock leads to the longest wait for it, the holder to where it held the lock.
        view.expand(lock);
        view.scrollTo(lock);
        QTest::mouseClick(view.viewport(), Qt::LeftButton, {}, view.visualRect(lock).center());
        const Recording& r = *window_->document().recording();
        QVERIFY(r.lanes[selection().marker().lane].waitOf(selection().marker()));
        view.scrollTo(holder);
        QTest::mouseClick(view.viewport(), Qt::LeftButton, {}, view.visualRect(holder).center());
        QCOMPARE(r.lanes[selection().marker().lane].name, std::string("autosave"));
        QVERIFY(window_->drawer().shown() == "waits");
        // By lane and by marker, by keys.
        waits.by().setFocus();
        QTest::keyClick(&waits.by(), Qt::Key_Down);
        settle();
        QVERIFY(indexOf("render").isValid() && view.isColumnHidden(kWaitAtOnce));
        QTest::keyClick(&waits.by(), Qt::Key_Down);
        settle();
        QVERIFY(indexOf("Race frame ▸ Draw list").isValid());
        selection().chooseFrame(100);
        look(Of::Frame);
        QCOMPARE(waits.title(), QString("Frame 100"));
    }

    void twoStretchesStandSideBySide() {
        openDemo();
        look(Of::Cause);
        window_->drawer().show("frames");
        window_->lanes().setFocus();
        key(Qt::Key_F4);
        settle();
        FramesPage& frames = window_->drawer().page<FramesPage>();
        QCOMPARE(frames.about(), QString("compared with: whole recording"));
        QVERIFY2(frames.figures().contains("132 late frames of A: 132 frames, 132 over"), qPrintable(frames.figures()));
        QVERIFY2(frames.figures().contains("Whole recording: "), qPrintable(frames.figures()));
        EVENTUALLY(frames.here().isVisible() && frames.there().isVisible());
        QVERIFY(frames.here().contents().title == "132 late frames of A" && !frames.there().contents().bars.empty());
        QCOMPARE(frames.view().rows().index(0, 0).data().toString(), QString("Scene ▸ Spray"));  // by this they differ
        // Another stretch is what others are compared with.
        look(Of::Stage);
        QTest::mouseClick(&frames.compareButton(), Qt::LeftButton);
        settle();
        QVERIFY(!frames.there().isVisible() && frames.view().rows().rowCount() == 0);  // with itself it is not
        QCOMPARE(frames.figures().count('\n'), 0);
        look(Of::Late);
        QVERIFY2(frames.about().startsWith("compared with: stage "), qPrintable(frames.about()));
        QVERIFY(frames.title().endsWith(" late frames"));
    }

    void countersAndStatesFollowTheInstant() {
        openDemo();
        look(Of::Late);
        window_->drawer().show("counters");
        settle();
        CountersPage& counters = window_->drawer().page<CountersPage>();
        const auto now = [&](const QString& name) {
            for (int row = 0; row < counters.view().rows().rowCount(); ++row)
                if (const QModelIndex at = counters.view().rows().index(row, 0); at.data().toString() == name)
                    return at.siblingAtColumn(kCounterNow).data().toString();
            return QString();
        };
        QCOMPARE(now("stage"), QString("Finish and replay"));
        const QString drops = now("spray drops, drops"), at = counters.about();
        QVERIFY2(!drops.isEmpty() && at.startsWith("instant: "), qPrintable(at));
        selection().chooseFrame(100);
        settle();
        QCOMPARE(now("stage"), QString("Harbour"));
        QVERIFY(counters.about() != at);
    }

    void memoryIsShownAsACurveByPoolAndByMarker() {
        openDemo();
        look(Of::Whole);
        window_->drawer().show("memory");
        settle();
        MemoryPage& memory = window_->drawer().page<MemoryPage>();
        TableView& view = memory.view();
        QCOMPARE(view.rows().rowCount(), 2);
        const QModelIndex sails = view.rows().index(0, 0);
        QCOMPARE(sails.data().toString(), QString("sails"));
        QVERIFY(memory.about().contains(sails.siblingAtColumn(kPoolNow).data().toString() + " in use at"));
        QVERIFY(view.isExpanded(sails) && view.rows().rowCount(sails) > 0);
        // The curve's peak is that of all pools; a part of it leads there.
        const BarPlot::Contents& curve = memory.curve().contents();
        QVERIFY2(curve.highest.contains(sails.siblingAtColumn(kPoolPeak).data().toString()), qPrintable(curve.highest));
        QVERIFY(!curve.marks.empty() && curve.bars.size() > 100);
        curve.bars[curve.bars.size() / 2].act();
        const int64_t middle = (selection().view().begin + selection().view().end) / 2,
                      all = window_->document().recording()->end;
        QVERIFY(std::abs(middle - all / 2) < all / 50);
        // A pool has its own curve; chosen again, all have one.
        emit view.rowChosen(TableModel::rowOf(view.rows().index(1, 0)));
        settle();
        QVERIFY2(memory.curve().contents().title.endsWith(view.rows().index(1, 0).data().toString()),
                 qPrintable(memory.curve().contents().title));
        emit view.rowChosen(TableModel::rowOf(view.rows().index(1, 0)));
        settle();
        QVERIFY(memory.curve().contents().title.endsWith("all pools"));
        // What was not released, by the marker that took it.
        memory.by().setCurrentIndex(1);
        emit memory.by().activated(1);
        settle();
        QCOMPARE(view.rows().rowCount(), 1);
        const QModelIndex kept = view.rows().index(0, 0);
        QVERIFY(kept.data().toString().contains("Unpack cloth"));
        view.scrollTo(kept);
        QTest::mouseClick(view.viewport(), Qt::LeftButton, {}, view.visualRect(kept).center());
        const Recording& r = *window_->document().recording();
        QVERIFY(selection().marker().valid());
        QCOMPARE(r.nameOf(r.pathOf(selection().marker())), std::string("Unpack cloth"));
        settings::memoryBy().set(0);
    }

    void whatNoMarkerTellsOfIsListed() {
        openDemo();
        look(Of::Frame);
        window_->drawer().show("coverage");
        settle();
        CoveragePage& coverage = window_->drawer().page<CoveragePage>();
        TableView& view = coverage.view();
        QVERIFY(view.rows().rowCount() > 5);
        QVERIFY(coverage.about().contains("not occur there"));
        const QModelIndex spray = view.rows().index(0, 0);
        QVERIFY2(spray.data().toString().contains("Spray"), qPrintable(spray.data().toString()));
        QTest::mouseClick(view.viewport(), Qt::LeftButton, {}, view.visualRect(spray).center());
        const TablePlace place = view.table()->place(TableModel::rowOf(spray));
        QVERIFY(selection().view().begin <= place.begin && place.end <= selection().view().end);
        QVERIFY(!coverage.whatRan().isEnabled());  // a device has no call stacks
        const Recording& r = *window_->document().recording();
        for (int row = 1; row < view.rows().rowCount(); ++row) {
            const QModelIndex there = view.rows().index(row, 0);
            view.setCurrentIndex(there);
            const bool thread = r.lanes[view.table()->place(TableModel::rowOf(there)).lane].kind == LaneKind::Thread;
            QCOMPARE(coverage.whatRan().isEnabled(), thread);
        }
        coverage.what().setCurrentIndex(1);
        emit coverage.what().activated(1);
        settle();
        QCOMPARE(view.rows().index(0, 0).siblingAtColumn(kMissingWhere).data().toString(), QString("only elsewhere"));
        look(Of::Whole);
        settle();
        QCOMPARE(view.rows().rowCount(), 1);  // declared, and never reached
        QCOMPARE(view.rows().index(0, 0).siblingAtColumn(kMissingMarker).data().toString(), QString("Rescue boat"));
        QCOMPARE(view.rows().index(0, 0).siblingAtColumn(kMissingWhere).data().toString(), QString("never"));
        settings::coverageMissing().set(0);
    }

    void operationsAreToldWithTheirLayersOverALimit() {
        openDemo();
        look(Of::Whole);
        window_->drawer().show("operations");
        settle();
        OperationsPage& operations = window_->drawer().page<OperationsPage>();
        TableView& view = operations.view();
        const int all = view.rows().rowCount();
        QVERIFY2(all > 400, qPrintable(operations.about()));
        const QModelIndex first = view.rows().index(0, 0);
        QCOMPARE(first.data().toString(), QString("Position report"));
        QVERIFY(view.rows().rowCount(first) >= 2);  // its layers add up to it
        const auto duration = [](const QModelIndex& at) {
            return at.siblingAtColumn(kOperationDuration).data(TableModel::kRawRole).toLongLong();
        };
        qlonglong layers = 0;
        for (int i = 0; i < view.rows().rowCount(first); ++i) layers += duration(view.rows().index(i, 0, first));
        QCOMPARE(layers, duration(first));
        // A row leads to its time.
        QTest::mouseClick(view.viewport(), Qt::LeftButton, {}, view.visualRect(first).center());
        QVERIFY(selection().view().begin <=
                first.siblingAtColumn(kOperationBegin).data(TableModel::kRawRole).toLongLong());
        // Only the long ones, and that is remembered.
        const double limit = double(duration(view.rows().index(all / 2, 0))) / 1e6;
        operations.least().setFocus();
        operations.least().selectAll();
        QTest::keyClicks(&operations.least(), QLocale().toString(limit, 'f', 2));
        QTest::keyClick(&operations.least(), Qt::Key_Return);
        settle();
        QVERIFY2(view.rows().rowCount() < all && operations.about().contains(" shorter"),
                 qPrintable(operations.about()));
        QTest::keyClick(&operations.by(), Qt::Key_Down);
        QTest::keyClick(&operations.by(), Qt::Key_Down);
        settle();
        QVERIFY(view.rows().rowCount() < 10 && !view.isColumnHidden(kOperationCount));
        window_ = std::make_unique<MainWindow>();
        QVERIFY(window_->drawer().page<OperationsPage>().least().value() > 0);
    }

    void theTableFollowsWhatIsSelectedInTheLanes() {
        openDemo();
        const Recording& r = *window_->document().recording();
        const Frame& frame = explanation().frame(selection().frame());
        const MarkerRef inside = r.innermostBefore(frame.lane, frame.begin + frame.duration() / 8);
        window_->lanes().setFocus();
        selection().chooseMarker(inside);
        window_->drawer().show("markers");
        settle();
        QCOMPARE(page().view().currentIndex().data().toString(), toQString(r.nameOf(r.pathOf(inside))));
        // Who is in the table is not taken elsewhere by choosing a row.
        page().view().setFocus();
        QTest::keyClick(&page().view(), Qt::Key_Home);
        const QString first = page().view().currentIndex().data().toString();
        selection().chooseMarker(inside);
        settle();
        QCOMPARE(page().view().currentIndex().data().toString(), first);
    }

    void theHeaviestWayDownOpensAtOneKey() {
        openDemo();
        look(Of::Whole);
        TableView& view = page().view();
        view.collapseAll();
        view.setFocus();
        view.setCurrentIndex({});
        QTest::keyClick(&view, Qt::Key_Right, Qt::ShiftModifier);
        // From the row above to this one each is the heaviest of those beside it that do not wait.
        QModelIndex at = view.currentIndex();
        QVERIFY(at.isValid() && at.parent().isValid());
        for (; at.isValid(); at = at.parent()) {
            const auto weight = [](const QModelIndex& index) {
                return index.siblingAtColumn(int(kMarkerTotal)).data(TableModel::kRawRole).toLongLong();
            };
            for (int row = 0; row < view.rows().rowCount(at.parent()); ++row) {
                const QModelIndex beside = view.rows().index(row, 0, at.parent());
                const bool waits = view.table()->emphasis(TableModel::rowOf(beside), kMarkerName) == Emphasis::Muted;
                QVERIFY(waits || weight(beside) <= weight(at));
            }
            if (at.parent().isValid()) QVERIFY(view.isExpanded(at.parent()));
        }
    }

    void columnsAreChosenAndRemembered() {
        openDemo();
        TableView& view = page().view();
        QVERIFY(view.isColumnHidden(kMarkerMean) && !view.isColumnHidden(kMarkerUsual));
        QVERIFY(view.isColumnHidden(kMarkerRan));
        QMenu menu;
        view.fillMenu(menu);
        QMenu* columns = menu.actions().back()->menu();
        QStringList names;
        for (QAction* action : columns->actions()) {
            names << action->text();
            if (action->text() == "Mean ms" || action->text() == "Usual ms") action->trigger();
        }
        QVERIFY2(names.contains("Ran ms"), qPrintable(names.join(", ")));
        QVERIFY(!view.isColumnHidden(kMarkerMean) && view.isColumnHidden(kMarkerUsual));
        QVERIFY(view.textOf(true).contains("Mean (ns)") && !view.textOf(true).contains("Usual"));
        window_ = std::make_unique<MainWindow>();
        window_->show();
        openDemo();
        QVERIFY(!page().view().isColumnHidden(kMarkerMean) && page().view().isColumnHidden(kMarkerUsual));
    }

    void pagesOfAnotherGroupAreATabAway() {
        openDemo();
        QTabBar& tabs = window_->drawer().tabs();
        const auto texts = [&] {
            QStringList out;
            for (int i = 0; i < tabs.count(); ++i) out << tabs.tabText(i);
            return out;
        };
        QCOMPARE(texts(), (QStringList{"Markers", "Marker", "Events", "Code ▸", "Frames ▸", "Waiting ▸", "Machine ▸",
                                       "Findings ▸"}));
        QTest::mouseClick(&tabs, Qt::LeftButton, {}, tabs.tabRect(7).center());
        EVENTUALLY_EQUAL(texts(), (QStringList{"Work ▸", "Code ▸", "Frames ▸", "Waiting ▸", "Machine ▸", "Search",
                                               "Coverage", "Advice", "Notes"}));
        QCOMPARE(window_->drawer().shown(), QString("search"));
        tabs.setFocus();
        QTest::keyClick(&tabs, Qt::Key_Right);
        QCOMPARE(window_->drawer().shown(), QString("coverage"));
        QTest::keyClick(&tabs, Qt::Key_Left);
        QTest::keyClick(&tabs, Qt::Key_Left);  // the groups before
        EVENTUALLY_EQUAL(window_->drawer().shown(), QString("counters"));
        EVENTUALLY_EQUAL(tabs.tabText(tabs.currentIndex()), QString("Counters, states"));
        QTest::keyClick(&tabs, Qt::Key_Left);
        EVENTUALLY_EQUAL(window_->drawer().shown(), QString("waits"));
        EVENTUALLY_EQUAL(texts(), (QStringList{"Work ▸", "Code ▸", "Frames ▸", "Waits", "Operations, files",
                                               "Machine ▸", "Findings ▸"}));
        QTest::keyClick(&tabs, Qt::Key_Left);
        EVENTUALLY_EQUAL(window_->drawer().shown(), QString("frames"));
        EVENTUALLY_EQUAL(texts().size(), 6);
        QTest::keyClick(&tabs, Qt::Key_Left);
        EVENTUALLY_EQUAL(window_->drawer().shown(), QString("stacks"));
        EVENTUALLY_EQUAL(texts().size(), 7);
        QTest::keyClick(&tabs, Qt::Key_Left);
        EVENTUALLY_EQUAL(window_->drawer().shown(), QString("markers"));
        EVENTUALLY_EQUAL(texts().size(), 8);
        QVERIFY(tabs.hasFocus());
    }

    void aPageHasAWindowOfItsOwn() {
        openDemo();
        key(Qt::Key_F4, Qt::ShiftModifier);
        QCOMPARE(window_->pageWindows().pages().size(), 1);
        auto* own = qobject_cast<MarkersPage*>(window_->pageWindows().pages()[0]);
        QVERIFY(own && own != &page() && own->window() != window_.get());
        QVERIFY(QTest::qWaitForWindowExposed(own->window()));
        settle();
        QCOMPARE(own->title(), page().title());
        // It is held to this frame, and the drawer goes on: the two stand side by side.
        QTest::mouseClick(own->holdButton(), Qt::LeftButton);
        const QString held = own->title();
        selection().stepSpike(1);
        settle();
        QVERIFY(own->title() == held && page().title() != held);
        // A row of it leads there in the window.
        own->view().setFocus();
        const QModelIndex row = own->view().currentIndex();
        QVERIFY(row.isValid());
        QTest::mouseClick(own->view().viewport(), Qt::LeftButton, {}, own->view().visualRect(row).center());
        QVERIFY(selection().marker().valid());
        // It is there again the next time, and closes with Ctrl+W.
        own->window()->setGeometry(140, 160, 640, 380);
        window_->close();
        window_ = std::make_unique<MainWindow>();
        window_->show();
        openDemo();
        QCOMPARE(window_->pageWindows().pages().size(), 1);
        QWidget* again = window_->pageWindows().pages()[0]->window();
        QCOMPARE(again->size(), QSize(640, 380));
        again->activateWindow();
        QVERIFY(QTest::qWaitForWindowActive(again));
        QTest::keyClick(again, Qt::Key_W, Qt::ControlModifier);
        EVENTUALLY_EQUAL(window_->pageWindows().pages().size(), 0);
        window_->close();
    }

    void panelsAreHiddenAndRemembered() {
        openDemo();
        const auto entry = [&](const QString& name) -> QAction& {
            for (QAction* action : window_->findChildren<QAction*>())
                if (action->text().remove('&') == name) return *action;
            qFatal("There is no such entry.");
        };
        for (const char* name : {"Strip of frames", "What is looked at"}) entry(name).trigger();
        QVERIFY(!window_->findChild<ScopeBar*>()->isVisible() && window_->lanes().isVisible());
        window_->close();
        window_ = std::make_unique<MainWindow>();
        window_->show();
        openDemo();
        QVERIFY(!bar().isVisible());
        for (const char* name : {"Strip of frames", "What is looked at"}) entry(name).trigger();
        QVERIFY(bar().isVisible());
    }

    void inASmallWindowTheRestIsInAMenu() {
        window_->resize(900, 640);
        openDemo();
        QCOMPARE(window_->width(), 900);
        auto* more = bar().findChild<QToolButton*>("more");
        QVERIFY(more->isVisible() && !bar().chip(Of::Whole).isVisible());
        emit more->menu()->aboutToShow();
        for (QAction* action : more->menu()->actions())
            if (action->text() == "whole recording") action->trigger();
        QVERIFY(bar().chip(Of::Whole).isVisible() && bar().chip(Of::Whole).isChecked());  // what is chosen is in sight
        for (Of of : {Of::Frame, Of::Spike, Of::Whole})
            if (const QToolButton& chip = bar().chip(of); chip.isVisible())
                QVERIFY(chip.width() >= chip.sizeHint().width() && bar().rect().contains(chip.geometry()));
        window_->resize(1600, 900);
        EVENTUALLY(!more->isVisible());
    }

    void aRecordingWithoutFramesIsLookedAtAsAWhole() {
        TextRecording t;
        t.mark(0, 5000, "main", "Load").mark(6000, 9000, "main", "Run");
        open(write("none.jsonl", QByteArray::fromStdString(t.text())));
        QVERIFY(bar().chip(Of::Whole).isChecked());
        QVERIFY(!bar().chip(Of::Frame).isVisible() && !bar().chip(Of::Late).isVisible());
        settle();
        QCOMPARE(page().title(), QString("Whole recording"));
        QCOMPARE(valueOf(page(), "Load", kMarkerTotal).toLongLong(), 5'000'000);
        open(write("empty.jsonl", "{\"fugato\":\"text\",\"version\":1}\n"));
        settle();
        QCOMPARE(page().view().rows().rowCount(), 0);
    }

    void anotherRecordingIsNotAskedAboutWhatWasSelectedInTheOne() {
        openDemo();
        const Recording& r = *window_->document().recording();
        const uint32_t main = laneNamed(r, "main");
        selection().chooseMarker({main, 3, r.lanes[main].rows[3].size() - 1});
        look(Of::Marker);
        for (const char* id : {"markers", "marker", "stacks", "waits", "operations"}) {
            window_->drawer().show(id);
            settle();
            auto& shown = static_cast<TablePage&>(window_->drawer().current());
            if (!shown.holdButton()->isChecked()) QTest::mouseClick(shown.holdButton(), Qt::LeftButton);
        }
        window_->drawer().show("markers");
        TextRecording t;
        t.frame(0, "main").mark(10, 50, "main", "Only").frameEnd(100, "main");
        open(write("small.jsonl", QByteArray::fromStdString(t.text())));
        QVERIFY(bar().chip(Of::Frame).isChecked() && !bar().chip(Of::Marker).isVisible());
        QVERIFY(!page().holdButton()->isChecked());
        QCOMPARE(page().title(), QString("Frame 0"));
        QCOMPARE(valueOf(page(), "Only", kMarkerCalls).toLongLong(), 1);
        for (const char* id : {"marker", "stacks", "waits", "operations"}) {
            window_->drawer().show(id);
            settle();
        }
    }

    void veryManyRowsComeLaterAndAreOpenedThen() {
        TextRecording t;
        t.frame(0, "main").begin(0, "main", "Frame");
        for (int i = 0; i < 12'000; ++i) t.mark(1 + i, 1.5 + i, "main", "Part " + std::to_string(i));
        t.end(13'000, "main").frameEnd(13'000, "main");
        open(write("many.jsonl", QByteArray::fromStdString(t.text())));
        settle();
        EVENTUALLY_EQUAL(page().view().rows().rowCount(), 1);
        look(Of::Whole);
        EVENTUALLY(page().title() == "Whole recording" && !page().busy());
        QTest::keyClicks(&page().filter(), "part 11999");
        EVENTUALLY(!page().busy() && page().view().rows().rowCount() == 1);
        const QModelIndex frame = page().view().rows().index(0, 0, page().view().rows().index(0, 0));
        QCOMPARE(page().view().rows().rowCount(frame), 1);
    }

    void screenReadersFindWhatIsLookedAt() {
        openDemo();
        QAccessibleInterface* one = QAccessible::queryAccessibleInterface(&bar().chip(Of::Late));
        QCOMPARE(one->text(QAccessible::Name), bar().chip(Of::Late).accessibleName());
        QVERIFY(one->state().checkable && !one->state().checked);
        QVERIFY(QAccessible::queryAccessibleInterface(&bar().chip(Of::Frame))->state().checked);
        for (const QWidget* widget : QList<QWidget*>{&bar().lanes(), page().holdButton(), &page().by(), &bar()})
            QVERIFY(!widget->accessibleName().isEmpty());
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::ScopeAppTest)
#include "scope_app_test.moc"
