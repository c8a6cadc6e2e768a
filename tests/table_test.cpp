// SPDX-License-Identifier: GPL-3.0-or-later
//
// Tables: sorted, filtered and written as they say; and on the screen, where they are clicked, copied, saved and
// remembered.
#include <QAbstractItemModelTester>
#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QHeaderView>
#include <QMenu>
#include <QSettings>
#include <QSignalSpy>
#include <QTemporaryDir>
#include <QtTest>
#include <nlohmann/json.hpp>
#include <random>
#include <sstream>

#include "app/parts/elided_label.h"
#include "app/settings/settings.h"
#include "app/table/table_view.h"
#include "core/ask/answer_tables.h"
#include "core/store/long_work.h"
#include "core/table/first_in_order.h"
#include "core/table/writing.h"
#include "testing/explaining.h"
#include "testing/patience.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

/// Rows made of what a test says: a name, a number (or none), and the row it lies in.
class MadeTable : public NestedTable {
public:
    struct Made {
        std::string name;
        std::optional<int64_t> time;
        Row parent = kTop;
    };
    explicit MadeTable(std::vector<Made> rows) : rows_(std::move(rows)) {
        std::vector<Row> top;
        std::vector<std::vector<Row>> children(rows_.size());
        for (Row row = 0; row < rows_.size(); ++row)
            (rows_[row].parent == kTop ? top : children[rows_[row].parent]).push_back(row);
        nest(top, children);
    }
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> columns{{"name", "Name", Quantity::Text, ""},
                                                      {"time_ns", "Time", Quantity::Duration, "How long"}};
        return columns;
    }
    TableValue value(Row row, size_t column) const override {
        if (column == 0) return rows_[row].name;
        return rows_[row].time ? TableValue(*rows_[row].time) : TableValue();
    }

private:
    const std::vector<Made> rows_;
};

/// A long table whose sorting takes its time.
class SlowlySorted : public WindowedTable {
public:
    SlowlySorted(uint32_t rows, std::atomic<int>& ended) : WindowedTable(100), rows_(rows), ended_(ended) {}
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> columns{{"name", "Name", Quantity::Text, ""}};
        return columns;
    }
    uint32_t rowLimit() const override { return rows_; }
    std::shared_ptr<const Table> window(Row first, uint32_t count) const override {
        std::vector<MadeTable::Made> rows;
        for (Row row = first; row < std::min(rows_, first + count); ++row)
            rows.push_back({"row " + std::to_string(row), {}});
        return std::make_shared<MadeTable>(rows);
    }
    std::shared_ptr<const Table> sorted(size_t, bool, const Progress& progress) const override {
        for (int step = 0; step < 30; ++step) {
            if (!progress(step / 30.0)) return nullptr;
            QThread::msleep(5);
        }
        ++ended_;
        return std::make_shared<SlowlySorted>(rows_, ended_);
    }

private:
    const uint32_t rows_;
    std::atomic<int>& ended_;
};

/// Many rows that lie below nothing and are worked out when they are looked at.
class LongTable : public Table {
public:
    explicit LongTable(uint32_t rows) : limit_(rows) {}
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> columns{{"name", "Name", Quantity::Text, ""},
                                                      {"count", "Count", Quantity::Count, ""}};
        return columns;
    }
    uint32_t rowLimit() const override { return limit_; }
    Row rowBelow(Row, uint32_t position) const override {
        ++placed;
        return position;
    }
    TableValue value(Row row, size_t column) const override {
        ++looked;
        return column ? TableValue(int64_t{(row * 7919u) % 1000u}) : TableValue("row " + std::to_string(row));
    }
    mutable std::atomic<uint64_t> looked{0}, placed{0};

private:
    const uint32_t limit_;
};

std::shared_ptr<const MadeTable> harbour() {
    return std::make_shared<MadeTable>(std::vector<MadeTable::Made>{{"pier", 30},
                                                                    {"mast, \"tall\"", 5, 0},
                                                                    {"Sail", 20, 0},
                                                                    {"jib", std::nullopt, 0},
                                                                    {"quay", 10},
                                                                    {"sailor\nasleep", 10, 4}});
}

/// The names in order, what lies below a row in brackets behind it.
std::string namesIn(const Table& table, Table::Row parent = Table::kTop) {
    std::string out;
    for (uint32_t i = 0; i < table.countBelow(parent); ++i) {
        const Table::Row row = table.rowBelow(parent, i);
        if (table.positionOf(row) != i || table.parentOf(row) != parent) return "wrong place";
        out += (i ? " " : "") + std::get<std::string>(table.value(row, 0)).substr(0, 4);
        if (table.countBelow(row)) out += "(" + namesIn(table, row) + ")";
    }
    return out;
}

}  // namespace

class TableTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;

private slots:
    void initTestCase() {
        QApplication::setOrganizationName("Fugato");
        QApplication::setApplicationName("table test");
        QSettings::setDefaultFormat(QSettings::IniFormat);
        QSettings::setPath(QSettings::IniFormat, QSettings::UserScope, folder_.path());
    }
    void init() { settings::clearAll(); }

    void whatGrowsQuickerThanItIsSortedIsSortedAllTheSame() {
        std::atomic<int> ended{0};
        TableView view("slowly", -1, Qt::AscendingOrder);
        view.resize(300, 300);
        view.show();
        view.setTable(std::make_shared<SlowlySorted>(1000, ended), false);
        EVENTUALLY(!view.reading());
        view.sortByColumn(0, Qt::AscendingOrder);
        for (uint32_t rows = 1001; rows <= 1040; ++rows) {  // each comes while the one before is being sorted
            QTest::qWait(10);
            view.setTable(std::make_shared<SlowlySorted>(rows, ended), true);
        }
        QVERIFY2(ended > 0, "none came to its end");
        EVENTUALLY(!view.reading());
        QCOMPARE(view.whole()->rowLimit(), 1040u);
        QVERIFY2(ended < 20, qPrintable(QString::number(ended)));
    }

    void aLineThatHasTooLittleRoomSaysSo() {
        ElidedLabel label(nullptr);
        label.setText("1 252 069 events");
        label.resize(400, 20);
        QCOMPARE(label.shownText(), label.text());
        label.resize(label.fontMetrics().horizontalAdvance("1 252 069 e"), 20);
        QVERIFY2(label.shownText().endsWith("…"), qPrintable(label.shownText()));
    }

    void whereNothingCanBeWrittenNoMoreIsLookedAt() {
        std::ostringstream full;
        full.setstate(std::ios::badbit);
        for (const bool json : {false, true}) {
            const LongTable table(10'000'000);
            QVERIFY(json ? writeJson(table, full) : writeCsv(table, full));
            QVERIFY2(table.looked > 0 && table.looked < 20'000, qPrintable(QString::number(table.looked)));
        }
    }

    void theFirstInAnOrderAreTheFirstOfASort() {
        std::mt19937 random(11);
        std::vector<int> all(50'000);
        for (int& one : all) one = static_cast<int>(random() % 9000);
        const auto nameOf = [](int one) {
            return one % 70 ? (one % 2 ? "boat " : "Boat ") + std::to_string(one) : std::string();
        };
        const auto valueOf = [](int one) { return one % 90 ? std::optional<int64_t>(one) : std::nullopt; };
        const auto rows = [&](const std::vector<int>& some, bool) {
            std::vector<MadeTable::Made> made;
            for (const int one : some) made.push_back({nameOf(one), valueOf(one)});
            return std::make_shared<const MadeTable>(made);
        };
        const auto read = [&](uint64_t first, size_t count) {
            const auto at = [&](size_t i) { return all.begin() + std::ptrdiff_t(std::min(i, all.size())); };
            return std::vector<int>(at(first), at(first + count));
        };
        const auto whole = rows(all, false);
        const LongList<int> list{whole, all.size(), 700, read, rows, [](int, const MarkerRef&) { return false; }};
        for (const uint32_t column : {0u, 1u})
            for (const bool descending : {false, true})
                for (const size_t most : {size_t{1}, size_t{300}, size_t{49'999}, size_t{60'000}}) {
                    Arrangement by;
                    by.column = column;
                    by.descending = descending;
                    const auto slow = arranged(whole, by);
                    const auto first = FirstInOrder<int>::of(list, column, descending, most, {});
                    QCOMPARE(size_t(first->rowLimit()), std::min(most, all.size()));
                    QCOMPARE(first->leftOut(), uint64_t(all.size() - first->rowLimit()));
                    for (Table::Row row = 0; row < first->rowLimit(); ++row)
                        for (const size_t shown : {0, 1})
                            QVERIFY(first->value(row, shown) == slow->value(slow->rowBelow(Table::kTop, row), shown));
                }
        QVERIFY(!FirstInOrder<int>::of(list, 0, false, 10, [](double) { return false; }));
    }

    void whatIsRememberedIsWrittenElsewhereAndTakenOverFromOthers() {
        const Setting<int> width("test/width", 5);
        const Setting<QStringList> names("test/names", {"usual"});
        QCOMPARE(width.get(), 5);
        QCOMPARE(names.get(), QStringList{"usual"});
        width.set(7);
        names.set({"one"});
        QCOMPARE(width.get(), 7);
        EVENTUALLY_EQUAL(QSettings().value("test/width").toInt(), 7);  // soon
        QCOMPARE(names.get(), QStringList{"one"});
        // Another window writes; and here something else is changed meanwhile.
        {
            QSettings other;
            other.setValue("test/width", 9);
            other.setValue("test/names", QStringList{"two", "three"});
        }
        QCOMPARE(width.get(), 7);  // not heard of yet
        settings::refresh();
        names.set({});
        EVENTUALLY_EQUAL(width.get(), 9);
        QVERIFY(names.get().isEmpty());
        settings::writeNow();
        QCOMPARE(QSettings().value("test/width").toInt(), 9);
        QVERIFY(QSettings().value("test/names").toStringList().isEmpty());
        settings::removeValue("test/width");
        QCOMPARE(width.get(), 5);
        settings::clearAll();
        QVERIFY(QSettings().allKeys().isEmpty());
        QCOMPARE(names.get(), QStringList{"usual"});
    }

    // ---- without a screen ---------------------------------------------------------------------------

    void rowsAreSortedWithinWhatTheyLieIn() {
        const auto table = harbour();
        QCOMPARE(namesIn(*table), std::string("pier(mast Sail jib) quay(sail)"));
        QCOMPARE(arranged(table, {}).get(), static_cast<const Table*>(table.get()));
        QCOMPARE(namesIn(*arranged(table, {1, true, ""})), std::string("pier(Sail mast jib) quay(sail)"));
        QCOMPARE(namesIn(*arranged(table, {1, false, ""})),
                 std::string("quay(sail) pier(mast Sail jib)"));  // none: last
        QCOMPARE(namesIn(*arranged(table, {0, false, ""})), std::string("pier(jib mast Sail) quay(sail)"));
        QCOMPARE(namesIn(*arranged(table, {0, true, ""})), std::string("quay(sail) pier(Sail mast jib)"));
    }

    void aFilterKeepsWhatHoldsTheLettersAndWhatLiesAboveAndBelow() {
        const auto table = harbour();
        QCOMPARE(namesIn(*arranged(table, {kNone, false, "SAIL"})), std::string("pier(Sail) quay(sail)"));
        QCOMPARE(namesIn(*arranged(table, {kNone, false, "pier"})), std::string("pier(mast Sail jib)"));
        QCOMPARE(namesIn(*arranged(table, {1, false, "sail"})), std::string("quay(sail) pier(Sail)"));
        QCOMPARE(namesIn(*arranged(table, {kNone, false, "nobody"})), std::string());
        QCOMPARE(arranged(table, {kNone, false, "jib"})->keyOf(3), table->keyOf(3));  // rows keep their numbers
    }

    void randomTablesAreArrangedAsAPlainSortDoes() {
        std::mt19937 random(4);
        for (int round = 0; round < 50; ++round) {
            std::vector<MadeTable::Made> rows;
            const auto size = static_cast<uint32_t>(1 + random() % 60);
            for (uint32_t i = 0; i < size; ++i) {
                MadeTable::Made row{std::string(1, static_cast<char>('a' + random() % 26)), std::nullopt};
                if (random() % 5) row.time = static_cast<int64_t>(random() % 9);
                if (i && random() % 3) row.parent = static_cast<Table::Row>(random() % i);
                rows.push_back(row);
            }
            const auto table = std::make_shared<MadeTable>(rows);
            const bool descending = random() % 2;
            const auto sorted = arranged(table, {1, descending, ""});
            for (uint32_t parent = 0; parent <= size; ++parent) {
                const Table::Row above = parent == size ? Table::kTop : parent;
                std::vector<Table::Row> plain;
                for (uint32_t row = 0; row < size; ++row)
                    if (rows[row].parent == above) plain.push_back(row);
                std::stable_sort(plain.begin(), plain.end(), [&](Table::Row a, Table::Row b) {
                    if (!rows[a].time || !rows[b].time) return rows[a].time.has_value() && !rows[b].time;
                    return descending ? *rows[a].time > *rows[b].time : *rows[a].time < *rows[b].time;
                });
                QCOMPARE(sorted->countBelow(above), static_cast<uint32_t>(plain.size()));
                for (uint32_t i = 0; i < plain.size(); ++i) QCOMPARE(sorted->rowBelow(above, i), plain[i]);
            }
        }
    }

    void arrangingIsCancelled() {
        const auto table = std::make_shared<LongTable>(100'000);
        int asked = 0;
        QVERIFY(!arranged(table, {1, false, ""}, [&](double) { return ++asked < 3; }));
        QCOMPARE(asked, 3);
        QVERIFY(arranged(table, {1, false, ""}, [](double part) { return part >= 0 && part <= 1; }));
    }

    void tablesAreWrittenForOtherPrograms() {
        std::ostringstream csv, json;
        QVERIFY(writeCsv(*harbour(), csv));
        QCOMPARE(csv.str(), std::string("depth,name,time_ns\r\n"
                                        "0,pier,30\r\n"
                                        "1,\"mast, \"\"tall\"\"\",5\r\n"
                                        "1,Sail,20\r\n"
                                        "1,jib,\r\n"
                                        "0,quay,10\r\n"
                                        "1,\"sailor\nasleep\",10\r\n"));
        QVERIFY(writeJson(*harbour(), json));
        const auto read = nlohmann::json::parse(json.str());
        QCOMPARE(read.size(), size_t{2});
        QCOMPARE(read[0]["name"], "pier");
        QCOMPARE(read[0]["below"][0]["name"], "mast, \"tall\"");
        QCOMPARE(read[0]["below"][1]["time_ns"], 20);
        QVERIFY(!read[0]["below"][2].contains("time_ns"));
        std::ostringstream some;
        QVERIFY(!writeCsv(LongTable(10'000), some, [](double) { return false; }));
        std::ostringstream none;
        QVERIFY(writeJson(LongTable(0), none));
        QVERIFY(nlohmann::json::parse(none.str()).empty());
    }

    void deepTablesAreWrittenWithoutRecursion() {
        std::vector<MadeTable::Made> rows{{"0", 1}};
        for (uint32_t i = 1; i < 100'000; ++i) rows.push_back({std::to_string(i), 1, i - 1});
        const auto table = std::make_shared<MadeTable>(rows);
        std::ostringstream csv, json, text;
        QVERIFY(writeCsv(*arranged(table, {1, true, ""}), csv) && writeJson(*table, json));
        QCOMPARE(writeText(*table, text, 2), size_t{1});
        QCOMPARE(QByteArray::fromStdString(csv.str()).count('\n'), 100'001);
    }

    void aPersonReadsAlignedColumns() {
        std::ostringstream out;
        QCOMPARE(writeText(*harbour(), out, 0), size_t{4});
        QCOMPARE(out.str(), std::string(" Time  Name\n30 ns  pier\n10 ns  quay\n"));
    }

    void theFrameTableSaysWhatTheFrameTook() {
        TextRecording t;
        const double at = usualFrames(t, 20);
        workTwice(t, at);
        const auto e = explained(t.open());
        const auto table = tableOfFrame(e, 20);
        Table::Row work = Table::kTop;
        for (Table::Row row = 0; row < table->rowLimit(); ++row)
            if (table->value(row, kMarkerName) == TableValue("Work")) work = row;
        QVERIFY(work != Table::kTop);
        QCOMPARE(table->value(work, kMarkerTotal), TableValue(int64_t{11'000'000}));
        QCOMPARE(table->value(work, kMarkerExcess), TableValue(int64_t{5'000'000}));
        QCOMPARE(valueText(table->columns()[kMarkerExcess], table->value(work, kMarkerExcess)), std::string("+5.00"));
        QVERIFY(table->emphasis(work, kMarkerExcess) == Emphasis::Excess);
        QVERIFY(table->place(work).marker.valid());
        const Table::Row frame = table->parentOf(work), lane = table->parentOf(frame);
        QCOMPARE(table->value(lane, kMarkerName), TableValue("main"));
        QCOMPARE(table->value(lane, kMarkerCalls), TableValue());  // a lane is not called
        QCOMPARE(table->keyOf(work),
                 keyOfPath(table->place(work).lane, e->recording->pathOf(table->place(work).marker)));
    }

    void longWorkOnAThreadThatMustAnswerIsTold() {
        TextRecording t;
        const auto e = explained(t.frame(0, "main").frameEnd(5, "main").open());
        const size_t before = longWorkOnQuickThreads().size();
        std::thread([&] {
            search(*e->recording, "nobody waits for this");
            keepThreadQuick();
            search(*e->recording, "somebody waits for this");
        }).join();
        QCOMPARE(longWorkOnQuickThreads().size(), before + 1);
        QCOMPARE(longWorkOnQuickThreads().back(), std::string("a search"));
    }

    // ---- on the screen ------------------------------------------------------------------------------

    void theModelKeepsTheRulesOfModels() {
        TableModel model;
        const QAbstractItemModelTester tester(&model, QAbstractItemModelTester::FailureReportingMode::QtTest);
        model.setTable(harbour());
        model.sort(1, Qt::DescendingOrder);
        model.setFilter("sail");
        QCOMPARE(model.rowCount(), 2);
        QCOMPARE(model.index(0, 1).data().toString(), QString("30 ns"));
        QCOMPARE(model.index(0, 1).data(TableModel::kRawRole).toLongLong(), 30LL);
        QVERIFY(!model.indexOf(3).isValid());  // left out by the filter
        QCOMPARE(model.headerData(0, Qt::Horizontal, Qt::DisplayRole).toString(), QString("Name"));
        QCOMPARE(model.headerData(1, Qt::Horizontal, Qt::DisplayRole).toString(), QString("Time ▾"));
        QCOMPARE(model.headerData(1, Qt::Horizontal, Qt::ToolTipRole).toString(), QString("How long"));
        model.setFilter("");
        model.sort(-1, Qt::AscendingOrder);
        QCOMPARE(model.rowCount(model.index(0, 0)), 3);
        model.setTable(nullptr);
        QCOMPARE(model.rowCount(), 0);
    }

    void oneOfAMillionRowsCostsWhatIsSeen() {
        const auto table = std::make_shared<LongTable>(1'000'000);
        TableView view("long", -1, Qt::AscendingOrder);
        view.resize(400, 300);
        view.setTable(table, false);
        EVENTUALLY_EQUAL(view.rows().rowCount(), 1'000'000);
        view.show();
        QVERIFY(QTest::qWaitForWindowExposed(&view));
        view.scrollToBottom();
        view.grab();
        QVERIFY2(table->looked < 5000, qPrintable(QString::number(table->looked)));
        // Sorting works elsewhere; the window goes on meanwhile.
        view.sortByColumn(1, Qt::DescendingOrder);
        QVERIFY(view.rows().busy());
        QCOMPARE(view.rows().rowCount(), 1'000'000);
        EVENTUALLY(!view.rows().busy());
        QCOMPARE(view.rows().index(0, 1).data().toString(), QString("999"));
    }

    void allRowsOfATableAreLaidOutOnceAndAnotherIsSeenFromItsTop() {
        constexpr uint32_t kRows = 10'000;  // arranged at once
        TableView view("laid out", -1, Qt::AscendingOrder);
        view.resize(400, 300);
        view.show();
        QVERIFY(QTest::qWaitForWindowExposed(&view));
        for (int round = 0; round < 3; ++round) {
            const auto table = std::make_shared<LongTable>(kRows);
            view.setTable(table, round == 2);
            view.grab();
            QVERIFY2(table->placed >= kRows && table->placed < kRows * 3 / 2,
                     qPrintable(QString::number(table->placed)));
        }
        view.scrollToBottom();
        const int place = view.verticalScrollBar()->value();
        QVERIFY(place > 0);
        view.setTable(std::make_shared<LongTable>(kRows), true);  // the same, told anew
        QCOMPARE(view.verticalScrollBar()->value(), place);
        view.setTable(std::make_shared<LongTable>(kRows), false);
        QCOMPARE(view.verticalScrollBar()->value(), 0);
    }

    void whatIsOpenAndChosenStaysWhenTheTableComesAnew() {
        TableView view("kept", 1, Qt::DescendingOrder);
        view.resize(300, 200);
        view.show();
        view.setTable(harbour(), false);
        view.expand(view.rows().index(0, 0));
        view.showRow(2);
        view.setTable(harbour(), true);
        QVERIFY(view.isExpanded(view.rows().index(0, 0)) && !view.isExpanded(view.rows().index(1, 0)));
        QCOMPARE(TableModel::rowOf(view.currentIndex()), Table::Row{2});
        view.sortByColumn(0, Qt::DescendingOrder);
        QVERIFY(view.isExpanded(view.rows().index(1, 0)));
        QCOMPARE(TableModel::rowOf(view.currentIndex()), Table::Row{2});
        view.setTable(harbour(), false);  // another frame, another marker
        QVERIFY(!view.isExpanded(view.rows().index(1, 0)));
    }

    void rowsAreCopiedAndSaved() {
        TableView view("harbour", -1, Qt::AscendingOrder);
        view.resize(300, 200);
        view.show();
        view.setTable(harbour(), false);
        view.expandAll();
        view.setFocus();
        view.setCurrentIndex(view.rows().index(0, 0));
        QTest::keyClick(&view, Qt::Key_Down, Qt::ShiftModifier);
        QTest::keyClick(&view, Qt::Key_Down, Qt::ShiftModifier);
        QTest::keyClick(&view, Qt::Key_C, Qt::ControlModifier);
        QCOMPARE(QApplication::clipboard()->text(),
                 QString("Name\tTime (ns)\npier\t30\nmast, \"tall\"\t5\nSail\t20\n"));
        QCOMPARE(view.textOf(true).count('\n'), 7);
        QSignalSpy said(&view, &TableView::said);
        const QString file = folder_.filePath("harbour.csv");
        view.saveAs(file);
        EVENTUALLY_EQUAL(said.count(), 1);
        QFile saved(file);
        QVERIFY(saved.open(QIODevice::ReadOnly) && saved.readAll().startsWith("depth,name,time_ns\r\n0,pier,30"));
        view.saveAs("/nowhere/harbour.json");
        EVENTUALLY_EQUAL(said.count(), 2);
        QVERIFY(said.last().front().toString().contains("could not be written"));
    }

    void theContextMenuCopiesSavesAndChoosesColumns() {
        TableView view("menu", -1, Qt::AscendingOrder);
        view.resize(300, 200);
        view.show();
        view.setTable(harbour(), false);
        QStringList names;
        QTimer::singleShot(100, &view, [&] {
            auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
            if (!menu) return;
            for (QAction* action : menu->actions()) names << action->text().remove('&');
            for (QAction* action : menu->actions())
                if (action->text().remove('&') == "Copy all rows") action->trigger();
            menu->close();
        });
        QContextMenuEvent event(QContextMenuEvent::Mouse, {20, 20}, view.viewport()->mapToGlobal(QPoint(20, 20)));
        QApplication::sendEvent(view.viewport(), &event);
        for (const char* name :
             {"Copy rows", "Copy all rows", "Save as…", "Expand all below", "Collapse all", "Columns"})
            QVERIFY2(names.contains(name), qPrintable(names.join(", ")));
        QCOMPARE(QApplication::clipboard()->text().count('\n'), 7);
    }

    void columnsAreRememberedUnderTheTable() {
        const auto shown = [](TableView& view) {
            view.resize(500, 200);
            view.show();
            view.setTable(harbour(), false);
        };
        {
            TableView view("harbour", -1, Qt::AscendingOrder);
            shown(view);
            view.header()->resizeSection(1, 171);
            const QRect title(view.header()->sectionViewportPosition(1), 0, 171, view.header()->height());
            QTest::mouseClick(view.header()->viewport(), Qt::LeftButton, {}, title.center());
            EVENTUALLY_EQUAL(namesIn(*view.table()), std::string("quay(sail) pier(mast Sail jib)"));
        }
        TableView again("harbour", -1, Qt::AscendingOrder), other("sea", -1, Qt::AscendingOrder);
        shown(again);
        shown(other);
        QCOMPARE(again.header()->sectionSize(1), 171);
        QCOMPARE(namesIn(*again.table()), std::string("quay(sail) pier(mast Sail jib)"));
        QVERIFY(other.header()->sectionSize(1) != 171);
        QCOMPARE(namesIn(*other.table()), std::string("pier(mast Sail jib) quay(sail)"));
    }
};

QTEST_MAIN(TableTest)
#include "table_test.moc"
