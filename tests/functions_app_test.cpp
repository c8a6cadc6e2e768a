// SPDX-License-Identifier: GPL-3.0-or-later
//
// Functions of call stacks, as a person meets them in the real window: causes named by them, the page of call stacks
// with its table and flame graph.
#include <QAccessible>
#include <QClipboard>
#include <QHelpEvent>
#include <QToolTip>

#include "app/causes/causes_panel.h"
#include "app/drawer/coverage_page.h"
#include "app/drawer/drawer.h"
#include "app/drawer/stacks_page.h"
#include "app/lanes/lanes_view.h"
#include "app/scope/scope_bar.h"
#include "app/settings/settings.h"
#include "app/why/why_panel.h"
#include "core/explain/words/sentences.h"
#include "testing/explaining.h"
#include "testing/sampled_recording.h"
#include "window_test.h"

using namespace fugato;

class FunctionsAppTest : public WindowTest {
    Q_OBJECT

    StacksPage& page() { return window_->findChild<Drawer*>()->page<StacksPage>(); }
    FlameGraph& flames() { return page().flames(); }
    TableView& view() { return page().view(); }
    /// The texts of a column, in the order on the screen.
    QStringList column(FunctionColumn column) {
        QStringList all;
        for (int row = 0; row < view().rows().rowCount(); ++row)
            all << view().rows().index(row, column).data().toString();
        return all;
    }
    QPoint middleOf(const QString& name) {
        for (const FlameGraph::Box& box : flames().boxes())
            if (flames().wordsOf(box.node).startsWith(name + " of ")) return box.place.center().toPoint();
        return {};
    }
    void openSampled() {
        open(write("sampled.jsonl", QByteArray::fromStdString(sampledFrames().text())));
        settle();
        QVERIFY(window_->document().symbols());
    }
    void showPage() {
        QVERIFY(window_->findChild<Drawer*>()->show("stacks"));
        settle();
    }

private slots:
    void causesGetTheNamesOfFunctions() {
        openSampled();
        QCOMPARE(explanation().causes.size(), size_t{2});
        QCOMPARE(selection().cause(), 0u);
        QCOMPARE(explanation().causes[0].letter, std::string("A"));
        QCOMPARE(causeTitle(explanation(), explanation().causes[0]), std::string("unpack_rows in Frame"));
        EVENTUALLY_EQUAL(window_->findChild<WhyPanel*>()->spoken().empty(), false);
        QVERIFY(window_->findChild<WhyPanel*>()->spoken()[0].sentence.text.find("18 of 22 call stacks") !=
                std::string::npos);
        QCOMPARE(selection().frame(), 32u);
    }

    void namesComeWithoutMovingWhatThePersonLooksAt() {
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        window_->open(write("sampled.jsonl", QByteArray::fromStdString(sampledFrames().text())));
        QVERIFY(explained.wait(kPatience));
        if (explained.count() > 1) QSKIP("The functions were there at once.");
        selection().chooseFrame(44);
        settle();
        QCOMPARE(explained.count(), 2);
        QCOMPARE(selection().frame(), 44u);
        QCOMPARE(explanation().causes[selection().cause()].frames, (std::vector<uint32_t>{41, 44, 47}));
    }

    void whatRanWhereNoMarkerIsIsAClickAway() {
        openSampled();
        QVERIFY(window_->drawer().show("coverage"));
        settle();
        CoveragePage& coverage = window_->drawer().page<CoveragePage>();
        QVERIFY(!coverage.whatRan().isEnabled());
        const QModelIndex longest = coverage.view().rows().index(0, 0);
        QVERIFY(longest.isValid());
        const TablePlace place = coverage.view().table()->place(TableModel::rowOf(longest));
        QTest::mouseClick(coverage.view().viewport(), Qt::LeftButton, {}, coverage.view().visualRect(longest).center());
        settle();
        QVERIFY(coverage.whatRan().isEnabled());
        QTest::mouseClick(&coverage.whatRan(), Qt::LeftButton);
        settle();
        QCOMPARE(window_->drawer().shown(), QString("stacks"));
        QVERIFY(selection().range() && selection().range()->begin == place.begin);
        QCOMPARE(selection().range()->end, place.end);
        QVERIFY(column(kFunctionName).contains("unpack_rows"));
    }

    void tableAndFlameGraphGoTogether() {
        openSampled();
        showPage();
        QCOMPARE(page().title(), QString("Frame 32"));
        QCOMPARE(page().about(), QString("28 samples"));
        QCOMPARE(column(kFunctionName), (QStringList{"unpack_rows", "shore::runRegatta", "shore::Chart::load"}));
        QCOMPARE(column(kFunctionSelf), (QStringList{"18.0 ms", "10.0 ms", "0 ns"}));
        // The program's loop above, what it called below.
        QCOMPARE(flames().boxes().size(), size_t{3});
        const QRectF outermost = flames().boxes()[0].place, innermost = flames().boxes()[2].place;
        QVERIFY(outermost.top() < innermost.top() && outermost.width() > innermost.width());
        // A click in the picture chooses the row.
        QTest::mouseClick(flames().viewport(), Qt::LeftButton, {}, middleOf("shore::Chart::load"));
        QCOMPARE(view().currentIndex().siblingAtColumn(kFunctionName).data().toString(), QString("shore::Chart::load"));
        // And a row the box.
        const QModelIndex first = view().rows().index(0, 0);
        QTest::mouseClick(view().viewport(), Qt::LeftButton, {}, view().visualRect(first).center());
        QCOMPARE(window_->document().symbols()->nameOf(flames().function()), std::string("unpack_rows"));
        // Under the pointer in full.
        const QPoint at = middleOf("unpack_rows");
        QHelpEvent help(QEvent::ToolTip, at, flames().viewport()->mapToGlobal(at));
        QApplication::sendEvent(flames().viewport(), &help);
        EVENTUALLY(
            QToolTip::text().startsWith("unpack_rows of libsampled_library.so\ntotal: 18 samples, 64.3 %, 18.0 ms\n"
                                        "self: 18 samples, 64.3 %, 18.0 ms\n"));
    }

    void flameGraphByKeysAlone() {
        openSampled();
        showPage();
        flames().setFocus();
        QCOMPARE(flames().accessibleName(), QString("Flame graph of the call stacks"));
        for (int i = 0; i < 2; ++i) QTest::keyClick(&flames(), Qt::Key_Down);
        QVERIFY(flames().accessibleDescription().startsWith("shore::Chart::load of "));
        // Every box is found, within that of its caller; the one the keyboard is at is copied.
        QCOMPARE(flames().parts().all().size(), flames().boxes().size());
        QAccessibleInterface* graph = QAccessible::queryAccessibleInterface(&flames());
        QVERIFY(graph->childCount() > 0 && graph->child(0)->childCount() > 0);
        QVERIFY(graph->child(0)->child(0)->parent() == graph->child(0));
        QVERIFY(flames().parts().current()->selected);
        QTest::keyClick(&flames(), Qt::Key_C, Qt::ControlModifier);
        QVERIFY(QApplication::clipboard()->text().startsWith("shore::Chart::load of "));
        const double before = flames().boxes()[1].place.width();
        QTest::keyClick(&flames(), Qt::Key_Return);
        QVERIFY(flames().zoomedTo() != StackTree::kRoot);
        QVERIFY(flames().boxes()[1].place.width() > before);
        QTest::keyClick(&flames(), Qt::Key_Down);
        QVERIFY(flames().accessibleDescription().startsWith("unpack_rows of "));
        QTest::keyClick(&flames(), Qt::Key_Down);  // calls nothing
        QVERIFY(flames().accessibleDescription().startsWith("unpack_rows of "));
        QTest::keyClick(&flames(), Qt::Key_Right);  // has no neighbour
        QVERIFY(flames().accessibleDescription().startsWith("unpack_rows of "));
        QTest::keyClick(&flames(), Qt::Key_Backspace);
        QTest::keyClick(&flames(), Qt::Key_Escape);
        QCOMPARE(flames().zoomedTo(), uint32_t{StackTree::kRoot});
        QTest::mouseDClick(flames().viewport(), Qt::LeftButton, {}, middleOf("unpack_rows"));
        QVERIFY(flames().wordsOf(flames().zoomedTo()).startsWith("unpack_rows"));
    }

    void ofTheMarkerAndOfTheSelectedTime() {
        openSampled();
        showPage();
        // Without a marker it cannot be chosen.
        QToolButton& ofMarker = window_->scopeBar().chip(ScopeChoice::Of::Marker);
        QVERIFY(!ofMarker.isVisible());
        const Recording& r = *window_->document().recording();
        const uint32_t main = laneNamed(r, "main");
        selection().chooseMarker({main, 1, 32});  // Work of frame 32
        QTest::mouseClick(&ofMarker, Qt::LeftButton);
        settle();
        QCOMPARE(page().title(), QString("Work, 6.0 ms"));
        QCOMPARE(column(kFunctionSamples), QStringList{"6"});
        QVERIFY(!window_->scopeBar().lanes().isEnabled());
        const Frame& late = explanation().frame(41);
        selection().selectRange(TimeRange{late.begin, late.end});
        settle();
        QCOMPARE(window_->findChild<Drawer*>()->shown(), QString("stacks"));  // one goes on from here
        QCOMPARE(page().title(), QString("20.0 ms selected"));
        QVERIFY(column(kFunctionName).contains("shore::sound<long>"));
    }

    void whereThreadsWereBlockedIsShownInTheSameWay() {
        open(write("blocked.jsonl", QByteArray::fromStdString(blockedFrames(true).text())));
        settle();
        selection().chooseFrame(33);
        showPage();
        settle();
        QCOMPARE(view().rows().rowCount(), 0);  // no samples of running
        page().kinds().setFocus();
        QTest::keyClick(&page().kinds(), Qt::Key_Down);
        QCOMPARE(page().kinds().currentIndex(), 1);
        settle();
        QCOMPARE(page().about(), QString("1 time, 12.0 ms in all"));
        QCOMPARE(column(kFunctionName), (QStringList{"unpack_rows", "shore::Chart::load", "shore::runRegatta"}));
        QCOMPARE(column(kFunctionSelf), (QStringList{"12.0 ms", "0 ns", "0 ns"}));
        QCOMPARE(flames().boxes().size(), size_t{3});
        QVERIFY(flames().wordsOf(flames().boxes()[2].node).contains("total: 100.0 %, 12.0 ms"));
        QVERIFY(window_->findChild<WhyPanel*>()->spoken()[0].sentence.text.find("in unpack_rows of") !=
                std::string::npos);
        // The choice is remembered.
        window_ = std::make_unique<MainWindow>();
        QCOMPARE(page().kinds().currentIndex(), 1);
        settings::stacksBlocked().set(false);
    }

    void stacksInACoresLaneAreToldByTheirFunctions() {
        TextRecording t = sampledProgram();
        hasCore(t, 0, 100);
        sampledFrame(t, 0, 20, {Sampled::UnpackRows, Sampled::LoadChart, Sampled::RunRegatta});
        hasCore(t, 28'000, 0);
        open(write("core.jsonl", QByteArray::fromStdString(t.text())));
        settle();
        auto& lanes = *window_->findChild<LanesView*>();
        const Frame& late = explanation().frame(0);
        selection().showSpan(late.begin, late.end);
        settle();
        const auto& tracks = lanes.picture().tracks().tracks();
        size_t core = 0;
        while (core < tracks.size() && tracks[core].kind != TrackPicture::Kind::Core) ++core;
        QVERIFY(core < tracks.size());
        // 15.5 ms of 28: a sample.
        const QRect area = lanes.viewport()->rect();
        const int lanesWide = area.width() - LanePicture::kLabelWidth;
        const QPoint at(LanePicture::kLabelWidth + lanesWide * 155 / 280,
                        lanes.picture().trackRect(area, lanes.verticalScrollBar()->value(), core).center().y());
        const QString words = lanes.picture().wordsAt(area, lanes.verticalScrollBar()->value(), at);
        QVERIFY2(words.contains("<br>unpack_rows of libsampled_library.so<br>shore::Chart::load of "),
                 qPrintable(words));
    }

    void recordingsWithoutStacksSayWhy() {
        open(write("none.jsonl", QByteArray::fromStdString(contendedFrames().text())));
        settle();
        showPage();
        QVERIFY(!window_->document().symbols());
        QCOMPARE(view().rows().rowCount(), 0);
        QVERIFY(flames().boxes().empty());
    }
};

QTEST_MAIN(FunctionsAppTest)
#include "functions_app_test.moc"
