// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where markers tell nothing: against every piece of every marker, cut out slowly.
#include <QtTest>
#include <random>

#include "core/ask/coverage_table.h"
#include "core/table/writing.h"
#include "testing/making.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

using Key = std::pair<uint32_t, PathId>;
struct Sum {
    int64_t total = 0, around = 0, longest = 0;
    uint64_t stretches = 0;
    bool operator==(const Sum&) const = default;
};

/// What of a range lies in none of others.
std::vector<TimeRange> without(const TimeRange& range, const std::vector<TimeRange>& others) {
    std::vector<TimeRange> left{range};
    for (const TimeRange& cut : others) {
        std::vector<TimeRange> next;
        for (const TimeRange& piece : left) {
            if (cut.end <= piece.begin || cut.begin >= piece.end || cut.begin == cut.end) {
                // A marker without a length parts what lies around it.
                if (cut.begin == cut.end && cut.begin > piece.begin && cut.begin < piece.end) {
                    next.push_back({piece.begin, cut.begin});
                    next.push_back({cut.begin, piece.end});
                } else {
                    next.push_back(piece);
                }
                continue;
            }
            if (cut.begin > piece.begin) next.push_back({piece.begin, cut.begin});
            if (cut.end < piece.end) next.push_back({cut.end, piece.end});
        }
        left = next;
    }
    return left;
}

std::map<Key, Sum> slow(const Recording& r, const Scope& scope) {
    std::map<Key, Sum> sums;
    for (uint32_t l = 0; l < r.lanes.size(); ++l) {
        const Lane& lane = r.lanes[l];
        if (!scope.has(l)) continue;
        for (const TimeRange& stretch : scope.stretches) {
            const auto add = [&](PathId path, const TimeRange& in, const std::vector<TimeRange>& below) {
                Sum& sum = sums[{l, path}];
                bool any = false;
                for (const TimeRange& piece : without(in, below)) {
                    if (piece.begin >= piece.end) continue;
                    any = true;
                    sum.total += piece.end - piece.begin;
                    sum.longest = std::max(sum.longest, piece.end - piece.begin);
                    ++sum.stretches;
                }
                if (any && path) sum.around += in.end - in.begin;
            };
            std::vector<TimeRange> top;
            for (uint32_t i = 0; !lane.rows.empty() && i < lane.rows[0].size(); ++i)
                top.push_back({lane.rows[0].begin(i), lane.rows[0].end(i)});
            add(0, stretch, top);
            for (uint32_t row = 0; row < lane.rows.size(); ++row)
                for (uint32_t i = 0; i < lane.rows[row].size(); ++i) {
                    if (lane.rows[row].flags(i) & kMarkerWait) continue;
                    const TimeRange in{std::max(stretch.begin, lane.rows[row].begin(i)),
                                       std::min(stretch.end, lane.rows[row].end(i))};
                    if (in.begin >= in.end) continue;
                    std::vector<TimeRange> below;
                    for (uint32_t k = 0; row + 1 < lane.rows.size() && k < lane.rows[row + 1].size(); ++k)
                        if (lane.rows[row + 1].parent(k) == i)
                            below.push_back({lane.rows[row + 1].begin(k), lane.rows[row + 1].end(k)});
                    add(lane.rows[row].path(i), in, below);
                }
        }
        // A lane of which nothing lies there is not listed.
        const bool any = std::any_of(scope.stretches.begin(), scope.stretches.end(), [&](const TimeRange& stretch) {
            if (lane.rows.empty()) return false;
            const auto [from, to] = lane.rows[0].overlapping(stretch.begin, stretch.end);
            return from < to;
        });
        if (!any) sums.erase({l, 0});
    }
    std::erase_if(sums, [](const auto& one) { return !one.second.total; });
    for (auto& [key, sum] : sums)
        if (!key.second) sum.around = scope.length();
    return sums;
}

}  // namespace

class CoverageTest : public QObject {
    Q_OBJECT

private slots:
    void unmarkedTimeIsWhatIsLeft() {
        std::mt19937 random(23);
        for (int round = 0; round < 8; ++round) {
            ModelBuilder builder;
            for (const ToldEvent& told : toldAtRandom(random, 900)) builder.event(told.lane, told.event);
            const std::shared_ptr<const Recording> r = builder.finish();
            std::vector<TimeRange> ranges;
            for (int i = 0; i < 4; ++i) {
                const int64_t at = r->begin + int64_t(random() % uint64_t(r->end - r->begin));
                ranges.push_back({at, at + (r->end - r->begin) / 12});
            }
            for (const Scope& scope : {Scope(wholeOf(*r)), Scope(ranges)}) {
                const auto made = coverageOf(*r, scope);
                const std::map<Key, Sum> wanted = slow(*r, scope);
                std::map<Key, Sum> found;
                for (const Unmarked& one : made->unmarked) {
                    found[{one.lane, one.path}] = {one.total, one.around, one.longest.end - one.longest.begin,
                                                   one.stretches};
                    QVERIFY(scope.contains(one.longest.begin));
                }
                QCOMPARE(found.size(), wanted.size());
                for (const auto& [key, sum] : wanted)
                    QVERIFY2(found[key] == sum,
                             qPrintable(QString("%1 %2: %3 of %4, longest %5, in %6; not %7 of %8, %9, %10")
                                            .arg(key.first)
                                            .arg(key.second)
                                            .arg(found[key].total)
                                            .arg(found[key].around)
                                            .arg(found[key].longest)
                                            .arg(found[key].stretches)
                                            .arg(sum.total)
                                            .arg(sum.around)
                                            .arg(sum.longest)
                                            .arg(sum.stretches)));
            }
        }
    }

    void tablesTellWhereAndWhatIsMissing() {
        TextRecording t;
        t.begin(0, "main", "Frame").mark(1000, 2000, "main", "Draw");
        t.wait(2000, "main", "Wait for disk", "disk", "file").waitEnd(7000, "main").end(9000, "main");
        t.mark(20'000, 21'000, "main", "Save");
        const auto r = t.open();
        const auto unmarked = unmarkedTable(r, coverageOf(*r, TimeRange{0, 10'000'000}));
        const auto textAt = [&](Table::Row row, size_t column) {
            return valueText(unmarked->columns()[column], unmarked->value(row, column));
        };
        QCOMPARE(unmarked->rowLimit(), 3u);
        QCOMPARE(textAt(0, kUnmarkedInside), std::string("Frame"));  // after the wait, which is no gap
        QCOMPARE(textAt(0, kUnmarkedLongest), std::string("2.0 ms"));
        QCOMPARE(textAt(0, kUnmarkedTotal), std::string("3.0 ms"));
        QCOMPARE(textAt(0, kUnmarkedPart), std::string("33.3 %"));
        QCOMPARE(unmarked->place(0).begin, int64_t{7'000'000});
        QCOMPARE(textAt(2, kUnmarkedInside), std::string("outside all markers"));
        QCOMPARE(textAt(1, kUnmarkedInside), std::string("Frame ▸ Draw"));
        const auto missing = missingTable(r, coverageOf(*r, TimeRange{0, 10'000'000}));
        QCOMPARE(missing->rowLimit(), 1u);
        QCOMPARE(std::get<std::string>(missing->value(0, kMissingMarker)), std::string("Save"));
        QCOMPARE(std::get<std::string>(missing->value(0, kMissingWhere)), std::string("only elsewhere"));
        QVERIFY(coverageOf(*r, wholeOf(*r))->missing.empty());
    }
};

QTEST_APPLESS_MAIN(CoverageTest)
#include "coverage_test.moc"
