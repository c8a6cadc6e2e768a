// SPDX-License-Identifier: GPL-3.0-or-later
//
// The page of events in the real window: scrolled through its windows of rows, filtered, followed both ways.
#include <QMenu>
#include <QProcess>
#include <QScrollBar>
#include <QToolButton>

#include "app/drawer/events_page.h"
#include "app/settings/settings.h"
#include "app/theme/words.h"
#include "core/table/writing.h"
#include "format/opening.h"
#include "window_test.h"

namespace fugato {

class EventsAppTest : public WindowTest {
    Q_OBJECT

    EventsPage& page() { return window_->drawer().page<EventsPage>(); }
    TableView& view() { return page().view(); }
    /// The demo with the page in sight, of the whole recording.
    void openWhole() {
        settings::tablesLarge().set(true);
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        openDemo();
        openPage("events");
        ScopeChoice whole;
        whole.of = ScopeChoice::Of::Whole;
        selection().chooseScope(whole);
        settle();
        QVERIFY(view().table() && view().whole()->rowLimit() > 1'000'000);
    }
    QScrollBar& bar() {
        for (QScrollBar* one : view().findChildren<QScrollBar*>())
            if (one->accessibleName() == "Place in the table") return *one;
        qFatal("no bar over all rows");
    }
    uint64_t chosenRow() {
        const QModelIndex index = view().currentIndex();
        return index.isValid() ? uint64_t{view().firstRow()} + TableModel::rowOf(index) : UINT64_MAX;
    }
    void press(Qt::Key which) {
        view().setFocus();
        QTest::keyClick(&view(), which);
        settle();
    }
    /// An entry of the menu of kinds, severities and categories.
    void chooseEntry(const QStringList& names) {
        QMenu* menu = page().which().menu();
        emit menu->aboutToShow();
        for (const QString& name : names) {
            const auto all = menu->actions();
            const auto found = std::find_if(all.begin(), all.end(),
                                            [&](QAction* action) { return action->text().remove('&') == name; });
            QVERIFY2(found != all.end(), qPrintable(name));
            if ((*found)->menu())
                menu = (*found)->menu();
            else
                (*found)->trigger();
        }
        settle();
    }

private slots:
    void theInstantIsALineAmongTheEvents() {
        openWhole();
        const Recording& r = *window_->document().recording();
        selection().chooseMarker({});
        const int64_t at = r.begin + (r.end - r.begin) / 3;
        selection().chooseInstant(at);
        settle();
        QVERIFY(view().line().has_value());
        const auto whole = view().whole();
        QVERIFY(std::get<int64_t>(whole->value(*view().line(), kEventTime)) >= at);
        QVERIFY(std::get<int64_t>(whole->value(*view().line() - 1, kEventTime)) < at);
        // In sight, in the middle.
        QVERIFY(view().topRow() < *view().line() && *view().line() < view().topRow() + 40);
        const QImage with = view().viewport()->grab().toImage();
        selection().chooseInstant(std::nullopt);
        settle();
        QVERIFY(!view().line());
        QVERIFY(view().viewport()->grab().toImage() != with);
    }

    void rowsAreReadWhereOneScrolls() {
        openWhole();
        const auto whole = view().whole();
        QVERIFY(view().table() != whole && view().table()->rowLimit() < 10'000);
        QVERIFY(bar().isVisible());
        QCOMPARE(view().topRow(), 0u);
        // By the bar, anywhere.
        bar().setValue(600'000);
        settle();
        QCOMPARE(view().topRow(), 600'000u);
        QVERIFY(view().table()->value(0, kEventTime) == whole->value(view().firstRow(), kEventTime));
        // By keys, from window to window.
        press(Qt::Key_Home);
        QCOMPARE(chosenRow(), uint64_t{0});
        for (int i = 0; i < 300; ++i) press(Qt::Key_PageDown);
        QVERIFY2(chosenRow() > 4500 && chosenRow() < 9000, qPrintable(QString::number(chosenRow())));
        const uint64_t at = chosenRow();
        press(Qt::Key_Down);
        QCOMPARE(chosenRow(), at + 1);
        QVERIFY(view().viewport()->rect().intersects(view().visualRect(view().currentIndex())));
        press(Qt::Key_End);
        QCOMPARE(chosenRow(), uint64_t{whole->rowLimit()} - 1);
        QCOMPARE(bar().value(), bar().maximum());
        for (int i = 0; i < 300; ++i) press(Qt::Key_PageUp);
        QVERIFY(chosenRow() < whole->rowLimit() - 4500u);
        // By the wheel: the bar tells where.
        const Table::Row top = view().topRow();
        QWheelEvent turn(QPointF(50, 50), view().viewport()->mapToGlobal(QPointF(50, 50)), QPoint(), QPoint(0, -120),
                         Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase, false);
        QApplication::sendEvent(view().viewport(), &turn);
        settle();
        QVERIFY(view().topRow() > top);
        QCOMPARE(bar().value(), static_cast<int>(view().topRow()));
    }

    void lanesAndRowsLeadToEachOther() {
        openWhole();
        bar().setValue(300'000);
        settle();
        // A row that tells of a marker: it is chosen in the lanes.
        Table::Row row = view().topRow() - view().firstRow() + 2;
        while (!view().table()->place(row).marker.valid()) ++row;
        const QModelIndex index = view().rows().indexOf(row);
        const MarkerRef marker = view().table()->place(row).marker;
        QVERIFY(marker.valid());
        QTest::mouseClick(view().viewport(), Qt::LeftButton, {}, view().visualRect(index).center());
        QCOMPARE(selection().marker(), marker);
        settle();
        // One that is chosen elsewhere: its row comes into sight.
        const MarkerRef other{marker.lane, 0, 3};
        selection().showMarker(other, true);
        settle();
        const QModelIndex now = view().currentIndex();
        QVERIFY(view().table()->place(TableModel::rowOf(now)).marker == other);
        QVERIFY(view().viewport()->rect().intersects(view().visualRect(now)));
    }

    void kindsSeverityCategoryAndWordsFilter() {
        openWhole();
        const uint32_t all = view().whole()->rowLimit();
        chooseEntry({"Markers"});
        QVERIFY(view().whole()->rowLimit() < all);
        QCOMPARE(page().which().text(), QString("11 kinds"));
        chooseEntry({"All events"});
        QCOMPARE(view().whole()->rowLimit(), all);
        page().filter().setText("spray");
        settle();
        QVERIFY(view().whole()->rowLimit() < all / 4);
        QVERIFY(page().about().endsWith("events"));
        for (int row = 0; row < 20; ++row) {
            QString texts;
            for (size_t c = 0; c < view().table()->columns().size(); ++c)
                texts += toQString(valueText(view().table()->columns()[c], view().table()->value(Table::Row(row), c)));
            QVERIFY2(texts.contains("spray", Qt::CaseInsensitive) || texts.contains("link"), qPrintable(texts));
        }
        page().filter().setText("no such thing");
        settle();
        QCOMPARE(view().rows().rowCount(), 0);
        page().filter().clear();
        chooseEntry({"Severity of points", "From warning on"});
        QVERIFY(page().which().text().contains("warnings"));
        QVERIFY(view().whole()->rowLimit() < all);
        chooseEntry({"All events"});
        // Chosen kinds are remembered.
        for (const char* kind : {"Waits", "Frames"}) chooseEntry({kind});
        QCOMPARE(settings::eventsKinds().get(), int(EventFilter().kinds & ~6u));
        const uint32_t fewer = view().whole()->rowLimit();
        openWhole();
        QCOMPARE(view().whole()->rowLimit(), fewer);
        settings::eventsKinds().set(-1);
    }

    void theyAreSortedByAClick() {
        openDemo();
        window_->drawer().show("events");
        settle();
        const auto timeOf = [this](Table::Row row) {
            return std::get<int64_t>(view().table()->value(row, kEventTime));
        };
        selection().chooseInstant(timeOf(20));
        settle();
        QVERIFY(view().line());
        view().sortByColumn(kEventDuration, Qt::DescendingOrder);
        settle();
        QVERIFY(!view().line());  // it would say nothing here
        const auto longest = std::get<int64_t>(view().table()->value(0, kEventDuration));
        QVERIFY(longest >= std::get<int64_t>(view().table()->value(1, kEventDuration)) && longest > 20'000'000);
        view().sortByColumn(kEventTime, Qt::AscendingOrder);
        settle();
        QVERIFY(view().line() && timeOf(0) <= timeOf(1));
        view().sortByColumn(kEventTime, Qt::DescendingOrder);
        settle();
        QVERIFY(!view().line());
        // Of all of the recording there are too many to hold them all: said.
        ScopeChoice whole;
        whole.of = ScopeChoice::Of::Whole;
        selection().chooseScope(whole);
        settle();
        view().sortByColumn(kEventName, Qt::AscendingOrder);
        settle();
        QVERIFY2(page().about().contains(QString::fromStdString("the first " + countText(300'000) + " in this order")),
                 qPrintable(page().about()));
        const auto name = [&](int row) {
            return QString::fromStdString(std::get<std::string>(view().table()->value(row, kEventName))).toLower();
        };
        QVERIFY(name(0) <= name(1) && name(1) <= name(100));
        view().sortByColumn(kEventTime, Qt::AscendingOrder);
        settle();
        QVERIFY2(!page().about().contains("the first"), qPrintable(page().about()));
        QVERIFY(timeOf(0) <= timeOf(1) && timeOf(1) <= timeOf(100));
        selection().chooseMarker({});
        selection().chooseInstant(timeOf(5));
        settle();
        QVERIFY(view().line());
        // One who goes on from there is not brought back to the line.
        const Table::Row far = view().whole()->rowLimit() / 2;
        view().showRow(far);
        settle();
        QVERIFY(view().topRow() > far - 100 && view().topRow() <= far);
    }

    void theLastEventsOfEachLaneAreAtOneKey() {
        openWhole();
        window_->drawer().show("markers");
        ScopeChoice frame;
        frame.of = ScopeChoice::Of::Frame;
        selection().chooseScope(frame);
        key(Qt::Key_L, Qt::ControlModifier | Qt::ShiftModifier);
        settle();
        QCOMPARE(window_->drawer().shown(), QString("events"));
        QVERIFY(view().table()->nested());
        const Recording& r = *window_->document().recording();
        const auto tells =
            std::count_if(r.lanes.begin(), r.lanes.end(), [](const Lane& lane) { return lane.kind != LaneKind::Core; });
        QCOMPARE(view().rows().rowCount(), static_cast<int>(tells));
        QVERIFY(page().holdButton()->isChecked());  // to the whole recording
        const QModelIndex lane = view().rows().index(0, 0);
        QVERIFY(view().isExpanded(lane));
        QVERIFY(view().rows().rowCount(lane) > 2);
        const QModelIndex last = view().rows().index(view().rows().rowCount(lane) - 1, 0, lane);
        view().scrollTo(last);
        QTest::mouseClick(view().viewport(), Qt::LeftButton, {}, view().visualRect(last).center());
        const TablePlace place = view().table()->place(TableModel::rowOf(last));
        QVERIFY(selection().view().begin <= place.begin && place.begin <= selection().view().end);
        page().order().setCurrentIndex(0);
        emit page().order().activated(0);
        settle();
        QVERIFY(view().whole()->ordered());
    }

    void whatIsInSightAndChosenStaysWhileARecordingGrows() {
        settings::tablesLarge().set(true);
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        const QString path = folder_.filePath("growing.fugato");
        QProcess program;
        openGrowing(program, path);
        ScopeChoice whole;
        whole.of = ScopeChoice::Of::Whole;
        selection().chooseScope(whole);
        openPage("events");
        const auto rows = [&] { return view().whole() ? view().whole()->rowLimit() : 0; };
        EVENTUALLY(rows() > 9000 && !page().busy());  // the first rows are there
        bar().setValue(5000);
        EVENTUALLY_EQUAL(view().topRow(), 5000u);
        const QModelIndex row = view().indexAt(QPoint(5, view().viewport()->height() / 2));
        view().setCurrentIndex(row);
        const auto keyAt = [&](const QModelIndex& index) {
            return index.isValid() ? view().table()->keyOf(TableModel::rowOf(index)) : 0;
        };
        const uint64_t chosen = keyAt(row), top = keyAt(view().indexAt(QPoint(0, 0)));
        const uint32_t before = rows();
        EVENTUALLY(rows() > before + 2000);
        EVENTUALLY(!page().busy());
        QCOMPARE(keyAt(view().currentIndex()), chosen);
        QCOMPARE(keyAt(view().indexAt(QPoint(0, 0))), top);
        program.kill();
        program.waitForFinished(kPatience);
        makeRecordingWhole(path.toStdString());
    }

    void allRowsAreSavedHoweverMany() {
        openWhole();
        chooseEntry({"Markers"});
        chooseEntry({"Links"});
        const QString path = folder_.filePath("events.csv");
        QSignalSpy said(&view(), &TableView::said);
        view().saveAs(path);
        EVENTUALLY(!said.isEmpty() && said.back()[0].toString().startsWith("Saved"));
        QFile file(path);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray text = file.readAll();
        QCOMPARE(text.count("\r\n"), static_cast<qsizetype>(view().whole()->rowLimit()) + 1);
        QVERIFY(text.startsWith("time_ns,lane,event,name,duration_ns,details,inside,category\r\n"));
        chooseEntry({"All events"});
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::EventsAppTest)
#include "events_app_test.moc"
