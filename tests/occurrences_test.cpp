// SPDX-License-Identifier: GPL-3.0-or-later
//
// The list of a marker's occurrences, in each order: against all of them gathered and sorted slowly.
#include <QtTest>
#include <random>

#include "core/ask/occurrence_table.h"
#include "core/ask/scope.h"
#include "core/table/letters.h"
#include "testing/making.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

using Order = OccurrenceOrder;

std::vector<Occurrence> slowly(const Recording& r, uint32_t site, const Scope& scope) {
    std::vector<Occurrence> all;
    for (uint32_t l = 0; l < r.lanes.size(); ++l)
        for (uint32_t row = 0; row < r.lanes[l].rows.size() && scope.has(l); ++row)
            for (uint32_t i = 0; i < r.lanes[l].rows[row].size(); ++i) {
                const MarkerRow& markers = r.lanes[l].rows[row];
                const int64_t begin = markers.begin(i), end = markers.end(i);
                const bool in = std::any_of(scope.stretches.begin(), scope.stretches.end(), [&](const TimeRange& s) {
                    return (begin < s.end && end > s.begin) || (begin == end && begin >= s.begin && begin < s.end);
                });
                if (in && r.paths[markers.path(i)].site == site) all.push_back({{l, row, i}, begin, end - begin});
            }
    return all;
}

std::string insideOf(const Recording& r, const Occurrence& one) {
    const PathId above = r.paths[r.pathOf(one.marker)].parent;
    return above ? lowered(r.pathText(above)) : std::string();
}

std::vector<Occurrence> sortedSlowly(const Recording& r, std::vector<Occurrence> all, Order order, bool descending) {
    const auto key = [&](const Occurrence& one) {
        const std::string inside = insideOf(r, one);
        return std::tuple(order == Order::Duration ? one.duration
                          : order == Order::Begin  ? one.begin
                                                   : int64_t{0},
                          order == Order::Inside && inside.empty() != descending,
                          order == Order::Lane     ? lowered(r.lanes[one.marker.lane].name)
                          : order == Order::Inside ? inside
                                                   : std::string());
    };
    std::stable_sort(all.begin(), all.end(), [&](const auto& a, const auto& b) { return key(a) < key(b); });
    if (descending) std::reverse(all.begin(), all.end());
    return all;
}

/// An empty string, or what is not as it should be.
std::string differs(const std::shared_ptr<const Recording>& r, uint32_t site, const Scope& scope, std::mt19937& random,
                    const std::vector<Order>& orders = {Order::Duration, Order::Begin, Order::Lane, Order::Inside}) {
    const std::vector<Occurrence> all = slowly(*r, site, scope);
    auto list = OccurrenceList::of(r, site, scope, Order::Duration, false);
    for (const Order order : orders)
        for (const bool descending : {false, true}) {
            const std::string which = std::to_string(int(order)) + (descending ? " descending" : "");
            list = list->inOrder(order, descending);
            if (list->size() != all.size()) return "another size";
            const std::vector<Occurrence> slow = sortedSlowly(*r, all, order, descending);
            if (list->read(0, all.size() + 5) != slow) return "another order " + which;
            for (int k = 0; k < 12 && !all.empty(); ++k) {
                const size_t first = random() % all.size(), count = random() % 200;
                const auto from = slow.begin() + static_cast<std::ptrdiff_t>(first);
                const std::vector<Occurrence> part(
                    from, from + static_cast<std::ptrdiff_t>(std::min(count, all.size() - first)));
                if (list->read(first, count) != part) return "another window, order " + which;
                if (list->placeOf(slow[first].marker) != first) return "another place, order " + which;
            }
        }
    return {};
}

/// As many as are not gathered at once, `even`: all of one length.
std::shared_ptr<const Recording> many(bool even) {
    ModelBuilder builder;
    std::mt19937 random(5);
    for (const uint32_t site : {1u, 2u}) {
        SiteDefinition one;
        one.id = site;
        one.name = site == 1 ? "Reef" : "Tack";
        builder.define(one);
    }
    builder.define(KeyDefinition{1, "boats"});
    for (const uint32_t lane : {1u, 2u}) {
        builder.define(LaneDefinition{lane, LaneKind::Thread, 0, lane == 1 ? "worker" : "main", ""});
        int64_t at = 0;
        for (int i = 0; i < 300'000; ++i) {
            const int64_t length = even ? 700 : 1'000'000 + int64_t(random() % 3000);
            builder.event(lane, {at, EventKind::MarkBegin, i % 1000 ? 1u : 2u, 0, 0, {}});
            if (i % 50 == 7) builder.event(lane, {at, EventKind::Argument, 1, uint64_t(i) % 998, 0, {}});
            builder.event(lane, {at + length, EventKind::MarkEnd, 0, 0, 0, {}});
            at += length + int64_t(random() % 20);
        }
    }
    return builder.finish();
}

}  // namespace

class OccurrencesTest : public QObject {
    Q_OBJECT

private slots:
    void randomOnesAreListedAsSlowly() {
        std::mt19937 random(29);
        for (int round = 0; round < 4; ++round) {
            ModelBuilder builder;
            defineTold(builder);
            for (const ToldEvent& told : toldAtRandom(random, 9000)) builder.event(told.lane, told.event);
            const std::shared_ptr<const Recording> r = builder.finish();
            std::vector<TimeRange> ranges;
            for (int i = 0; i < 6; ++i) {
                const int64_t at = r->begin + int64_t(random() % uint64_t(r->end - r->begin));
                ranges.push_back({at, at + (r->end - r->begin) / 20});
            }
            std::vector<Scope> scopes{wholeOf(*r), Scope(ranges), wholeOf(*r)};
            scopes.back().keepOnly(*r, random() % r->lanes.size());
            for (const Scope& scope : scopes)
                for (uint32_t site = 0; site < r->sites.size(); ++site) {
                    const std::string wrong = differs(r, site, scope, random);
                    QVERIFY2(wrong.empty(), wrong.c_str());
                }
        }
    }

    void soManyThatTheyAreNotGatheredAreListedAsSlowly_data() {
        QTest::addColumn<bool>("even");
        QTest::newRow("all of one length") << true;
        QTest::newRow("of nearly one length") << false;
    }
    void soManyThatTheyAreNotGatheredAreListedAsSlowly() {
        QFETCH(const bool, even);
        const auto r = many(even);
        std::mt19937 random(7);
        for (const uint32_t site : {0u, 1u}) {
            const std::string wrong = differs(r, site, wholeOf(*r), random, {Order::Duration});
            QVERIFY2(wrong.empty(), wrong.c_str());
        }
    }

    void lettersFindThemByLaneMarkersAroundAndArguments() {
        const auto r = TextRecording()
                           .begin(0, "main", "Tack")
                           .mark(1, 2, "main", "Reef")
                           .end(3, "main")
                           .begin(4, "main", "Reef")
                           .argument(4, "main", "boat", "\"Curlew\"")
                           .end(6, "main")
                           .mark(1, 9, "worker", "Reef")
                           .open();
        uint32_t site = 0;
        while (r->sites[site].name != "Reef") ++site;
        const auto begins = [&](const std::string& words, size_t most) {
            std::vector<int64_t> times;
            const auto found = occurrencesWith(*r, site, wholeOf(*r), words, most);
            for (const Occurrence& one : *found) times.push_back(one.begin / 1000 + 100 * int64_t(one.marker.lane));
            return times;
        };
        QCOMPARE(begins("tack", 9), std::vector<int64_t>{1});
        QCOMPARE(begins("curlew", 9), std::vector<int64_t>{4});
        QCOMPARE(begins("WORK", 9), std::vector<int64_t>{101});
        QCOMPARE(begins("", 9), (std::vector<int64_t>{4, 1, 101}));
        QCOMPARE(begins("", 2), (std::vector<int64_t>{4, 1}));
        QVERIFY(begins("gull", 9).empty());
        QVERIFY(!occurrencesWith(*r, site, wholeOf(*r), "", 9, [](double) { return false; }));
    }

    void theTableSortsThemItself() {
        const auto r = many(false);
        const auto list = OccurrenceList::of(r, 0, wholeOf(*r), Order::Begin, false);
        const auto table = occurrenceTable(list, kNone);
        QVERIFY(table->ordered());
        QCOMPARE(uint64_t(table->rowLimit()), list->size());
        Arrangement longest;
        longest.column = kOccurrenceDuration;
        longest.descending = true;
        longest.words = "not heeded";
        const auto sorted = arranged(table, longest);
        const auto first = longestOccurrences(*r, 0, wholeOf(*r), 1)->front();
        QCOMPARE(std::get<int64_t>(sorted->value(0, kOccurrenceDuration)), first.duration);
        QCOMPARE(sorted->rowLimit(), table->rowLimit());
        const auto window = sorted->window(70'000, 100);
        QCOMPARE(window->rowLimit(), 100u);
        for (Table::Row row = 0; row < 100; ++row) {
            QVERIFY(window->value(row, kOccurrenceBegin) == sorted->value(70'000 + row, kOccurrenceBegin));
            QCOMPARE(sorted->rowOf(window->place(row).marker), std::optional(70'000 + row));
        }
        longest.column = kOccurrenceArguments;
        const auto byArguments = arranged(table, longest);
        QCOMPARE(byArguments->rowLimit(), 100'000u);
        QCOMPARE(byArguments->leftOut(), uint64_t(table->rowLimit()) - 100'000);
        for (Table::Row row = 1; row < 1000; ++row) {
            const auto argument = [&](Table::Row at) {
                const TableValue value = byArguments->value(at, kOccurrenceArguments);
                return value.index() ? std::get<std::string>(value) : std::string();
            };
            QVERIFY(argument(row - 1) >= argument(row) && !argument(row).empty());
        }
        QCOMPARE(byArguments->rowOf(byArguments->place(700).marker), std::optional(Table::Row{700}));
        longest.column = kOccurrenceDuration;
        QCOMPARE(arranged(byArguments, longest)->rowLimit(), table->rowLimit());  // all of them again
        QVERIFY(!OccurrenceList::of(r, 0, wholeOf(*r), Order::Duration, false, [](double) { return false; }));
    }

    void thoseThatAreHeldAreSortedAsAnyTableIs() {
        const auto r = many(false);
        const auto held = longestOccurrences(*r, 0, wholeOf(*r), 30'000);
        QCOMPARE(held->size(), size_t{30'000});
        const auto few = std::make_shared<const std::vector<Occurrence>>(held->begin(), held->begin() + 100);
        QVERIFY(!shownOccurrences(r, few, kNone)->ordered());
        const auto plain = occurrenceTable(r, held, kNone), shown = shownOccurrences(r, held, kNone);
        QVERIFY(!plain->ordered() && shown->ordered());
        QCOMPARE(shown->rowLimit(), plain->rowLimit());
        for (size_t column = 0; column <= kOccurrenceBegin; ++column)
            for (const bool descending : {false, true}) {
                Arrangement by;
                by.column = column;
                by.descending = descending;
                const auto slow = arranged(plain, by), quick = arranged(shown, by);
                QCOMPARE(quick->rowLimit(), 30'000u);
                QCOMPARE(quick->leftOut(), uint64_t{0});
                for (Table::Row at = 0; at < 30'000; at += 7) {
                    const Table::Row row = slow->rowBelow(Table::kTop, at);
                    QVERIFY(quick->value(at, column) == slow->value(row, column));
                    QVERIFY(quick->place(at).marker == slow->place(row).marker);
                }
                QCOMPARE(quick->rowOf(quick->place(20'001).marker), std::optional(Table::Row{20'001}));
                const auto window = quick->window(29'990, 100);
                QCOMPARE(window->rowLimit(), 10u);
                QVERIFY(window->ordered() && window->place(3).marker == quick->place(29'993).marker);
            }
    }

    void ofOneThatDoesNotOccurThereAreNone() {
        const auto r = TextRecording().mark(1, 2, "main", "Reef").open();
        for (const Order order : {Order::Duration, Order::Begin, Order::Lane, Order::Inside}) {
            const auto list = OccurrenceList::of(r, 0, Scope(), order, true);
            QCOMPARE(list->size(), uint64_t{0});
            QVERIFY(list->read(0, 10).empty());
            QVERIFY(!list->placeOf({0, 0, 0}));
            QVERIFY(!OccurrenceList::of(r, 7, wholeOf(*r), order, true)->placeOf({0, 0, 0}));
        }
    }
};

QTEST_APPLESS_MAIN(OccurrencesTest)
#include "occurrences_test.moc"
