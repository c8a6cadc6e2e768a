// SPDX-License-Identifier: GPL-3.0-or-later
#include <QtTest>
#include <random>

#include "testing/sampled_program.h"
#include "testing/text_recording.h"

using namespace fugato;

class ModelTest : public QObject {
    Q_OBJECT

private slots:
    void markersNestIntoRowsWithParentsPathsAndSelfTimes() {
        TextRecording t;
        t.begin(0, "main", "Frame")
            .mark(1, 4, "main", "A")
            .begin(5, "main", "B")
            .mark(6, 8, "main", "A")
            .end(9, "main")
            .end(10, "main")
            .mark(12, 13, "main", "Frame");
        const auto r = t.open();
        const Lane& lane = r->lanes[0];
        QCOMPARE(lane.rows.size(), size_t{3});
        QCOMPARE(lane.rows[0].size(), size_t{2});
        QCOMPARE(lane.rows[1].size(), size_t{2});
        QCOMPARE(pathOf(*r, lane.rows[1].path(0)), QString("Frame/A"));
        QCOMPARE(pathOf(*r, lane.rows[2].path(0)), QString("Frame/B/A"));
        QVERIFY(lane.rows[1].path(0) != lane.rows[2].path(0));
        QCOMPARE(lane.rows[2].parent(0), 1u);
        QCOMPARE(r->selfTime({0, 0, 0}), int64_t{10'000 - 3'000 - 4'000});
        QCOMPARE(r->selfTime({0, 1, 1}), int64_t{2'000});
        QCOMPARE(r->selfTime({0, 2, 0}), int64_t{2'000});
        QCOMPARE(r->pathText(lane.rows[2].path(0)), std::string("B ▸ A"));
        QCOMPARE(lane.busyBetween(0, 13'000), int64_t{11'000});
        QCOMPARE(lane.busyBetween(5'000, 12'500), int64_t{5'500});
    }

    void innermostBeforeFindsWhatWasOpenJustBefore() {
        TextRecording t;
        t.begin(0, "main", "A").mark(2, 4, "main", "B").end(6, "main");
        const auto r = t.open();
        QVERIFY(!r->innermostBefore(0, 0).valid());
        QCOMPARE(r->innermostBefore(0, 2'000).row, 0u);
        QCOMPARE(r->innermostBefore(0, 2'001).row, 1u);
        QCOMPARE(r->innermostBefore(0, 4'000).row, 1u);
        QCOMPARE(r->innermostBefore(0, 4'001).row, 0u);
        QVERIFY(!r->innermostBefore(0, 6'001).valid());
    }

    void busyTimeLeavesWaitsOut() {
        TextRecording t;
        t.begin(0, "main", "A").wait(2, "main", "Wait", "gate", "lock").waitEnd(5, "main").end(10, "main");
        const auto r = t.open();
        QCOMPARE(r->lanes[0].busyBetween(0, 10'000), int64_t{7'000});
        QCOMPARE(r->lanes[0].busyBetween(3'000, 6'000), int64_t{1'000});
    }

    void aWaitInsideAWaitCountsOnce() {
        TextRecording t;
        t.begin(0, "main", "A").wait(2, "main", "Outer", "gate", "job").begin(3, "main", "Woken");
        t.wait(4, "main", "Inner", "door", "lock").waitEnd(6, "main").end(7, "main").waitEnd(8, "main").end(10, "main");
        const auto r = t.open();
        QCOMPARE(r->lanes[0].waits.size(), size_t{2});
        QCOMPARE(r->lanes[0].busyBetween(0, 10'000), int64_t{4'000});
        QCOMPARE(r->lanes[0].busyBetween(5'000, 9'000), int64_t{1'000});
    }

    void beginWithoutEndIsDrawnToTheLanesLastEventAndCounted() {
        TextRecording t;
        t.begin(0, "main", "Open").mark(1, 2, "main", "Child");
        const auto r = t.open();
        QCOMPARE(r->repairs.beginsWithoutEnd, uint64_t{1});
        QCOMPARE(r->lanes[0].rows[0].end(0), int64_t{2'000});
        QVERIFY(r->lanes[0].rows[0].flags(0) & kMarkerEndRepaired);
        QVERIFY(r->repairs.sentences().at(0).find("never ended") != std::string::npos);
    }

    void endWithoutBeginIsLeftOutAndCounted() {
        TextRecording t;
        t.end(1, "main").waitEnd(2, "main").mark(3, 4, "main", "A");
        const auto r = t.open();
        QCOMPARE(r->repairs.endsWithoutBegin, uint64_t{2});
        QCOMPARE(r->markerCount(), size_t{1});
    }

    void timeRunningBackwardsIsHeldAndCounted() {
        TextRecording t;
        t.begin(5, "main", "A").end(3, "main").mark(6, 7, "main", "B");
        const auto r = t.open();
        QCOMPARE(r->repairs.timesBackwards, uint64_t{1});
        QCOMPARE(r->lanes[0].rows[0].end(0), int64_t{5'000});
    }

    void aWaitsEndClosesWhatWasLeftOpenInsideIt() {
        TextRecording t;
        t.wait(0, "main", "Wait", "gate", "job")
            .begin(1, "main", "Inside")
            .waitEnd(3, "main")
            .mark(4, 5, "main", "After");
        const auto r = t.open();
        QCOMPARE(r->repairs.beginsWithoutEnd, uint64_t{1});
        QCOMPARE(r->lanes[0].waits.at(0).end, int64_t{3'000});
        QCOMPARE(r->lanes[0].rows[0].size(), size_t{2});
    }

    void aFrameWithoutEndEndsWhereTheNextBegins() {
        TextRecording t;
        t.frame(0, "main")
            .frame(10, "main")
            .frameEnd(18, "main")
            .frame(20, "main")
            .at(25, "main", R"("do":"point","text":"last words")");
        const auto r = t.open();
        QCOMPARE(r->series.at(0).frames.size(), size_t{2});
        QCOMPARE(r->series[0].frames[0].end, int64_t{10'000});
        QCOMPARE(r->repairs.framesWithoutEnd, uint64_t{2});
        QCOMPARE(r->series[0].frameAt(15'000), 1u);
        QCOMPARE(r->series[0].frameAt(-1), kNone);
    }

    void nothingReachesAcrossAGapInWhichEndsMayBeMissing() {
        TextRecording t;
        t.frame(0, "main")
            .begin(1, "main", "Work")
            .at(500, "main", R"("do":"lost","events":40,"broken":true)")
            .mark(501, 502, "main", "After");
        const auto r = t.open();
        QCOMPARE(r->lanes[0].rows[0].end(0), int64_t{1'000});
        QCOMPARE(r->lanes[0].rows.size(), size_t{1});
        QVERIFY(r->series[0].frames.empty());
        QCOMPARE(r->repairs.lostEvents, uint64_t{40});
        QCOMPARE(r->lanes[0].lost.size(), size_t{1});
    }

    void lostEventsThatLeaveNestingWholeChangeNothingElse() {
        TextRecording t;
        t.begin(0, "main", "Work").at(5, "main", R"("do":"lost","events":40)").end(10, "main");
        const auto r = t.open();
        QCOMPARE(r->lanes[0].rows[0].end(0), int64_t{10'000});
        QCOMPARE(r->repairs.beginsWithoutEnd, uint64_t{0});
    }

    void namesThatAreMissingAreShownByNumber() {
        TextRecording t;
        t.line(R"({"at":1,"lane":3,"do":"begin","site":17})").line(R"({"at":2,"lane":3,"do":"end"})");
        const auto r = t.open();
        QCOMPARE(r->siteOf(r->lanes[0].rows[0].path(0)).name, std::string("marker 17"));
        QCOMPARE(r->lanes[0].name, std::string("thread 3"));
        QCOMPARE(r->repairs.unknownNames, uint64_t{1});
    }

    void lanesOfOneRoleFormAGroup() {
        TextRecording t;
        t.lane("worker 1", 1, "thread", "worker").lane("worker 2", 2, "thread", "worker").lane("main", 3);
        t.mark(0, 1, "worker 1", "A").mark(0, 1, "worker 2", "A").mark(0, 1, "main", "A");
        const auto r = t.open();
        QCOMPARE(r->groups.size(), size_t{2});
        QCOMPARE(r->groups[0].name, std::string("worker"));
        QCOMPARE(r->groups[0].lanes.size(), size_t{2});
        QCOMPARE(r->groups[1].name, std::string("main"));
    }

    void statesCountersAndPointsAreSortedByTimeAcrossLanes() {
        TextRecording t;
        t.at(0, "a", R"("do":"state","state":"stage","value":"Harbour")")
            .at(10, "b", R"("do":"state","state":"stage","value":"Race")");
        t.at(12, "a", R"("do":"count","counter":"drops","value":2)")
            .at(11, "b", R"("do":"count","counter":"drops","value":1)");
        t.at(20, "a", R"("do":"point","severity":"warning","text":"late")")
            .at(15, "b", R"("do":"point","text":"early")");
        const auto r = t.open();
        QCOMPARE(r->text(r->stageAt(9'999)->value), std::string_view("Harbour"));
        QCOMPARE(r->text(r->stageAt(10'000)->value), std::string_view("Race"));
        QCOMPARE(r->stages()->spans[1].end, int64_t{20'000});
        QCOMPARE(r->counters.at(0).values, (std::vector<double>{1, 2}));
        QCOMPARE(r->text(r->points.at(0).text), std::string_view("early"));
    }

    void quickAnswersAreThoseOfAPlainSlowCount() {
        std::mt19937 random(8);
        for (int round = 0; round < 20; ++round) {
            TextRecording t;
            double now = 0;
            std::vector<char> open;
            for (int i = 0; i < 400; ++i) {
                now += static_cast<double>(random() % 5);
                if (open.empty() || (open.size() < 6 && random() % 2)) {
                    const bool wait = open.empty() && random() % 3 == 0;
                    wait ? t.wait(now, "main", "W", "gate", "lock")
                         : t.begin(now, "main", std::string(1, static_cast<char>('A' + random() % 4)));
                    open.push_back(wait);
                } else {
                    open.back() ? t.waitEnd(now, "main") : t.end(now, "main");
                    open.pop_back();
                }
            }
            const auto r = t.open();
            const Lane& lane = r->lanes[0];
            for (int k = 0; k < 60; ++k) {
                const int64_t a = r->begin + static_cast<int64_t>(random()) % (r->end + 1),
                              b = a + static_cast<int64_t>(random()) % (r->end + 1);
                int64_t busy = 0;
                for (size_t i = 0; i < lane.rows[0].size(); ++i)
                    busy += std::max<int64_t>(0, std::min(b, lane.rows[0].end(i)) - std::max(a, lane.rows[0].begin(i)));
                for (const Wait& wait : lane.waits)
                    busy -= std::max<int64_t>(0, std::min(b, wait.end) - std::max(a, wait.begin));
                QCOMPARE(lane.busyBetween(a, b), busy);
                MarkerRef slow;
                for (uint32_t row = 0; row < lane.rows.size(); ++row)
                    for (uint32_t i = 0; i < lane.rows[row].size(); ++i)
                        if (lane.rows[row].begin(i) < a && lane.rows[row].end(i) >= a) slow = {0, row, i};
                QVERIFY(r->innermostBefore(0, a) == slow);
            }
            for (uint32_t row = 0; row + 1 < lane.rows.size(); ++row)
                for (uint32_t i = 0; i < lane.rows[row].size(); ++i) {
                    int64_t self = lane.rows[row].end(i) - lane.rows[row].begin(i);
                    for (uint32_t c = 0; c < lane.rows[row + 1].size(); ++c)
                        if (lane.rows[row + 1].parent(c) == i)
                            self -= lane.rows[row + 1].end(c) - lane.rows[row + 1].begin(c);
                    QCOMPARE(r->selfTime({0, row, i}), self);
                }
        }
    }

    void timesAndDeadlinesBeyondAllBoundsAreHeldWithin() {
        TextRecording t;
        t.line(
            R"({"at":-9223372036854775808,"lane":"main","do":"frame","series":"loop","deadline_ns":18446744073709551615})");
        t.line(R"({"at":-9223372036854775807,"lane":"main","do":"begin","site":"A"})");
        t.line(R"({"at":9223372036854775807,"lane":"main","do":"end"})");
        t.line(R"({"at":9223372036854775807,"lane":"main","do":"frame_end","series":"loop"})");
        const auto r = t.open();
        QVERIFY(r->end > r->begin);
        QVERIFY(r->end - r->begin > 0);
        const Frame& frame = r->series.at(0).frames.at(0);
        QVERIFY(frame.duration() > 0 && frame.deadline > 0);
        QVERIFY(frame.duration() - frame.deadline > 0);
    }

    void anEmptyRecordingIsARecording() {
        TextRecording t;
        const auto r = t.open();
        QCOMPARE(r->markerCount(), size_t{0});
        QCOMPARE(r->end - r->begin, int64_t{0});
    }

    // ---- what is told beside markers -----------------------------------------------------------

    void overlappingOperationsStandInRowsAndKeepTheirSteps() {
        TextRecording t;
        t.lane("main", 1).lane("io", 2);
        t.at(0, "main", R"("do":"operation","operation":1,"site":"Load")");
        t.at(10, "main", R"("do":"operation","operation":2,"site":"Load")");
        t.at(60, "main", R"("do":"operation","operation":3,"site":"Save")");
        t.at(30, "io", R"("do":"step","operation":2,"site":"Unpack")");
        t.at(20, "io", R"("do":"step","operation":2,"site":"Read")");
        t.at(50, "io", R"("do":"operation_end","operation":1)");
        t.at(90, "io", R"("do":"operation_end","operation":2,"code":-4,"text":"cut off")");
        t.at(95, "io", R"("do":"operation_end","operation":77)");
        const auto r = t.open();
        QCOMPARE(r->operations.size(), size_t{3});
        QCOMPARE(r->operations[0].row, 0u);
        QCOMPARE(r->operations[1].row, 1u);
        QCOMPARE(r->operations[2].row, 0u);  // the first has ended by then
        QCOMPARE(r->operations[1].steps, 2u);
        QVERIFY(r->stepsOf(r->operations[1])[0].time <= r->stepsOf(r->operations[1])[1].time);
        QCOMPARE(r->operations[1].code, int64_t{-4});
        QCOMPARE(r->operations[2].endedOn, kNone);
        QCOMPARE(r->operations[2].end, r->end);
        QCOMPARE(r->repairs.endsWithoutBegin, uint64_t{1});  // 77 never began
    }

    void memoryIsPairedAcrossLanesAndWhatWasTakenBeforeIsNotCounted() {
        TextRecording t;
        t.lane("main", 1).lane("io", 2);
        t.begin(0, "main", "Build");
        t.at(5, "main", R"("do":"memory_given","address":99)");  // from before the recording
        t.at(10, "main", R"("do":"memory","address":1,"bytes":100)");
        t.at(20, "main", R"("do":"memory","address":2,"bytes":50)");
        t.at(40, "main", R"("do":"memory","address":1,"bytes":7)");   // anew, after io gave it back
        t.at(60, "main", R"("do":"memory","address":2,"bytes":70)");  // anew without being given back
        t.end(100, "main");
        t.at(30, "io", R"("do":"memory_given","address":1)");
        const auto r = t.open();
        QCOMPARE(r->pools.size(), size_t{1});
        QCOMPARE(r->pools[0].name, std::string("heap"));
        QCOMPARE(r->pools[0].bytesInUse, (std::vector<int64_t>{100, 150, 50, 57, 77}));
        QCOMPARE(r->allocations.size(), size_t{4});
        QVERIFY(r->allocations[0].isReleased());
        QCOMPARE(r->allocations[0].released, int64_t{30'000});
        QCOMPARE(r->nameOf(r->allocations[1].path), std::string("Build"));
        QVERIFY(!r->allocations[2].isReleased() && !r->allocations[3].isReleased());
    }

    void piecesOfPicturesThatDoNotFitAreLeftOut() {
        TextRecording t;
        t.lane("main", 1);
        t.at(0, "main", R"("do":"picture","picture":1,"width":1,"height":2,"row":0,"pixels":"010203")");
        t.at(1, "main", R"("do":"picture","picture":1,"width":1,"height":2,"row":1,"pixels":"040506")");
        t.at(2, "main", R"("do":"picture","picture":1,"width":1,"height":2,"row":1,"pixels":"04050607")");
        t.at(3, "main", R"("do":"picture","picture":1,"width":9,"height":9,"row":0,"pixels":"ffffff")");
        t.at(4, "main", R"("do":"picture","picture":2,"width":4000000000,"height":4000000000,"row":0,"pixels":"ff")");
        t.at(5, "main", R"("do":"picture","picture":3,"width":0,"height":1,"row":0,"pixels":"")");
        const auto r = t.open();
        QCOMPARE(r->pictures.size(), size_t{1});
        QCOMPARE(r->text(r->pictures[0].pixels), std::string_view("\1\2\3\4\5\6"));
    }

    void ticksMakeFramesAndTheLastOneIsNoDamage() {
        TextRecording t;
        t.lane("main", 1);
        for (int i = 0; i < 4; ++i) t.at(i * 10, "main", R"("do":"tick","series":"display","deadline_ns":8000)");
        const auto r = t.open();
        QCOMPARE(r->series.at(0).frames.size(), size_t{3});
        QCOMPARE(r->series[0].frames[1].duration(), int64_t{10'000});
        QVERIFY(!r->repairs.any());
    }

    void aCallStackThatComesAgainIsKeptOnce() {
        // On two cores and while the recording grows; also without an address, and one that another begins with.
        using Stack = std::vector<uint64_t>;
        const std::vector<Stack> stacks{{}, {500, 400, 300}, {500, 400}, {1000}, {}, {500, 400, 300}, {1000, 1}};
        ModelBuilder builder, growing;
        std::vector<std::shared_ptr<Recording>> moments;
        std::vector<Stack> told;
        int64_t time = 0;
        for (int round = 0; round < 20; ++round) {
            for (const Stack& stack : stacks) {
                const std::string bytes = stackBytes(stack);
                const bool stops = time % 5 == 0;
                const Event event{++time, EventKind::Sample, 77, stops, 0, bytes};
                for (ModelBuilder* each : {&builder, &growing}) each->event(static_cast<uint32_t>(time % 2), event);
                told.push_back(stack);
            }
            moments.push_back(growing.asItIs());
        }
        moments.push_back(builder.finish());
        for (const auto& r : moments) {
            QCOMPARE(r->stackAddresses.size(), size_t{3 + 2 + 1 + 2});
            for (size_t i = 0; i < r->stackCount(); ++i) {
                const StackSample& sample = r->stack(i);
                const uint64_t* from = r->stackAddresses.data() + sample.first;
                QVERIFY(Stack(from, from + sample.count) == told[static_cast<size_t>(sample.time - 1)]);
            }
        }
        QCOMPARE(moments.back()->stackCount(), told.size());
        QVERIFY(!moments.back()->stops.empty());
    }

    void aThreadThatMovesBetweenCoresHasOneStateAtATime() {
        TextRecording t;
        t.line(R"({"define":"lane","id":1,"name":"main","os":7})").lane("core 0", 2, "core").lane("core 1", 3, "core");
        t.mark(0, 100, "main", "Work");
        t.at(0, "core 0", R"("do":"switch","thread":7)").at(30, "core 0", R"("do":"switch","thread":0)");
        t.at(29, "core 1", R"("do":"switch","thread":7)").at(80, "core 1", R"("do":"switch","thread":0)");
        const auto r = t.open();
        const auto& spans = r->lanes[laneNamed(*r, "main")].schedule;
        QVERIFY(spans.size() >= 2);
        for (size_t i = 1; i < spans.size(); ++i) QVERIFY(spans[i - 1].end <= spans[i].begin);
        QCOMPARE(r->lanes[laneNamed(*r, "main")].scheduleAt(50'000)->core, laneNamed(*r, "core 1"));
        QCOMPARE(r->osThreadText(7), std::string("main"));
        QCOMPARE(r->osThreadText(0), std::string("idle"));
        QCOMPARE(r->osThreadText(4242), std::string("thread 4242"));
    }

    void extremesOfAnyPartAreThoseOfAPlainSearch() {
        std::mt19937 random(4);
        for (const size_t size : {0, 1, 63, 64, 65, 4095, 4096, 4097, 300'000}) {
            std::vector<double> values(size);
            for (double& value : values)
                value =
                    random() % 50 == 0 ? std::numeric_limits<double>::quiet_NaN() : double(random() % 100'000) - 50'000;
            const std::vector<Extreme> extremes = extremesOf(values);
            QVERIFY(extremes.size() <= size / kExtremeOf + size / kExtremeOf / kExtremeOf + 5);
            for (int round = 0; round < 200; ++round) {
                size_t from = random() % (size + 1), to = random() % (size + 1);
                if (round == 0) from = 0, to = size;
                if (from > to) std::swap(from, to);
                Extreme plain;
                for (size_t i = from; i < to; ++i) plain.add(values[i]);
                const Extreme found = extremeIn(values, extremes, from, to);
                QCOMPARE(found.low, plain.low);
                QCOMPARE(found.high, plain.high);
            }
        }
    }
};

QTEST_GUILESS_MAIN(ModelTest)
#include "model_test.moc"
