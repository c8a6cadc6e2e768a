// SPDX-License-Identifier: GPL-3.0-or-later
//
// What rows of markers show in each column of pixels, against a plain look at every marker; and the working ahead that
// has it ready for the painter.
#include <QtTest>
#include <cmath>

#include "app/lanes/row_content.h"
#include "app/theme/theme.h"
#include "app/work/work_ahead.h"
#include "testing/making.h"

using namespace fugato;

namespace {

RowView viewOf(int64_t begin, int64_t end, int width, bool exact) {
    RowView view;
    view.theme = &theme();
    view.begin = begin;
    view.end = end;
    view.width = width;
    view.waits = true;
    view.allExact = exact;
    view.highlight = [](const MarkerRow&, uint32_t, uint32_t) { return 0.0; };
    return view;
}

}  // namespace

class RowsTest : public QObject {
    Q_OBJECT

private slots:
    void everyMarkerInSightIsShownOnceByItselfOrWithOthers() {
        for (uint32_t seed = 1; seed <= 4; ++seed) {
            Making making;
            making.seed = seed;
            making.events = 20'000;
            making.gapEvery = seed % 2 ? 0 : 2'000;
            const Made made = making.make();
            const Recording& r = *made.recording;
            std::mt19937 random(seed);
            RowContent content;
            for (int round = 0; round < 60; ++round) {
                const int width = 50 + int(random() % 900);
                const int64_t whole = r.end - r.begin, span = std::max<int64_t>(1, whole >> random() % 16);
                const int64_t begin = r.begin + int64_t(random() % 1000) * (whole - span) / 1000;
                const RowView view = viewOf(begin, begin + span, width, true);
                const double nsPerPixel = double(span) / width;
                const auto narrow = int64_t(std::ceil(RowContent::kNarrow * nsPerPixel));
                for (const Lane& lane : r.lanes)
                    for (const MarkerRow& row : lane.rows) {
                        workOut(row, view, content);
                        std::vector<uint32_t> wide;
                        std::vector<bool> begins(size_t(width) + 2);  // of narrow ones
                        size_t shown = 0;
                        for (uint32_t i = 0; i < row.size(); ++i) {
                            if (row.begin(i) >= view.end || row.end(i) <= view.begin) continue;
                            ++shown;
                            if (row.duration(i) >= narrow)
                                wide.push_back(i);
                            else
                                begins[size_t(std::max<double>(0, double(row.begin(i) - begin) / nsPerPixel)) + 1] =
                                    true;
                        }
                        QCOMPARE(content.markers, shown);
                        QCOMPARE(content.wide.size(), wide.size());
                        for (size_t i = 0; i < wide.size(); ++i) {
                            QCOMPARE(content.wide[i].index, wide[i]);
                            QVERIFY(content.wide[i].right - content.wide[i].left > RowContent::kNarrow - 0.01);
                        }
                        for (int column = content.first; column < content.past; ++column)
                            if (content.pixels[size_t(column)])  // one begins here, or was moved aside by a neighbour
                                QVERIFY(begins[size_t(column)] || begins[size_t(column) + 1]);
                        for (int column = 0; column < width; ++column)
                            if (begins[size_t(column) + 1])
                                QVERIFY(content.pixels[size_t(column)] ||
                                        (column + 1 < width && content.pixels[size_t(column) + 1]));
                    }
            }
        }
    }

    void fromGroupsThePictureIsNearlyTheSame() {
        Making making;
        making.events = 400'000;
        making.depth = 3;
        making.lanes = 1;
        making.step = 200;
        const Made made = making.make();
        const Recording& r = *made.recording;
        RowContent exact, coarse;
        for (const MarkerRow& row : r.lanes[0].rows) {
            workOut(row, viewOf(r.begin, r.end, 500, true), exact);
            workOut(row, viewOf(r.begin, r.end, 500, false), coarse);
            QCOMPARE(coarse.markers, exact.markers);
            int64_t difference = 0, sum = 0;
            for (size_t i = 0; i < 500; ++i) {
                difference += std::abs(qAlpha(exact.pixels[i]) - qAlpha(coarse.pixels[i]));
                sum += qAlpha(exact.pixels[i]);
            }
            QVERIFY2(difference * 20 < sum, qPrintable(QString("%1 of %2").arg(difference).arg(sum)));
        }
    }

    void whatLastsForADayIsSeenFromAfar() {
        constexpr int64_t kDay = int64_t{86'400} * 1'000'000'000;
        ModelBuilder builder;
        builder.event(1, {0, EventKind::MarkBegin, 1, 0, 0, {}});
        for (int64_t i = 0; i < 10'000; ++i) {
            builder.event(1, {i * (kDay / 10'000), EventKind::MarkBegin, 2, 0, 0, {}});
            builder.event(1, {i * (kDay / 10'000) + 1000, EventKind::MarkEnd, 0, 0, 0, {}});
        }
        builder.event(1, {kDay, EventKind::MarkEnd, 0, 0, 0, {}});
        const auto r = builder.finish();
        RowContent content;
        workOut(r->lanes[0].rows[0], viewOf(0, kDay, 1000, false), content);
        QCOMPARE(content.wide.size(), size_t{1});
        QCOMPARE(content.wide[0].left, 0.0);
        QCOMPARE(content.wide[0].right, 1000.0);
        workOut(r->lanes[0].rows[1], viewOf(0, kDay, 1000, false), content);
        QVERIFY(content.wide.empty());
        QCOMPARE(content.past - content.first, 1000);
        QCOMPARE(content.markers, size_t{10'000});
        workOut(r->lanes[0].rows[1], viewOf(0, 1, 1000, false), content);  // one nanosecond
        QCOMPARE(content.wide.size(), size_t{1});
    }

    void namesAreGivenToWhatStandsSideBySide() {
        ModelBuilder builder;
        for (int64_t i = 0; i < 3'000; ++i) {
            builder.event(1, {i * 100, EventKind::MarkBegin, i < 2'000 ? 1u : 2u, 0, 0, {}});
            builder.event(1, {i * 100 + 90, EventKind::MarkEnd, 0, 0, 0, {}});
        }
        const auto r = builder.finish();
        RowContent content;
        workOut(r->lanes[0].rows[0], viewOf(0, 300'000, 600, false), content);
        QCOMPARE(content.runs.size(), size_t{2});
        QCOMPARE(r->nameOf(content.runs[0].path), std::string("marker 1"));
        QCOMPARE(r->nameOf(content.runs[1].path), std::string("marker 2"));
        QVERIFY(std::abs(int(content.runs[0].count) - 2'000) <= int(MarkerRow::kGroup));
        QVERIFY(std::abs(content.runs[0].right - 400) <= 13);  // a group's worth of columns
    }

    void inkIsAskedForWhereThereIsSome() {
        ModelBuilder builder;
        for (int64_t i = 0; i < 1'000; ++i) {
            builder.event(1, {i * 1000, EventKind::MarkBegin, 1, 0, 0, {}});
            builder.event(1, {i * 1000 + 500, EventKind::MarkEnd, 0, 0, 0, {}});
        }
        const auto r = builder.finish();
        RowView view = viewOf(0, 1'000'000, 1000, false);
        std::vector<uint32_t> asked;
        view.highlight = [&](const MarkerRow&, uint32_t first, uint32_t last) {
            for (uint32_t i = first; i <= last; ++i) asked.push_back(i);
            return 1.0;
        };
        view.highlightFrom = 300'000;
        view.highlightTo = 310'000;
        RowContent content;
        workOut(r->lanes[0].rows[0], view, content);
        QVERIFY(!asked.empty());
        QVERIFY(asked.front() >= 297 && asked.back() <= 310);
        QVERIFY(content.pixels[305] != content.pixels[200]);
    }

    void anEmptyRowShowsNothing() {
        RowContent content;
        content.markers = 7;  // of another row before
        workOut(MarkerRow(), viewOf(0, 100, 50, false), content);
        QCOMPARE(content.markers, size_t{0});
        QVERIFY(content.wide.empty() && content.runs.empty() && content.first == content.past);
    }

    void everyPieceIsDoneOnceAndBeforeItIsNeeded() {
        for (const size_t count : {size_t{0}, size_t{1}, size_t{3}, size_t{64}, size_t{500}})
            for (int round = 0; round < 40; ++round) {
                std::vector<int> done(count);  // no two threads have the same piece
                WorkAhead ahead(count, [&](size_t piece) { ++done[piece]; });
                for (size_t piece = 0; piece < count; ++piece) {
                    ahead.need(piece);
                    QCOMPARE(done[piece], 1);
                }
            }
        std::vector<int> done(100);
        WorkAhead backwards(100, [&](size_t piece) { ++done[piece]; });
        for (size_t piece = 100; piece-- > 0;) {
            backwards.need(piece);
            backwards.need(piece);
            QCOMPARE(done[piece], 1);
        }
    }

    void whatNobodyNeedsAnyMoreIsNotBegun() {
        for (int round = 0; round < 100; ++round) {
            std::atomic<bool> over{false};
            std::atomic<int> late{0}, done{0};
            {
                WorkAhead ahead(200, [&](size_t) {
                    late += over;
                    ++done;
                });
                ahead.need(3);
            }
            over = true;
            QVERIFY(done >= 1);
            QTest::qSleep(round % 10 == 0 ? 1 : 0);
            QCOMPARE(late.load(), 0);
        }
    }
};

QTEST_MAIN(RowsTest)
#include "rows_test.moc"
