// SPDX-License-Identifier: GPL-3.0-or-later
//
// Looking for oneself in the real window: the instant, measuring, and from a marker to what it is connected with.
#include <QClipboard>
#include <QContextMenuEvent>
#include <QMenu>
#include <QScrollBar>
#include <QStatusBar>

#include "app/drawer/counters_page.h"
#include "app/drawer/instant_page.h"
#include "app/settings/settings.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/words.h"
#include "core/ask/instant_table.h"
#include "core/explain/words/quantities.h"
#include "window_test.h"

namespace fugato {

class LookingAppTest : public WindowTest {
    Q_OBJECT

    const Recording& recording() { return *window_->document().recording(); }
    LanesView& lanes() { return window_->lanes(); }
    uint32_t laneNamed(const std::string& name) {
        for (uint32_t lane = 0; lane < recording().lanes.size(); ++lane)
            if (recording().lanes[lane].name == name) return lane;
        return kNone;
    }
    /// The marker of this name in the selected frame.
    MarkerRef markerNamed(const std::string& lane, const std::string& name) {
        const Frame& frame = explanation().frame(selection().frame());
        const uint32_t at = laneNamed(lane);
        const auto& rows = recording().lanes[at].rows;
        for (uint32_t row = 0; row < rows.size(); ++row) {
            const auto [first, past] = rows[row].overlapping(frame.begin, frame.end);
            for (uint32_t i = first; i < past; ++i)
                if (recording().nameOf(rows[row].path(i)) == name && rows[row].begin(i) >= frame.begin)
                    return {at, row, i};
        }
        return {};
    }
    void clickInLanes(const QPoint& at) { QTest::mouseClick(lanes().viewport(), Qt::LeftButton, {}, at); }
    QPoint inLane(uint32_t lane, int64_t time) {
        const QRect area = lanes().viewport()->rect();
        return {static_cast<int>(lanes().picture().xAt(area, time)),
                lanes().picture().laneRect(area, lanes().scrolled(), lane).top() + 3};
    }
    QString told() { return window_->statusText(); }
    int64_t begin(const MarkerRef& marker) {
        return recording().lanes[marker.lane].rows[marker.row].begin(marker.index);
    }
    int64_t end(const MarkerRef& marker) { return recording().lanes[marker.lane].rows[marker.row].end(marker.index); }
    /// The first row of a table whose first column has these words.
    static Table::Row rowNamed(const Table& table, const std::string& name) {
        for (Table::Row row = 0; row < table.rowLimit(); ++row)
            if (table.value(row, 0) == TableValue(name)) return row;
        return Table::kTop;
    }
    /// The entries of a menu of the window, by the names of the menus on the way.
    QStringList entriesOf(const QMenu& menu) {
        QStringList names;
        for (const QAction* action : menu.actions()) names << action->text().remove('&');
        return names;
    }

private slots:
    void aClickChoosesTheInstantForTables() {
        openDemo();
        openPage("instant");
        settle();
        auto& page = window_->drawer().page<InstantPage>();
        const MarkerRef spray = markerNamed("GPU graphics", "Spray");
        QVERIFY(spray.valid());
        clickInLanes(placeOf(spray));
        settle();
        QCOMPARE(selection().marker(), spray);
        const int64_t at = selection().instant().value();
        QVERIFY(begin(spray) < at && at < end(spray));
        EVENTUALLY_ELSE_SAY(told().contains("instant " + toQString(exactText(at - recording().begin))),
                            qPrintable(told()));
        QCOMPARE(page.title(), "At " + toQString(instantText(at - recording().begin)));
        const auto table = page.view().table();
        const Table::Row gpu = rowNamed(*table, "GPU graphics");
        QVERIFY(gpu != Table::kTop);
        QCOMPARE(table->value(gpu, kInstantValue), TableValue(std::string("Scene ▸ Spray")));
        QCOMPARE(table->value(gpu, kInstantFor), TableValue(at - begin(spray)));
        QCOMPARE(table->value(gpu, kInstantWhole), TableValue(end(spray) - begin(spray)));
        // The picture of the screen that was there, large.
        const size_t picture = pictureAt(recording(), at);
        QVERIFY(picture != kNoPicture && recording().pictures[picture].time <= at);
        QVERIFY(page.screen().isVisible());
        QCOMPARE(page.screen().picture().width(), static_cast<int>(recording().pictures[picture].width));
        QVERIFY(page.screen().accessibleDescription().endsWith("earlier"));
        // Another page of the instant follows, and so does this one.
        clickInLanes(placeOf(spray) + QPoint(40, 0));
        settle();
        QVERIFY(selection().instant().value() > at);
        QCOMPARE(page.title(), "At " + toQString(instantText(*selection().instant() - recording().begin)));
        openPage("counters");
        settle();
        QVERIFY(window_->drawer().page<CountersPage>().about().contains(
            toQString(instantText(*selection().instant() - recording().begin))));
        // Another frame is selected: the tables tell of its begin again.
        key(Qt::Key_N);
        settle();
        QVERIFY(!selection().instant());
    }

    void theInstantIsALineThroughStripAndLanes() {
        openDemo();
        const MarkerRef spray = markerNamed("GPU graphics", "Spray");
        clickInLanes(placeOf(spray));
        settle();
        const auto dark = [](const QImage& image, int x) {
            int count = 0;
            for (int y = 0; y < image.height(); ++y) count += image.pixelColor(x, y).lightness() < 80;
            return count;
        };
        QWidget& viewport = *lanes().viewport();
        const QImage with = viewport.grab().toImage(), strip = window_->strip().grab().toImage();
        const int x = static_cast<int>(lanes().picture().xAt(viewport.rect(), *selection().instant()));
        QVERIFY(dark(with, x) > viewport.height() * 9 / 10);
        selection().chooseInstant(std::nullopt);
        QVERIFY(dark(viewport.grab().toImage(), x) < viewport.height() / 2);
        QVERIFY(window_->strip().grab().toImage() != strip);
        // Escape takes it away, too.
        clickInLanes(placeOf(spray));
        QVERIFY(selection().instant());
        key(Qt::Key_Escape);
        QVERIFY(!selection().instant());
    }

    void measuresFromEdgeToEdge() {
        openDemo();
        const MarkerRef wait = markerNamed("main", "Wait for render");
        selection().lookAtMarker(wait);
        settle();
        key(Qt::Key_M);  // from its begin
        QCOMPARE(selection().anchor(), std::optional(begin(wait)));
        key(Qt::Key_Period);
        settle();
        const int64_t first = selection().instant().value();
        QVERIFY(first > begin(wait) && first <= end(wait));
        for (int i = 0; i < 20 && selection().instant() < end(wait); ++i) {
            key(Qt::Key_Period);
            settle();
        }
        QCOMPARE(selection().instant(), std::optional(end(wait)));
        const QString exact = QString::number(end(wait) - begin(wait)) + " ns";
        QVERIFY2(lanes().measuredText().contains(exact), qPrintable(lanes().measuredText()));
        EVENTUALLY_ELSE_SAY(told().contains(exact), qPrintable(told()));
        key(Qt::Key_C, Qt::ControlModifier | Qt::ShiftModifier);
        QCOMPARE(QApplication::clipboard()->text(), lanes().measuredText());
        key(Qt::Key_Comma);
        settle();
        QVERIFY(selection().instant() < end(wait));
        // Over the edges of frames and points.
        const Frame& frame = explanation().frame(selection().frame());
        key(Qt::Key_Period, Qt::ControlModifier);
        settle();
        QCOMPARE(selection().instant(), std::optional(frame.end));
        key(Qt::Key_Comma, Qt::ControlModifier);
        settle();
        QCOMPARE(selection().instant(), std::optional(frame.begin));
        key(Qt::Key_Period, Qt::AltModifier);
        settle();
        const int64_t point = selection().instant().value();
        QVERIFY(std::any_of(recording().points.begin(), recording().points.end(),
                            [&](const Point& p) { return p.time == point; }));
        QVERIFY(selection().view().begin <= point && point < selection().view().end);  // brought into view
        key(Qt::Key_Period, Qt::ControlModifier | Qt::AltModifier);
        settle();
        QVERIFY(selection().instant().value() > point);
        key(Qt::Key_M);
        QVERIFY(!selection().anchor());
        QVERIFY(lanes().measuredText().isEmpty());
    }

    void measuresToThePointer() {
        openDemo();
        const MarkerRef spray = markerNamed("GPU graphics", "Spray");
        selection().lookAtMarker(spray);
        settle();
        key(Qt::Key_M);
        QCOMPARE(selection().anchor(), std::optional(begin(spray)));
        // Near the end of the marker the pointer is at its end.
        const QRect box = lanes().picture().markerRect(lanes().viewport()->rect(), lanes().scrolled(), spray);
        QTest::mouseMove(lanes().viewport(), QPoint(box.right() - 1, box.center().y()));
        QVERIFY2(lanes().measuredText().contains(QString::number(end(spray) - begin(spray)) + " ns"),
                 qPrintable(lanes().measuredText()));
        QTest::mouseMove(lanes().viewport(), QPoint(box.center().x(), box.center().y()));
        const QString other = lanes().measuredText();
        QVERIFY(!other.isEmpty() && !other.contains(QString::number(end(spray) - begin(spray)) + " ns"));
        // Without the pointer it goes to the instant.
        QEvent leave(QEvent::Leave);
        QApplication::sendEvent(lanes().viewport(), &leave);
        QVERIFY(lanes().measuredText().isEmpty());
        key(Qt::Key_Escape);
        QVERIFY(!selection().anchor());
    }

    void goesToWhatAMarkerGoesWithAndBack() {
        openDemo();
        const MarkerRef wait = markerNamed("main", "Wait for render");
        selection().lookAtMarker(wait);
        settle();
        QVERIFY(lanes().connections());
        QCOMPARE(lanes().connections()->list.size(), size_t{1});
        const Connection there = lanes().connections()->list.front();
        QVERIFY(there.marker.valid() && there.marker.lane == laneNamed("render"));
        key(Qt::Key_G);
        settle();
        QCOMPARE(selection().marker(), there.marker);
        QCOMPARE(selection().instant(), std::optional(there.there));
        // Back: by what that marker is connected with.
        const auto& back = lanes().connections()->list;
        const auto found =
            std::find_if(back.begin(), back.end(), [&](const Connection& c) { return c.marker == wait; });
        QVERIFY(found != back.end());
        lanes().goTo(*found);
        settle();
        QCOMPARE(selection().marker(), wait);
        // A marker that is connected with nothing says so.
        selection().lookAtMarker(markerNamed("main", "Cull"));
        settle();
        QVERIFY(lanes().connections() && lanes().connections()->list.empty());
        key(Qt::Key_G);
        QCOMPARE(window_->statusBar()->currentMessage(),
                 QString("No other marker is known to be connected with this one."));
    }

    void connectionsAreDrawn() {
        openDemo();
        const MarkerRef wait = markerNamed("render", "Wait for GPU");
        selection().lookAtMarker(wait);
        settle();
        QVERIFY(!lanes().connections()->list.empty());
        const QImage with = lanes().viewport()->grab().toImage();
        lanes().picture().setConnections(nullptr);
        lanes().viewport()->update();
        QVERIFY(lanes().viewport()->grab().toImage() != with);
    }

    void theMenuOffersWhatCanBeDone() {
        openDemo();
        const MarkerRef wait = markerNamed("main", "Wait for render");
        selection().lookAtMarker(wait);
        settle();
        QStringList entries, goes;
        const auto look = [&] {
            auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
            if (!menu) return;
            entries = entriesOf(*menu);
            for (QAction* action : menu->actions())
                if (action->text().remove('&') == "Connected with") goes = entriesOf(*action->menu());
            menu->close();
        };
        QTimer::singleShot(100, this, look);
        QContextMenuEvent asked(QContextMenuEvent::Keyboard, QPoint(0, 0), QPoint(0, 0));
        QApplication::sendEvent(&lanes(), &asked);
        for (const char* name : {"Zoom to the marker", "Select its time", "Show its occurrences", "Connected with",
                                 "Measure from here", "Copy name and times"})
            QVERIFY2(entries.contains(name), name);
        QCOMPARE(goes.size(), 1);
        QVERIFY2(goes.front().startsWith("The wait was ended by ‘"), qPrintable(goes.front()));
    }

    void aPointLeadsToItsMarker() {
        openDemo();
        selection().showWhole();
        settle();
        const Point& point = recording().points[recording().points.size() / 2];
        const int64_t half = 5'000'000;
        selection().showSpan(point.time - half, point.time + half);
        settle();
        const QRect area = lanes().viewport()->rect();
        const auto& tracks = lanes().picture().tracks().tracks();
        size_t track = 0;
        while (tracks[track].kind != TrackPicture::Kind::Points) ++track;
        QScrollBar& bar = *lanes().verticalScrollBar();
        bar.setValue(lanes().picture().trackRect(area, 0, track).center().y() - area.height() / 2);
        const QRect box = lanes().picture().trackRect(area, lanes().scrolled(), track);
        clickInLanes({static_cast<int>(lanes().picture().xAt(area, point.time)), box.center().y()});
        settle();
        QCOMPARE(selection().instant(), std::optional(point.time));
        QVERIFY(selection().marker().valid());
        QCOMPARE(selection().marker().lane, point.lane);
        QVERIFY(begin(selection().marker()) <= point.time && point.time <= end(selection().marker()));
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::LookingAppTest)
#include "looking_app_test.moc"
