// SPDX-License-Identifier: GPL-3.0-or-later
//
// Arranging the lanes in the real window: hidden, at the top, folded, moved, in another order; markers faded, alone,
// with a tint. Kept for the program, and taken back.
#include <QAccessible>
#include <QFileInfo>
#include <QMenu>
#include <QProcess>
#include <QScrollBar>
#include <QStatusBar>
#include <QToolButton>

#include "app/drawer/search_page.h"
#include "app/scope/scope_bar.h"
#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "format/opening.h"
#include "window_test.h"

namespace fugato {

class LanesAppTest : public WindowTest {
    Q_OBJECT

    const Recording& recording() { return *window_->document().recording(); }
    LanesView& lanes() { return window_->lanes(); }
    LanePicture& picture() { return lanes().picture(); }
    QRect area() { return lanes().viewport()->rect(); }
    uint32_t laneNamed(const std::string& name) {
        for (uint32_t lane = 0; lane < recording().lanes.size(); ++lane)
            if (recording().lanes[lane].name == name) return lane;
        return kNone;
    }
    QStringList shown() {
        QStringList names;
        for (const uint32_t lane : picture().lanesFromTop()) names << picture().labelOf(lane);
        return names;
    }
    QPoint labelOf(const std::string& name) {
        return picture().laneRect(area(), lanes().scrolled(), laneNamed(name)).topLeft() + QPoint(20, 8);
    }
    void selectLane(const std::string& name) {
        QTest::mouseClick(lanes().viewport(), Qt::LeftButton, {}, labelOf(name));
        QCOMPARE(selection().lane(), laneNamed(name));
    }
    void drag(const QPoint& from, const QPoint& to) {
        QWidget* on = lanes().viewport();
        QTest::mousePress(on, Qt::LeftButton, {}, from);
        QTest::mouseMove(on, from + (to - from) / 2);
        QTest::mouseMove(on, to);
        QTest::mouseRelease(on, Qt::LeftButton, {}, to);
    }
    /// A marker of a lane in the selected frame.
    MarkerRef markerNamed(const std::string& lane, const std::string& name) {
        const Frame& frame = explanation().frame(selection().frame());
        const auto& rows = recording().lanes[laneNamed(lane)].rows;
        for (uint32_t row = 0; row < rows.size(); ++row) {
            const auto [first, past] = rows[row].overlapping(frame.begin, frame.end);
            for (uint32_t i = first; i < past; ++i)
                if (recording().nameOf(rows[row].path(i)) == name && rows[row].begin(i) >= frame.begin)
                    return {laneNamed(lane), row, i};
        }
        return {};
    }
    void choose(const QMenu& menu, const QString& name) {
        for (QAction* action : menu.actions())
            if (action->text().remove('&') == name) return action->trigger();
        QFAIL(qPrintable("no entry " + name));
    }

private slots:
    void lanesAreHiddenAndShown() {
        openDemo();
        const QStringList all = shown();
        QVERIFY(all.contains("worker 1") && all.contains("autosave"));
        selectLane("worker 1");
        key(Qt::Key_H);
        key(Qt::Key_H);  // the next one is selected
        QVERIFY(!shown().contains("worker 1") && !shown().contains("worker 2"));
        QCOMPARE(picture().leftOut(), QString("2 hidden"));
        // The tables can speak of the shown lanes.
        ScopeChoice choice = selection().scope();
        choice.lanes = ScopeChoice::Lanes::Shown;
        const auto chosen = chosenScope(recording(), &explanation(), choice, selection().scopeContext());
        QVERIFY(chosen && !chosen->scope.has(laneNamed("worker 1")) && chosen->scope.has(laneNamed("main")));
        QVERIFY(chosen->words.ends_with(" on shown lanes"));
        key(Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(shown().contains("worker 2") && !shown().contains("worker 1"));
        key(Qt::Key_H, Qt::ShiftModifier);
        QCOMPARE(shown(), all);
        QVERIFY(picture().leftOut().isEmpty());
        QVERIFY(selection().scopeContext().shownLanes.empty());
    }

    void whatIsHiddenIsShownWhereOneGoesThere() {
        openDemo();
        selectLane("autosave");
        key(Qt::Key_H);
        QVERIFY(!shown().contains("autosave"));
        selection().lookAtMarker({laneNamed("autosave"), 0, 0});
        settle();
        QVERIFY(shown().contains("autosave"));
        // Until another frame is selected; and for good where the lane itself was looked for.
        key(Qt::Key_N);
        settle();
        selection().chooseMarker({});
        QVERIFY(!shown().contains("autosave"));
        window_->drawer().search("autosave");
        settle();
        auto& found = window_->drawer().page<SearchPage>().view();
        for (Table::Row row = 0; row < found.table()->rowLimit(); ++row)
            if (found.table()->value(row, kFoundKind) == TableValue(std::string("lane"))) found.showRow(row);
        QTest::keyClick(&found, Qt::Key_Return);
        settle();
        QVERIFY(shown().contains("autosave"));
        QCOMPARE(selection().lane(), laneNamed("autosave"));
    }

    void lanesStayAtTheTop() {
        openDemo();
        selectLane("audio");
        key(Qt::Key_K);
        QCOMPARE(shown().front(), QString("audio"));
        QScrollBar& bar = *lanes().verticalScrollBar();
        bar.setValue(bar.maximum());
        QVERIFY(bar.value() > 0);
        const QRect top = picture().laneRect(area(), lanes().scrolled(), laneNamed("audio"));
        QCOMPARE(top.top(), LanePicture::kHeaderHeight);
        QCOMPARE(picture().laneAt(area(), lanes().scrolled(), top.center().y()), laneNamed("audio"));
        // A screen reader is told the same place.
        QAccessibleInterface* panel = QAccessible::queryAccessibleInterface(&lanes());
        QAccessibleInterface* audio = nullptr;
        for (int i = 0; i < panel->childCount(); ++i)
            if (panel->child(i)->text(QAccessible::Name) == "audio") audio = panel->child(i);
        QVERIFY(audio);
        QCOMPARE(audio->rect().topLeft(), lanes().viewport()->mapToGlobal(top.topLeft()));
        QVERIFY(!audio->state().offscreen);
        // What lies below it is not hit, and is not drawn over it.
        QVERIFY(picture().laneAt(area(), lanes().scrolled(), top.bottom() + 30) != laneNamed("main"));
        key(Qt::Key_K);
        QCOMPARE(shown().front(), QString("main"));
    }

    void lanesAreFoldedToOneLine() {
        openDemo();
        selectLane("main");
        const int before = picture().height();
        key(Qt::Key_D);
        QVERIFY(picture().slim(laneNamed("main")));
        QVERIFY(picture().height() < before);
        QTest::mouseClick(lanes().viewport(), Qt::LeftButton, {}, labelOf("main"));  // a click opens it
        QVERIFY(!picture().slim(laneNamed("main")));
        selectLane("worker 2");
        key(Qt::Key_D, Qt::ShiftModifier);  // all of its role are one
        QCOMPARE(picture().standsFor(laneNamed("worker 1")), size_t{2});
        QVERIFY(!shown().contains("worker 2"));
        QTest::mouseClick(lanes().viewport(), Qt::LeftButton, {}, labelOf("worker 1"));
        QVERIFY(shown().contains("worker 1") && shown().contains("worker 2"));
    }

    void lanesAreMovedByKeyAndByDrag() {
        openDemo();
        const QStringList before = shown();
        selectLane("render");
        key(Qt::Key_Up, Qt::AltModifier);
        QCOMPARE(shown().mid(0, 2), (QStringList{"render", "main"}));
        key(Qt::Key_Down, Qt::AltModifier);
        QCOMPARE(shown(), before);
        drag(labelOf("audio"), labelOf("main") - QPoint(0, 6));
        QCOMPARE(shown().front(), QString("audio"));
        // It is the person's own order; the recorded one comes back, and the own one, too.
        lanes().orderBy(LaneOrder::Recorded);
        QCOMPARE(shown(), before);
        lanes().orderBy(LaneOrder::Own);
        QCOMPARE(shown().front(), QString("audio"));
    }

    void lanesAreOrderedByTheirPart() {
        openDemo();
        lanes().orderBy(LaneOrder::Part);
        QStringList first = shown().mid(0, 2);
        first.sort();
        QCOMPARE(first, (QStringList{"GPU graphics", "main"}));
        QVERIFY(lanes().scrolled() == 0);
        lanes().orderBy(LaneOrder::Activity);
        const Frame& frame = explanation().frame(selection().frame());
        int64_t last = INT64_MAX;
        for (const uint32_t lane : picture().lanesFromTop()) {
            const int64_t busy = recording().lanes[lane].busyBetween(frame.begin, frame.end);
            QVERIFY(busy <= last);
            last = busy;
        }
    }

    void markersAreFadedOrAlone() {
        openDemo();
        const MarkerRef spray = markerNamed("GPU graphics", "Spray"), draw = markerNamed("main", "Draw list");
        const auto colourOf = [&](const MarkerRef& marker) {
            const QRect box = picture().markerRect(area(), lanes().scrolled(), marker);
            return lanes().viewport()->grab().toImage().pixelColor(box.left() + 3, box.top() + 3);
        };
        const QColor sprayBefore = colourOf(spray), drawBefore = colourOf(draw);
        window_->drawer().search("spray");
        settle();
        auto& page = window_->drawer().page<SearchPage>();
        page.focusFound(false);
        QCOMPARE(colourOf(spray), sprayBefore);
        QVERIFY(colourOf(draw) != drawBefore);
        QCOMPARE(picture().leftOut(), QString("“spray” not faded"));
        page.focusFound(true);
        QVERIFY(colourOf(draw).lightness() > 240);  // nothing is drawn there
        QVERIFY(!picture().markerAt(area(), lanes().scrolled(), placeOf(draw)).valid());
        QVERIFY(picture().markerAt(area(), lanes().scrolled(), placeOf(spray)) == spray);
        // Lanes without such a marker make room.
        QVERIFY(picture().standsFor(laneNamed("main")) > 2);
        QVERIFY(!picture().slim(laneNamed("GPU graphics")));
        selection().showWhole();
        settle();
        selection().focusMarkers(nullptr);
        QVERIFY(picture().leftOut().isEmpty());
    }

    void aMarkerHasATintOfOnesOwn() {
        openDemo();
        const MarkerRef boats = markerNamed("main", "Boats");
        selection().chooseMarker({});
        const auto colour = [&] {
            const QRect box = picture().markerRect(area(), lanes().scrolled(), boats);
            return lanes().viewport()->grab().toImage().pixelColor(box.center().x() + 12, box.top() + 2);
        };
        QCOMPARE(colour(), theme().marker);
        const auto look = [&] {
            auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
            if (!menu) return;
            for (QAction* action : menu->actions())
                if (action->text().remove('&') == "Look at")
                    for (QAction* tints : action->menu()->actions())
                        if (tints->text().remove('&') == "Tint of Boats") choose(*tints->menu(), "Moss");
            menu->close();
        };
        QTimer::singleShot(100, this, look);
        QContextMenuEvent asked(QContextMenuEvent::Mouse, placeOf(boats),
                                lanes().viewport()->mapToGlobal(placeOf(boats)));
        QApplication::sendEvent(lanes().viewport(), &asked);
        selection().chooseMarker({});
        QCOMPARE(colour().rgb(), theme().tint(2).rgb());
        key(Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(colour(), theme().marker);
    }

    void theArrangementIsKeptForTheProgram() {
        openDemo();
        selectLane("render");
        key(Qt::Key_H);
        selectLane("audio");
        key(Qt::Key_K);
        const QStringList before = shown();
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        openDemo();
        QCOMPARE(shown(), before);
        // Nothing of it is there for another program.
        open(write("other.jsonl",
                   "{\"fugato\":\"text\",\"version\":1}\n"
                   "{\"define\":\"context\",\"key\":\"program\",\"value\":\"other\"}\n"
                   "{\"at\":0,\"lane\":\"render\",\"do\":\"begin\",\"site\":\"Draw\"}\n"
                   "{\"at\":9000,\"lane\":\"render\",\"do\":\"end\"}\n"));
        QCOMPARE(shown(), QStringList{"render"});
    }

    void whileARecordingGrowsAllStaysAsItWasPut() {
        const QString path = folder_.filePath("growing.fugato");
        QProcess program;
        openGrowing(program, path);
        EVENTUALLY(laneNamed("worker 2") != kNone && shown().contains("worker 2"));
        selection().showSpan(recording().begin, recording().begin + 50'000'000);  // it no longer follows
        selectLane("worker 1");
        key(Qt::Key_H);
        selectLane("audio");
        key(Qt::Key_K);
        const MarkerRef marker{laneNamed("main"), 0, 0};
        selection().lookAtMarker(marker);
        key(Qt::Key_M);
        const int64_t anchor = selection().anchor().value();
        selection().chooseInstant(anchor + 3'000'000);
        Note note;
        note.text = "while it runs";
        window_->document().notes().put(note);
        EVENTUALLY(lanes().connections());
        const auto connections = lanes().connections();
        // More frames come, and lanes are drawn again.
        const int64_t end = recording().end;
        EVENTUALLY(recording().end > end + 2'000'000'000);
        EVENTUALLY(picture().recording()->end > end);
        QVERIFY(!shown().contains("worker 1"));
        QCOMPARE(shown().front(), QString("audio"));
        QCOMPARE(selection().marker(), marker);
        QCOMPARE(selection().anchor(), std::optional(anchor));
        QCOMPARE(selection().instant(), std::optional(anchor + 3'000'000));
        QCOMPARE(window_->document().notes().all().size(), size_t{1});
        EVENTUALLY_EQUAL(selection().scopeContext().shownLanes.size(), picture().recording()->lanes.size());
        // What the marker is connected with was looked up again: more may be known of it.
        EVENTUALLY(lanes().connections() && lanes().connections() != connections);
        program.kill();
        program.waitForFinished(kPatience);
        makeRecordingWhole(path.toStdString());
    }

    void tracksAreHiddenToo() {
        openDemo();
        QScrollBar& bar = *lanes().verticalScrollBar();
        bar.setValue(bar.maximum());
        const auto& tracks = picture().tracks().tracks();
        const int before = picture().height();
        const QRect box = picture().trackRect(area(), lanes().scrolled(), tracks.size() - 1);
        QTimer::singleShot(100, this, [&] {
            if (auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget())) {
                choose(*menu, "Hide " + tracks.back().name);
                menu->close();
            }
        });
        const QPoint at = box.topLeft() + QPoint(20, 5);
        QContextMenuEvent asked(QContextMenuEvent::Mouse, at, lanes().viewport()->mapToGlobal(at));
        QApplication::sendEvent(lanes().viewport(), &asked);
        QVERIFY(picture().height() < before);
        QCOMPARE(picture().leftOut(), QString("1 hidden"));
        key(Qt::Key_H, Qt::ShiftModifier);
        QCOMPARE(picture().height(), before);
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::LanesAppTest)
#include "lanes_app_test.moc"
