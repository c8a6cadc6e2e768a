// SPDX-License-Identifier: GPL-3.0-or-later
//
// The application as a person drives it: a real window, clicks, keys and drags, from opening a
// recording to the named cause.
#include <QComboBox>
#include <QDialogButtonBox>
#include <QDoubleSpinBox>
#include <QFile>
#include <QHelpEvent>
#include <QLabel>
#include <QLineEdit>
#include <QSettings>
#include <QSignalSpy>
#include <QTimer>
#include <QToolTip>
#include <QtTest>
#include <nlohmann/json.hpp>

#include "app/budget/budget_text.h"
#include "app/causes/causes_panel.h"
#include "app/drawer/advice_page.h"
#include "app/drawer/drawer.h"
#include "app/drawer/markers_page.h"
#include "app/lanes/lanes_view.h"
#include "app/settings/settings.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "app/verdict/verdict_bar.h"
#include "app/why/why_panel.h"
#include "app/window/main_window.h"
#include "testing/text_recording.h"
#include "window_test.h"

using namespace fugato;

class AppTest : public WindowTest {
    Q_OBJECT

private slots:
    void openingEndsWithTheCostliestCauseExplainedAsPlanted() {
        openDemo();
        QFile file(FUGATO_DEMO_TRUTH);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const auto truth = nlohmann::json::parse(file.readAll().toStdString());
        QCOMPARE(selection().cause(), 0u);
        const Cause& cause = explanation().causes[0];
        bool planted = false;
        for (const auto& one : truth["causes"])
            planted |= one["path"].get<std::vector<std::string>>() == explanation().recording->namesOf(cause.path) &&
                       one["lane"].get<std::string>() == explanation().recording->groups[cause.group].name;
        QVERIFY(planted);
        // What the person sees: the verdict, the cause's sentence, the frame in view with its line.
        QVERIFY2(window_->verdict().sentence().contains("from 7 causes"), qPrintable(window_->verdict().sentence()));
        QVERIFY(window_->why().title().startsWith("Why frame"));
        QCOMPARE(window_->drawer().shown(), QString("markers"));
        QVERIFY(!window_->why().spoken().empty());
        QVERIFY(toQString(window_->why().spoken()[0].sentence.text)
                    .contains(toQString(explanation().recording->nameOf(cause.path))));
        const Frame& frame = explanation().frame(selection().frame());
        QVERIFY(selection().view().begin <= frame.begin && selection().view().end >= frame.end);
        const QImage lanes = window_->lanes().viewport()->grab().toImage();
        QVERIFY(pixelsLike(lanes, theme().path) > 300);
        QVERIFY(pixelsLike(lanes, theme().plum) > 500);
        QVERIFY(window_->drawer().page<MarkersPage>().view().currentIndex().data().toString() ==
                toQString(explanation().recording->nameOf(cause.path)));
    }

    void theWholeAccountingIsInSightOrItsHeaviestLaneIs() {
        openDemo();
        LanesView& lanes = window_->lanes();
        for (uint32_t cause = 0; cause < explanation().causes.size(); ++cause) {
            selection().chooseCause(cause);
            settle();
            for (const uint32_t lane : explanation().recording->groups[explanation().causes[cause].group].lanes) {
                if (!lanes.picture().frame()->onPath[lane]) continue;
                const QRect box = lanes.picture().laneRect(lanes.viewport()->rect(), lanes.scrolled(), lane);
                QVERIFY(box.top() >= LanePicture::kHeaderHeight && box.bottom() <= lanes.viewport()->height());
            }
        }
    }

    void clickingCausesAndSpikesChoosesThem() {
        openDemo();
        CausesPanel& causes = window_->causes();
        const auto click = [&](const CausesPanel::Row& row) {
            const QPoint at = row.box.center() - QPoint(0, causes.verticalScrollBar()->value());
            QTest::mouseClick(causes.viewport(), Qt::LeftButton, {}, at);
        };
        const auto third =
            std::find_if(causes.rows().begin(), causes.rows().end(), [](const auto& row) { return row.cause == 2; });
        click(*third);
        QCOMPARE(selection().cause(), 2u);
        const auto spike = std::find_if(causes.rows().rbegin(), causes.rows().rend(),
                                        [](const auto& row) { return row.cause == 2 && row.spike != kNone; });
        QVERIFY(spike != causes.rows().rend());
        const uint32_t wanted = explanation().worstFrameOf(explanation().spikes[spike->spike]);
        click(*spike);
        QCOMPARE(selection().frame(), wanted);
        // By keys from row to row, each chosen as the keyboard comes to it.
        for (int i = 0; i < 20 && selection().cause() == 2; ++i) QTest::keyClick(&causes, Qt::Key_Down);
        QCOMPARE(selection().cause(), 3u);
        QTest::keyClick(&causes, Qt::Key_Up);
        QCOMPARE(selection().cause(), 2u);
        // The worst first, and that is the one that is shown.
        int64_t above = INT64_MAX;
        for (const auto& row : causes.rows()) {
            if (row.cause != 2 || row.spike == kNone) continue;
            const uint32_t worst = explanation().worstFrameOf(explanation().spikes[row.spike]);
            if (above == INT64_MAX) QCOMPARE(selection().frame(), worst);
            QVERIFY(explanation().frames[worst].overrun <= above);
            above = explanation().frames[worst].overrun;
        }
        const size_t before = causes.rows().size();
        const auto more =
            std::find_if(causes.rows().begin(), causes.rows().end(), [](const auto& row) { return row.more; });
        if (more != causes.rows().end()) {
            click(*more);
            QVERIFY(causes.rows().size() > before);
        }
    }

    void keysStepThroughSpikesAndFrames() {
        openDemo();
        key(Qt::Key_Home);
        selection().chooseFrame(0);
        key(Qt::Key_N);
        const uint32_t first = selection().frame();
        QCOMPARE(explanation().frames[first].spike, 0u);
        key(Qt::Key_N);
        QCOMPARE(explanation().frames[selection().frame()].spike, 1u);
        key(Qt::Key_P);
        QCOMPARE(selection().frame(), first);
        key(Qt::Key_PageDown);
        QCOMPARE(selection().frame(), first + 1);
        key(Qt::Key_PageUp);
        key(Qt::Key_PageUp);
        QCOMPARE(selection().frame(), first - 1);
        selection().chooseFrame(static_cast<uint32_t>(explanation().frames.size() - 1));
        key(Qt::Key_PageDown);
        QCOMPARE(selection().frame(), static_cast<uint32_t>(explanation().frames.size() - 1));
        const uint32_t last = selection().frame();
        key(Qt::Key_N);
        QCOMPARE(selection().frame(), last);
    }

    void goToFrameTakesNumbersAndRefusesOthers() {
        openDemo();
        key(Qt::Key_G, Qt::ControlModifier);
        QLineEdit& field = window_->verdict().find();
        QVERIFY(field.hasFocus());
        QTest::keyClicks(&field, "4211");
        QTest::keyClick(&field, Qt::Key_Return);
        QCOMPARE(selection().frame(), 4211u);
        settle();
        QVERIFY(window_->why().title().contains("4\u202f211"));
        QSignalSpy said(&window_->verdict(), &VerdictBar::said);
        QTest::keyClicks(&field, "999999");
        QTest::keyClick(&field, Qt::Key_Return);
        QCOMPARE(selection().frame(), 4211u);
        QCOMPARE(said.count(), 1);
        QVERIFY(said[0][0].toString().contains("Frames run from 0 to"));
    }

    void theBudgetAsTimeOrRateChangesEverything() {
        openDemo();
        QLineEdit& field = window_->verdict().budget();
        QCOMPARE(field.text(), QString("16.67 ms · 60 per s"));
        const auto type = [&](const QString& words) {
            QSignalSpy explained(&window_->document(), &Document::explanationChanged);
            field.setFocus();
            field.selectAll();
            QTest::keyClicks(&field, words);
            QTest::keyClick(&field, Qt::Key_Return);
            QVERIFY(explained.count() || explained.wait(kPatience));
        };
        const size_t over = explanation().figures.over;
        const uint32_t chosen = selection().frame();
        type("30 per s");
        QCOMPARE(window_->document().budget(), int64_t{33'333'333});
        QVERIFY(explanation().figures.over < over);
        QCOMPARE(field.text(), QString("33.33 ms · 30 per s"));
        QCOMPARE(selection().frame(), chosen);
        type("1000 ms");
        QCOMPARE(explanation().figures.over, size_t{0});
        QVERIFY(window_->verdict().sentence().startsWith("Every one of"));
        QVERIFY(window_->causes().rows().empty());
        type("8");
        QVERIFY(explanation().figures.over > over);
        QSignalSpy said(&window_->verdict(), &VerdictBar::said);
        field.selectAll();
        QTest::keyClicks(&field, "soon");
        QTest::keyClick(&field, Qt::Key_Return);
        QVERIFY(said.count() >= 1);
        QVERIFY(said[0][0].toString().contains("is not a valid budget"));
        QCOMPARE(window_->document().budget(), int64_t{8'000'000});
        field.clear();
        field.setModified(true);
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        QTest::keyClick(&field, Qt::Key_Return);
        QVERIFY(explained.count() || explained.wait(kPatience));
        QCOMPARE(window_->document().budget(), int64_t{0});
        QCOMPARE(explanation().figures.over, over);
    }

    void budgetsAreReadAsPeopleWriteThem() {
        const auto ns = [](const char* words) { return readBudget(QString::fromUtf8(words)).ns.value_or(-1); };
        QCOMPARE(ns("16.67"), int64_t{16'670'000});
        QCOMPARE(ns("16,67 ms"), int64_t{16'670'000});
        QCOMPARE(ns("60 per s"), int64_t{16'666'667});
        QCOMPARE(ns("60/s"), int64_t{16'666'667});
        QCOMPARE(ns("60 Hz"), int64_t{16'666'667});
        QCOMPARE(ns("2 s"), int64_t{2'000'000'000});
        QCOMPARE(ns("500 µs"), int64_t{500'000});
        QCOMPARE(ns("16.67 ms · 60 per s"), int64_t{16'670'000});
        QCOMPARE(ns(""), int64_t{0});
        for (const char* wrong : {"0", "-5", "abc", "0 per s", "1e9", "5 hours", "99999999999"})
            QVERIFY2(!readBudget(wrong).ns, wrong);
    }

    void wheelDragAndKeysZoomAndPan() {
        openDemo();
        LanesView& lanes = window_->lanes();
        const QPoint at(600, 200);
        const int64_t under = lanes.picture().timeAt(lanes.viewport()->rect(), at.x());
        const auto wheel = [&](int delta, Qt::KeyboardModifiers modifiers) {
            QWheelEvent event(at, lanes.viewport()->mapToGlobal(at), {}, {0, delta}, Qt::NoButton, modifiers,
                              Qt::NoScrollPhase, false);
            QApplication::sendEvent(lanes.viewport(), &event);
        };
        const auto length = [&] { return selection().view().end - selection().view().begin; };
        const int64_t before = length();
        wheel(120, Qt::ControlModifier);
        QVERIFY(length() < before);
        QVERIFY(std::abs(lanes.picture().timeAt(lanes.viewport()->rect(), at.x()) - under) <=
                before / 400);  // what is under the pointer stays
        wheel(-120, Qt::ControlModifier);
        QVERIFY(std::abs(length() - before) <= 4);
        const int64_t begin = selection().view().begin;
        wheel(-120, Qt::ShiftModifier);
        QVERIFY(selection().view().begin > begin);
        key(Qt::Key_Left);
        key(Qt::Key_Right);
        key(Qt::Key_Plus);
        QVERIFY(length() < before);
        key(Qt::Key_Minus);
        QVERIFY(std::abs(length() - before) <= 8);

        const View held = selection().view();
        QTest::mousePress(lanes.viewport(), Qt::LeftButton, {}, at);
        QTest::mouseMove(lanes.viewport(), at - QPoint(50, 0));
        QTest::mouseMove(lanes.viewport(), at - QPoint(100, 0));
        QTest::mouseRelease(lanes.viewport(), Qt::LeftButton, {}, at - QPoint(100, 0));
        const double perPixel = static_cast<double>(length()) / (lanes.viewport()->width() - LanePicture::kLabelWidth);
        QVERIFY(std::abs(static_cast<double>(selection().view().begin - held.begin) - 100 * perPixel) < 2 * perPixel);

        key(Qt::Key_Home);
        QCOMPARE(selection().view().begin, explanation().recording->begin);
        QCOMPARE(selection().view().end, explanation().recording->end);
        key(Qt::Key_F);
        QVERIFY(length() < 200'000'000);
        for (int i = 0; i < 200; ++i) wheel(120, Qt::ControlModifier);
        QCOMPARE(length(), int64_t{20});  // nanoseconds: as close as it gets
        window_->lanes().viewport()->grab();
        for (int i = 0; i < 300; ++i) wheel(-120, Qt::ControlModifier);
        QCOMPARE(length(), explanation().recording->end - explanation().recording->begin);
    }

    void viewsGoBackAndForward() {
        openDemo();
        const View first = selection().view();
        key(Qt::Key_N);
        key(Qt::Key_N);
        const View last = selection().view();
        key(Qt::Key_Left, Qt::AltModifier);
        key(Qt::Key_Left, Qt::AltModifier);
        QCOMPARE(selection().view().frame, first.frame);
        QCOMPARE(selection().view().begin, first.begin);
        QVERIFY(!selection().canGoBack());
        key(Qt::Key_Right, Qt::AltModifier);
        key(Qt::Key_Right, Qt::AltModifier);
        QCOMPARE(selection().view().frame, last.frame);
        QVERIFY(!selection().canGoForward());
    }

    void aMarkerThatIsLookedAtIsInSightWhereverItLies() {
        openDemo();
        window_->resize(900, 600);
        LanesView& lanes = window_->lanes();
        const Recording& r = *window_->document().recording();
        for (const bool zoomed : {false, true})
            for (const uint64_t part : {90u, 10u, 50u})
                for (uint32_t lane = 0; lane < r.lanes.size(); ++lane) {
                    const auto& rows = r.lanes[lane].rows;
                    if (rows.empty() || lanes.picture().fromSystem(lane)) continue;
                    for (const size_t row : {rows.size() - 1, size_t{0}}) {
                        const MarkerRef marker{lane, static_cast<uint32_t>(row),
                                               static_cast<uint32_t>(uint64_t{rows[row].size()} * part / 100)};
                        zoomed ? selection().showMarker(marker) : selection().lookAtMarker(marker);
                        QCOMPARE(selection().marker(), marker);
                        // And stays so where lanes get more or fewer rows, as more or less time is shown.
                        for (const double factor : {1.0, 3.0, 0.5}) {
                            selection().zoom(factor, r.lanes[lane].rows[row].begin(marker.index));
                            const QRect area = lanes.viewport()->rect();
                            const QRect box = lanes.picture().markerRect(area, lanes.scrolled(), marker);
                            QVERIFY2(!lanes.picture().axisOf(area).intersected(box).isEmpty(),
                                     qPrintable(QString("%1, row %2, at %3 %, shown %4 times as long")
                                                    .arg(r.lanes[lane].name.c_str())
                                                    .arg(row)
                                                    .arg(part)
                                                    .arg(factor)));
                        }
                    }
                }
    }

    void theStripChoosesFramesAndMovesTheVisibleRange() {
        openDemo();
        OverrunStrip& strip = window_->strip();
        const Spike& spike = explanation().spikes[explanation().spikes.size() / 2];
        const int x =
            strip.area().left() + static_cast<int>(strip.picture().xAt(explanation().frame(spike.first).begin));
        QTest::mouseClick(&strip, Qt::LeftButton, {}, QPoint(x, 60));
        QVERIFY(explanation().frames[selection().frame()].overrun > 0);
        QVERIFY(std::abs(static_cast<int>(selection().frame()) - static_cast<int>(spike.first)) < 60);
        const int64_t begin = selection().view().begin, length = selection().view().end - begin;
        QTest::mousePress(&strip, Qt::LeftButton, {}, QPoint(x, 60));
        QTest::mouseMove(&strip, QPoint(x + 40, 60));
        QTest::mouseMove(&strip, QPoint(x + 80, 60));
        QTest::mouseRelease(&strip, Qt::LeftButton, {}, QPoint(x + 80, 60));
        QVERIFY(selection().view().begin > begin);
        QCOMPARE(selection().view().end - selection().view().begin, length);
    }

    void theStripShowsTheWorstFrameHoweverNarrowItIs() {
        openDemo();
        window_->resize(700, 600);
        QCoreApplication::processEvents();
        int64_t worst = 0, shown = 0;
        for (const FrameVerdict& frame : explanation().frames) worst = std::max(worst, frame.overrun);
        for (const auto& column : window_->strip().picture().columns()) shown = std::max(shown, column.overrun);
        QCOMPARE(shown, worst);
    }

    void hoverTellsAboutTheMarker() {
        openDemo();
        LanesView& lanes = window_->lanes();
        const uint32_t gust = [&] {
            for (uint32_t i = 0; i < explanation().causes.size(); ++i)
                if (explanation().recording->nameOf(explanation().causes[i].path) == "Rebuild field") return i;
            return kNone;
        }();
        QVERIFY(gust != kNone);
        selection().chooseCause(gust);
        settle();
        const Recording& r = *explanation().recording;
        const uint32_t main = laneNamed(r, "main");
        const Frame& frame = explanation().frame(selection().frame());
        MarkerRef simulate{main, 1, r.lanes[main].rows[1].lastBefore(frame.begin + 1'000'000)};
        QCOMPARE(r.nameOf(r.pathOf(simulate)), std::string("Simulate"));
        const MarkerRef found = lanes.picture().markerAt(lanes.viewport()->rect(), lanes.scrolled(), placeOf(simulate));
        QVERIFY(found == simulate);
        QHelpEvent hover(QEvent::ToolTip, placeOf(simulate), lanes.viewport()->mapToGlobal(placeOf(simulate)));
        QApplication::sendEvent(lanes.viewport(), &hover);
        EVENTUALLY(QToolTip::isVisible());
        const QString words = QToolTip::text();
        for (const char* part : {"<b>Simulate</b>", "physics", "One step of wind, boats, gulls and crowd", "on main",
                                 "self ", "% of frame", "demo/regatta.cpp:"})
            QVERIFY2(words.contains(part), qPrintable(QString(part) + " in " + words));
        QTest::mouseClick(lanes.viewport(), Qt::LeftButton, {}, placeOf(simulate));
        QVERIFY(selection().marker() == simulate);
        QVERIFY(window_->statusText().startsWith("Simulate, "));
        QTest::mouseDClick(lanes.viewport(), Qt::LeftButton, {}, placeOf(simulate));
        const MarkerRow& row = r.lanes[main].rows[1];
        QVERIFY(selection().view().begin <= row.begin(simulate.index) &&
                selection().view().end >= row.end(simulate.index));
        QVERIFY(selection().view().end - selection().view().begin <
                2 * (row.end(simulate.index) - row.begin(simulate.index)));
    }

    void sentencesLeadToTheirPlace() {
        openDemo();
        WhyPanel& why = window_->why();
        const auto leading = std::find_if(why.spoken().begin(), why.spoken().end(),
                                          [](const auto& s) { return s.sentence.lane != kNone; });
        QVERIFY(leading != why.spoken().end());
        const Sentence sentence = leading->sentence;
        key(Qt::Key_Home);
        QTest::mouseClick(why.viewport(), Qt::LeftButton, {}, leading->box.center());
        QVERIFY(selection().view().begin <= sentence.begin && selection().view().end >= sentence.end);
        QCOMPARE(selection().marker().lane, sentence.lane);
    }

    void theDrawerSortsByEveryColumn() {
        openDemo();
        QTreeView& tree = window_->drawer().page<MarkersPage>().view();
        const auto& lanes = explanation().recording->lanes;
        QCOMPARE(tree.model()->rowCount(), int(std::count_if(lanes.begin(), lanes.end(), [](const Lane& lane) {
                     return lane.kind != LaneKind::Core;
                 })));
        for (int column = 0; column < 6; ++column)
            for (const Qt::SortOrder order : {Qt::AscendingOrder, Qt::DescendingOrder}) {
                tree.sortByColumn(column, order);
                for (int row = 1; row < tree.model()->rowCount(); ++row) {
                    const auto raw = [&](int at) {
                        const QVariant value = tree.model()->index(at, column).data(TableModel::kRawRole);
                        return column ? value : QVariant(value.toString().toLower());
                    };
                    const QVariant a = raw(row - 1), b = raw(row);
                    if (!b.isValid()) continue;  // what has no value comes last
                    const auto wrong =
                        order == Qt::AscendingOrder ? QVariant::compare(a, b) > 0 : QVariant::compare(a, b) < 0;
                    QVERIFY(!wrong);
                }
            }
        const QModelIndex current = tree.currentIndex();
        QVERIFY(current.isValid());
        tree.scrollTo(current);
        QTest::mouseClick(tree.viewport(), Qt::LeftButton, {}, tree.visualRect(current).center());
        QVERIFY(selection().marker().valid());
    }

    void theDrawerFiltersAsOneTypes() {
        openDemo();
        MarkersPage& page = window_->drawer().page<MarkersPage>();
        const int lanes = page.view().rows().rowCount();
        page.filter().setFocus();
        QTest::keyClicks(&page.filter(), "SAIL");
        QVERIFY(page.view().rows().rowCount() > 0 && page.view().rows().rowCount() < lanes);
        bool any = false;
        for (const Table& table = *page.view().table(); Table::Row row : {table.rowBelow(Table::kTop, 0)})
            any = table.countBelow(row) > 0 && page.view().isExpanded(page.view().rows().indexOf(row));
        QVERIFY(any);  // what was found is in sight
        page.filter().clear();
        QCOMPARE(page.view().rows().rowCount(), lanes);
        QTest::keyClicks(&page.filter(), "sail");
        selection().stepSpike(1);  // another frame is filtered the same way
        EVENTUALLY(!page.busy());
        QVERIFY(page.view().rows().rowCount() < lanes);
    }

    void measuringThatCostsTooMuchIsToldInTheVerdict() {
        TextRecording t;
        t.line(R"({"define":"context","key":"marker cost ns","value":"40"})");
        t.line(R"({"define":"site","id":1,"name":"Particle","category":"spray"})");
        for (int f = 0; f < 10; ++f) {
            t.frame(f * 1000, "main").begin(f * 1000, "main", "Frame");
            for (int i = 0; i < 800; ++i) t.mark(f * 1000 + i, f * 1000 + i + 0.5, "main", "Particle");
            t.end(f * 1000 + 900, "main").frameEnd(f * 1000 + 900, "main");
        }
        const QString path = folder_.filePath("measured.jsonl");
        QFile file(path);
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(t.text().c_str());
        file.close();
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        window_->open(path);
        EVENTUALLY(window_->document().explanation() != nullptr);
        EVENTUALLY(window_->verdict().sentence().contains("measuring took 3.6 %"));
        bool advised = false;
        for (const QLabel* label : window_->verdict().findChildren<QLabel*>())
            advised |= label->toolTip().contains("Switch its category ‘spray’ to a coarser detail");
        QVERIFY(advised);
    }

    void anotherSeriesIsExplainedOnRequest() {
        openDemo();
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        auto* series = window_->verdict().findChild<QComboBox*>();
        QVERIFY(series->isVisible());
        QCOMPARE(series->count(), 4);
        series->setFocus();
        QTest::keyClick(series, Qt::Key_Down);
        QVERIFY(explained.wait(kPatience));
        QCOMPARE(explanation().series, 1u);
        QCOMPARE(explanation().recording->series[1].name, std::string("picture"));
    }

    // ---- what if -----------------------------------------------------------------------------------

    void repairsAreTriedByKeyAndByMouse() {
        openDemo();
        Document& document = window_->document();
        WhyPanel& why = window_->why();
        EVENTUALLY(why.whatIfWords().startsWith("If this took its usual time, "));
        const QString asRecorded = window_->verdict().sentence();
        const QImage before = window_->strip().grab().toImage();
        key(Qt::Key_R);
        QCOMPARE(document.trials().repairs().size(), size_t{1});
        EVENTUALLY(document.trials().prediction());
        const auto first = document.trials().prediction();
        QVERIFY(first->saved > 0 && first->over + first->saved == explanation().figures.over);
        QVERIFY2(window_->verdict().sentence().startsWith("With A repaired " +
                                                          toQString(plural(first->over, "frame", "frames"))),
                 qPrintable(window_->verdict().sentence()));
        QVERIFY(window_->strip().grab().toImage() != before);
        QVERIFY(toldInVerdict("simulated only: what is pale in the strip would be gone"));
        // What is left of other causes is what they show; the next one is known.
        QCOMPARE(first->lateBy[0], int64_t{0});
        QVERIFY(first->nextCause != kNone && first->nextCause != 0);
        // A second one together, by its switch.
        selection().chooseCause(1);
        QVERIFY(!why.trials().empty());
        QTest::mouseClick(why.viewport(), Qt::LeftButton, {},
                          why.trials()[0].box.center() - QPoint(0, why.verticalScrollBar()->value()));
        QCOMPARE(document.trials().repairs().size(), size_t{2});
        EVENTUALLY(document.trials().prediction() && document.trials().prediction() != first);
        QVERIFY(document.trials().prediction()->over < first->over);
        QVERIFY(why.whatIfWords().startsWith("If A and B took their usual time, "));
        // Without it instead of usual; then no longer; then everything as recorded.
        key(Qt::Key_R, Qt::ShiftModifier);
        QVERIFY(document.trials().repairs()[1].gone);
        key(Qt::Key_R, Qt::ShiftModifier);
        QCOMPARE(document.trials().repairs().size(), size_t{1});
        key(Qt::Key_Backspace);
        QVERIFY(document.trials().repairs().empty() && !document.trials().prediction());
        QCOMPARE(window_->verdict().sentence(), asRecorded);
        selection().chooseCause(0);
        QVERIFY(window_->strip().grab().toImage() == before);
        // Another budget starts over.
        key(Qt::Key_R);
        document.setBudget(12'000'000);
        EVENTUALLY(!document.busy());
        QVERIFY(document.trials().repairs().empty());
    }

    void theStripAndTheVerdictTellWhatFramesAreBoundBy() {
        openDemo();
        QVERIFY(toldInVerdict("mostly bound by CPU work on main"));
        // Spray is GPU work: under its frames the band is blue.
        const OverrunStrip& strip = window_->strip();
        const QRect band = strip.picture().boundBand(strip.area());
        const QImage image = window_->strip().grab().toImage();
        const Cause& spray = explanation().causes[0];
        QCOMPARE(explanation().recording->nameOf(spray.path), std::string("Spray"));
        int blue = 0;
        for (int x = band.left(); x < band.right(); ++x) blue += image.pixelColor(x, band.top() + 1) == theme().path;
        QVERIFY2(blue >= 8, qPrintable(QString::number(blue)));
        QVERIFY(explanation().frames[spray.frames[2]].bound == BoundBy::Gpu);
    }

    // ---- advice ------------------------------------------------------------------------------------

    void adviceIsListedFollowedAndAccepted() {
        openDemo();
        openPage("advice");
        AdvicePage& page = window_->drawer().page<AdvicePage>();
        QCOMPARE(window_->drawer().shown(), QString("advice"));
        EVENTUALLY(page.advice() && !page.busy());
        QVERIFY(page.about().endsWith("findings, 0 accepted"));
        const QAbstractItemModel& model = *page.view().model();
        const int rows = model.rowCount();
        QVERIFY(rows >= 4);
        const auto titleAt = [&](int row) { return model.index(row, kAdviceFinding).data().toString(); };
        QStringList titles;
        for (int row = 0; row < rows; ++row) titles << titleAt(row);
        QVERIFY2(titles.join("\n").contains("‘A gust crosses the course’ comes just before B"),
                 qPrintable(titles.join("\n")));
        QCOMPARE(model.rowCount(model.index(0, 0)), 2);  // evidence, and what to look at next
        // Following one shows its place.
        const int file = static_cast<int>(titles.indexOf(QRegularExpression(".*waits long for a file.*")));
        QVERIFY(file >= 0);
        const int64_t before = selection().view().begin;
        page.view().scrollTo(model.index(file, 0));
        QTest::mouseClick(page.view().viewport(), Qt::LeftButton, {},
                          page.view().visualRect(model.index(file, 0)).center());
        QVERIFY(selection().view().begin != before);
        QCOMPARE(toQString(explanation().recording->nameOf(explanation().recording->pathOf(selection().marker()))),
                 QString("Read sail file"));
        QCOMPARE(window_->drawer().shown(), QString("advice"));
        // An accepted one stands at the end, also when the recording is opened again.
        const QString first = titles[0];
        page.view().model()->setData(model.index(0, kAdviceAccepted), Qt::Checked, Qt::CheckStateRole);
        EVENTUALLY_EQUAL(titleAt(rows - 1), first);
        QVERIFY(page.about().endsWith("1 accepted"));
        openDemo();
        EVENTUALLY(page.advice() && !page.busy() && model.rowCount() == rows);
        QCOMPARE(titleAt(rows - 1), first);
        page.view().model()->setData(model.index(rows - 1, kAdviceAccepted), Qt::Unchecked, Qt::CheckStateRole);
        EVENTUALLY_EQUAL(titleAt(0), first);
    }

    void limitsOfAdviceAreSetAndRemembered() {
        openDemo();
        openPage("advice");
        AdvicePage& page = window_->drawer().page<AdvicePage>();
        EVENTUALLY(page.advice() && !page.busy());
        const auto slowFiles = [&] {
            return std::count_if(page.advice()->begin(), page.advice()->end(),
                                 [](const Advice& a) { return a.kind == AdviceKind::SlowFile; });
        };
        const auto before = slowFiles();
        QVERIFY(before > 0);
        const auto inLimits = [&](auto&& act) {
            inDialog(act);
            QTest::mouseClick(&page.limitsButton(), Qt::LeftButton);
        };
        inLimits([](QDialog& dialog) {
            auto* slowFile = dialog.findChild<QDoubleSpinBox*>();
            slowFile->selectAll();
            QTest::keyClicks(slowFile, "60000");
            QTest::mouseClick(dialog.findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Ok), Qt::LeftButton);
        });
        EVENTUALLY(!page.busy() && slowFiles() == 0);
        QCOMPARE(settings::adviceLimits().slowFile, int64_t{60'000'000'000});
        // Cancelled, nothing changes; the defaults come back at a click.
        inLimits([](QDialog& dialog) {
            dialog.findChild<QDoubleSpinBox*>()->setValue(1);
            QTest::mouseClick(dialog.findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Cancel), Qt::LeftButton);
        });
        QCOMPARE(settings::adviceLimits().slowFile, int64_t{60'000'000'000});
        inLimits([](QDialog& dialog) {
            auto* buttons = dialog.findChild<QDialogButtonBox*>();
            QTest::mouseClick(buttons->button(QDialogButtonBox::RestoreDefaults), Qt::LeftButton);
            QTest::mouseClick(buttons->button(QDialogButtonBox::Ok), Qt::LeftButton);
        });
        EVENTUALLY(!page.busy() && slowFiles() == before);
    }

    // ---- lanes far apart ----------------------------------------------------------------------------

    void lanesOfTheAccountingAreGatheredWhereTheyLieFarApart() {
        // main waits for the last of twelve workers.
        TextRecording t;
        for (int f = 0; f < 20; ++f) {
            const double at = f * 20'000.0, work = f == 19 ? 14'000 : 2000;
            t.frame(at, "main").begin(at, "main", "Frame").linkOut(at + 100, "main", 10 + f);
            for (int w = 0; w < 12; ++w) {
                const std::string lane = "worker " + std::to_string(w);
                t.begin(at + 200, lane, "Job");
                if (w == 11) t.linkIn(at + 200, lane, 10 + f);
                for (int deep = 0; deep < 3; ++deep) t.begin(at + 300 + deep, lane, "Part");
                for (int deep = 0; deep < 3; ++deep) t.end(at + work + deep, lane);
                if (w == 11) t.linkOut(at + work + 90, lane, 1000 + f);
                t.end(at + work + 100, lane);
            }
            t.wait(at + 1000, "main", "Wait", "job", "job").waitEnd(at + work + 110, "main", 1000 + f);
            t.end(at + work + 500, "main").frameEnd(at + work + 500, "main");
        }
        open(write("far.jsonl", QByteArray::fromStdString(t.text())));
        LanesView& lanes = window_->lanes();
        const Recording& r = *window_->document().recording();
        const uint32_t last = laneNamed(r, "worker 11"), first = laneNamed(r, "main"), other = laneNamed(r, "worker 3");
        QVERIFY(lanes.picture().slim(other));
        {  // a slim lane shows when it was at work
            const QImage image = lanes.viewport()->grab().toImage();
            const QRect box = lanes.picture().laneRect(lanes.viewport()->rect(), lanes.scrolled(), other);
            const Frame& frame = explanation().frame(19);
            const auto drawn = [&](double us) {
                const int64_t time = frame.begin + static_cast<int64_t>(us * 1000);
                const int x = static_cast<int>(lanes.picture().xAt(lanes.viewport()->rect(), time));
                return qGray(image.pixel(x, box.center().y()));
            };
            QVERIFY(drawn(7000) < drawn(14'400));  // in its job, and after it
        }
        QVERIFY(!lanes.picture().slim(first) && !lanes.picture().slim(last));
        const QRect area = lanes.viewport()->rect();
        const auto inSight = [&](uint32_t lane) {
            const QRect box = lanes.picture().laneRect(area, lanes.scrolled(), lane);
            return box.top() >= LanePicture::kHeaderHeight - 1 && box.bottom() <= area.bottom() + 1;
        };
        QVERIFY(inSight(first) && inSight(last));
        // A slim lane opens at a click; L makes room for all again, and remembers it.
        QTest::mouseClick(lanes.viewport(), Qt::LeftButton, {},
                          lanes.picture().laneRect(area, lanes.scrolled(), other).center());
        QVERIFY(!lanes.picture().slim(other) && lanes.picture().slim(laneNamed(r, "worker 4")));
        key(Qt::Key_L);
        QVERIFY(!lanes.picture().slim(laneNamed(r, "worker 4")));
        QVERIFY(!inSight(first) || !inSight(last));
        QVERIFY(!settings::gatherLanes().get());
        key(Qt::Key_L);
        QVERIFY(inSight(first) && inSight(last));
        // In a low window even slim lanes would be too many: they become one, which opens at a click.
        window_->resize(1100, 600);
        QCoreApplication::processEvents();
        const QRect low = lanes.viewport()->rect();
        QVERIFY(low.height() < 11 * LanePicture::kSlimHeight + 100);
        const uint32_t bunch = laneNamed(r, "worker 0");
        QCOMPARE(lanes.picture().standsFor(bunch), size_t{11});
        QCOMPARE(lanes.picture().standsFor(other), size_t{0});
        QVERIFY(lanes.picture().laneRect(low, lanes.scrolled(), last).bottom() <= low.bottom() + 1);
        QTest::mouseClick(lanes.viewport(), Qt::LeftButton, {},
                          lanes.picture().laneRect(low, lanes.scrolled(), bunch).center());
        QCOMPARE(lanes.picture().standsFor(other), size_t{1});
        QVERIFY(lanes.picture().slim(other));
    }

    void coarseAndExactDrawingAgreeOnWhatIsBusy() {
        // 4 000 markers of 1 µs each 2 µs, then nothing: half covered, then empty, at any zoom.
        TextRecording t;
        for (int i = 0; i < 4000; ++i) t.mark(i * 2, i * 2 + 1, "main", "Tiny");
        t.mark(20'000, 20'001, "main", "Last");
        open(write("dense.jsonl", QByteArray::fromStdString(t.text())));
        LanesView& lanes = window_->lanes();
        key(Qt::Key_Home);
        const auto highlightAt = [&](double us) {
            const QImage image = lanes.viewport()->grab().toImage();
            const int x =
                static_cast<int>(lanes.picture().xAt(lanes.viewport()->rect(), static_cast<int64_t>(us * 1000)));
            const QRect lane = lanes.picture().laneRect(lanes.viewport()->rect(), lanes.scrolled(), 0);
            return image.pixelColor(x, lane.top() + LanePicture::kRail + 8) != theme().paper;
        };
        QVERIFY(highlightAt(1000));
        QVERIFY(highlightAt(7990));
        QVERIFY(!highlightAt(12'000));
        QVERIFY(lanes.picture().markersShown() >= 4000);
        selection().showSpan(1'000'000, 1'010'000);
        QVERIFY(highlightAt(1000.5));
        QVERIFY(!highlightAt(1001.5));
    }
};

QTEST_MAIN(AppTest)
#include "app_test.moc"
