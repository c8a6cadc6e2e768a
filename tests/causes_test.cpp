// SPDX-License-Identifier: GPL-3.0-or-later
//
// How causes are found in programs nobody prepared: who had the cores, time without markers, what is left over, events
// that are missing. Each answer is worked out by hand.
#include <QtTest>

#include "core/ask/other_programs.h"
#include "core/ask/search.h"
#include "core/ask/usual_markers.h"
#include "core/explain/advice/advice.h"
#include "core/explain/causes/confidence.h"
#include "core/explain/words/frame_sentences.h"
#include "core/explain/words/marker_words.h"
#include "core/model/lane_order.h"
#include "core/model/model_builder.h"
#include "testing/explaining.h"

using namespace fugato;

namespace {

/// `count` usual frames of 8 ms: `parts` markers of the same length one after another in Frame.
double partedFrames(TextRecording& t, int count, int parts) {
    double at = 0;
    for (int i = 0; i < count; ++i, at += 20'000) {
        t.frame(at, "main").begin(at, "main", "Frame");
        for (int k = 0; k < parts; ++k)
            t.mark(at + k * 8000.0 / parts, at + (k + 1) * 8000.0 / parts, "main", "Part " + std::to_string(k));
        t.end(at + 8000, "main").frameEnd(at + 8000, "main");
    }
    return at;
}

}  // namespace

class CausesTest : public QObject {
    Q_OBJECT

private slots:
    // ---- who had the cores -----------------------------------------------------------------------

    void contentionIsGatheredByWhoseDoingItIs() {
        const TextRecording t = contendedFrames();
        const auto e = explained(t.open());
        const Recording& r = *e->recording;
        QCOMPARE(e->figures.over, size_t{5});
        QCOMPARE(e->causes.size(), size_t{2});
        const Cause& others = e->causes[0];
        QCOMPARE(causeTitle(*e, others), std::string("CPU contention by other programs"));
        QCOMPARE(others.frames, (std::vector<uint32_t>{20, 22, 24, 28}));
        const auto holders = byHolder(others.contentionParts);
        QCOMPARE(holders.size(), size_t{3});  // both processes "find" together
        QCOMPARE(coreHolderText(r, holders[0].first), std::string("find"));
        QCOMPARE(coreHolderText(r, holders[1].first), std::string("updater"));
        QCOMPARE(coreHolderText(r, holders[2].first), std::string("kworker"));
        // Late: 1, 3, 5 and 1 ms; of frame 24 half is find's.
        QCOMPARE(holders[0].second, int64_t{6'500'000});
        QCOMPARE(holders[1].second, int64_t{2'500'000});
        QCOMPARE(causeKindPhrase(*e, others), std::string("find, updater and kworker ran, main waited"));
        QCOMPARE(firstSentence(*e, 24),
                 std::string("main was ready to run, but waited for a core 6.0 ms longer than usual: CPU contention "
                             "with updater (3.0 ms) and find (3.0 ms)."));
        const Cause& own = e->causes[1];
        QCOMPARE(causeTitle(*e, own), std::string("CPU contention among own threads"));
        QCOMPARE(own.frames, std::vector<uint32_t>{26});
        QCOMPARE(firstSentence(*e, 26),
                 std::string("main was ready to run, but waited for a core 6.0 ms longer than usual: CPU contention "
                             "with hauler."));
        // Repaired, each takes only its own away.
        QCOMPARE(predict(*e, {{0, false}})->over, 1u);
        QCOMPARE(predict(*e, {{1, false}})->over, 4u);
    }

    void otherProgramsAreAddedUpByName() {
        const auto r = contendedFrames().open();
        QVERIFY(tellsOtherPrograms(*r));
        const OtherProgramList all = *otherPrograms(*r, 10);
        QCOMPARE(all.size(), size_t{3});
        QCOMPARE(all[0].name, std::string("find"));
        QCOMPARE(all[0].ran, int64_t{9'000'000});
        QCOMPARE(all[0].spans.size(), size_t{3});
        // In frame 20, which begins at 0.8 s, from 2 to 4 ms.
        QCOMPARE(all[0].between(800'000'000, 803'000'000), int64_t{1'000'000});
        QCOMPARE(all[0].between(r->begin, r->end), int64_t{9'000'000});
        QCOMPARE(all[0].between(0, 800'000'000), int64_t{0});
        const OtherProgramList few = *otherPrograms(*r, 1);
        QCOMPARE(few.size(), size_t{2});
        QCOMPARE(few[1].name, std::string("2 more programs"));
        QCOMPARE(few[1].ran, int64_t{5'000'000});
        TextRecording none;
        usualFrames(none, 3);
        QVERIFY(!tellsOtherPrograms(*none.open()));
        QVERIFY(otherPrograms(*none.open(), 10)->empty());
        // On two cores at once it is one span, but twice the time.
        TextRecording both;
        threadsAndCore(both);
        both.line(R"({"define":"lane","id":10,"name":"core 1","kind":"core","role":"","os":1})");
        both.at(0, "core 0", onCore(200)).at(1000, "core 1", onCore(200)).at(3000, "core 0", onCore(0));
        both.at(4000, "core 1", onCore(0)).frame(0, "main").frameEnd(9000, "main");
        const OtherProgram updater = otherPrograms(*both.open(), 10)->at(0);
        QCOMPARE(updater.ran, int64_t{6'000'000});
        QCOMPARE(updater.spans.size(), size_t{1});
        QCOMPARE(updater.between(0, 9'000'000), int64_t{4'000'000});
    }

    /// Frame 32 orders a chart to be saved; saver holds the chart's lock for 12 ms of that, into frame 33, which waits
    /// for it.
    void originOfTimeBehindALockIsWhereItsHoldersWorkWasAskedFor() {
        TextRecording t;
        for (int f = 0; f < 40; ++f) {
            const double at = f * 10'000.0;
            t.frame(at, "main", 10'000).begin(at, "main", "Frame");
            if (f == 32) {
                t.linkOut(at + 7000, "main", 5).begin(at + 7500, "saver", "Save chart").linkIn(at + 7500, "saver", 5);
                t.begin(at + 8000, "saver", "Write").taken(at + 8000, "saver", "chart");
                t.given(at + 20'000, "saver", "chart").end(at + 20'000, "saver").end(at + 21'000, "saver");
            }
            const bool waits = f == 33;
            if (waits) t.wait(at + 1000, "main", "Wait for chart", "chart", "lock").waitEnd(at + 10'000, "main");
            const double from = at + (waits ? 10'000 : 1000);
            t.taken(from, "main", "chart")
                .mark(from, from + 500, "main", "Read chart")
                .given(from + 500, "main", "chart");
            t.end(from + 1000, "main").frameEnd(from + 1000, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, std::vector<uint32_t>{33});
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Save chart ▸ Write"));
        QVERIFY(e->causes[0].object != kNone);
        QCOMPARE(e->frames[33].origin, 32u);
        QCOMPARE(e->spikes[0].origin, 32u);
    }

    void machineThatStandsStillIsToldFromWork() {
        // main has the core all the time, and its call stack is taken each ms; in frame 20 not for 9 ms, in which Work
        // lasts so much longer, and in frame 24 for 2.5 ms, which is too short to tell.
        const auto recorded = [](const char* samples) {
            TextRecording t;
            threadsAndCore(t);
            t.line(R"({"define":"context","key":"os samples","value":)" + TextRecording::quoted(samples) + "}");
            t.at(0, "core 0", onCore(100));
            for (int f = 0; f < 40; ++f) {
                const double at = f * 20'000.0, more = f == 20 ? 9000 : f == 24 ? 2500 : 0;
                t.frame(at, "main", 9000).begin(at, "main", "Frame").begin(at + 1000, "main", "Work");
                t.end(at + 7000 + more, "main").end(at + 8000 + more, "main").frameEnd(at + 8000 + more, "main");
                for (int ms = 0; ms < 20; ++ms)
                    if (const double time = at + 1000 * ms + 500; time < at + 3000 || time > at + 2600 + more)
                        t.at(time, "core 0", R"("do":"sample","thread":100)");
            }
            return explained(t.open());
        };
        const auto e = recorded("every 1000 us of running, also in the system");
        QCOMPARE(e->late, (std::vector<uint32_t>{20, 24}));
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("The machine stood still"));
        QCOMPARE(e->causes[0].frames, std::vector<uint32_t>{20});
        QCOMPARE(causeKindPhrase(*e, e->causes[0]), std::string("held up main"));
        // The last sample before is at 2.5 ms; one is due at 3.5, the next comes at 12.5 ms.
        QCOMPARE(
            firstSentence(*e, 20),
            std::string("The machine itself stood still for 9.0 ms more than usual while main would have run, as a "
                        "virtual machine does while its host runs others."));
        QCOMPARE(causeTitle(*e, e->causes[1]), std::string("Frame ▸ Work"));
        const Lane& main = e->recording->lanes[laneNamed(*e->recording, "main")];
        QCOMPARE(main.splitBetween(e->frame(20).begin, e->frame(20).end).ready, int64_t{9'000'000});
        const auto prediction = predict(*e, {{0, false}});
        QCOMPARE(prediction->duration[20], int64_t{8'000'000});
        const auto advice = adviceFor(*e);
        const auto found = std::find_if(advice->begin(), advice->end(),
                                        [](const Advice& a) { return a.kind == AdviceKind::MachineStopped; });
        QVERIFY(found != advice->end());
        QVERIFY(found->evidence.find("1 late frame has that as main cause") != std::string::npos);
        // Where a thread in the system is not seen, a gap means nothing.
        const auto unsure = recorded("every 1000 us of running");
        QCOMPARE(causeTitle(*unsure, unsure->causes[0]), std::string("Frame ▸ Work"));
    }

    void contentionNamesTheLaneThatLackedTheCore() {
        // worker lacks it for 1 ms in every late frame, before main does for 5 ms.
        TextRecording t;
        threadsAndCore(t);
        t.at(0, "core 0", onCore(100));
        double at = 0;
        for (int f = 0; f < 40; ++f, at += 40'000) {
            const bool late = f == 20 || f == 30;
            const double job = late ? 2000 : 1000, more = late ? 6000 : 0;
            t.frame(at, "main").begin(at, "main", "Frame").linkOut(at, "main", f + 1);
            t.begin(at, "worker", "Job").linkIn(at, "worker", f + 1).linkOut(at + job, "worker", 100 + f);
            t.end(at + job, "worker");
            t.wait(at, "main", "Wait for it", "job", "job").waitEnd(at + job, "main", 100 + f);
            t.end(at + 8000 + more, "main").frameEnd(at + 8000 + more, "main");
            t.at(at, "core 0", onCore(400));
            if (late) t.at(at + 500, "core 0", onCore(200, true)).at(at + 1500, "core 0", onCore(400));
            t.at(at + job, "core 0", onCore(100));
            if (late) t.at(at + 4000, "core 0", onCore(200, true)).at(at + 9000, "core 0", onCore(100));
        }
        const auto e = explained(t.open());
        QCOMPARE(e->causes.size(), size_t{1});
        QCOMPARE(e->recording->groups[e->causes[0].group].name, std::string("main"));
        QCOMPARE(firstSentence(*e, 20),
                 std::string("main and worker were ready to run, but waited for a core 6.0 ms longer than usual (main "
                             "5.0 ms and worker 1.0 ms): CPU contention with updater."));
    }

    void usualContentionIsThatOfAllItsParts() {
        // Every frame is without a core for 2 ms: in Work or in Rest, because of find or updater; the last one for 8
        // ms.
        TextRecording t;
        threadsAndCore(t);
        t.line(R"({"define":"os_thread","id":88,"process":88,"name":"find"})");
        t.at(0, "core 0", onCore(100));
        double at = 0;
        for (int f = 0; f < 41; ++f, at += 40'000) {
            const double more = f == 40 ? 8000 : 2000, inWork = f % 2 ? more : 0,
                         from = at + (f % 2 ? 2000 : 6000 + inWork);
            t.frame(at, "main", 12'000).mark(at, at + 4000 + inWork, "main", "Work");
            t.mark(at + 4000 + inWork, at + 8000 + more, "main", "Rest").frameEnd(at + 8000 + more, "main");
            t.at(from, "core 0", onCore(f % 4 < 2 ? 88 : 200, true)).at(from + more, "core 0", onCore(100));
        }
        const auto e = explained(t.open());
        QCOMPARE(e->usualOf(40), int64_t{10'000'000});
        QCOMPARE(e->usualDuration(40), int64_t{10'000'000});
        QCOMPARE(e->causes.size(), size_t{1});
        QVERIFY(e->causes[0].contention == Contention::OtherPrograms);
        QCOMPARE(e->sharesOf(40)[0].excess, int64_t{6'000'000});
        QCOMPARE(
            firstSentence(*e, 40),
            std::string("main was ready to run, but waited for a core 6.0 ms longer than usual: CPU contention with "
                        "find."));
    }

    // ---- how the excess is shared out ------------------------------------------------------------

    void timeOutsideAnyMarkerCompetesWithMarkers() {
        // 29 ms without a marker, beside a marker that is 515 µs longer.
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 31; ++f, at += 60'000) {
            const bool late = f == 30;
            const double work = late ? 6515 : 6000, gap = late ? 30'000 : 1000;
            t.frame(at, "main").mark(at, at + work, "main", "Work").frameEnd(at + work + gap, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->sharesOf(30).size(), size_t{1});
        QCOMPARE(causeText(*e, 0), QString("A main  unexplained"));
        QCOMPARE(e->sharesOf(30)[0].excess, int64_t{29'000'000});
        QCOMPARE(
            firstSentence(*e, 30),
            std::string("main spent 29.0 ms longer than usual outside any marker. A marker there would tell more."));
    }

    void twoLargeChildrenAreNamedNotTheirCaller() {
        // Frame ▸ Part 0 … 7 of 1 ms each; two of them take 4.5 and 4 ms more.
        TextRecording t;
        double at = partedFrames(t, 30, 8);
        t.frame(at, "main").begin(at, "main", "Frame");
        for (int k = 0; k < 8; ++k) {
            const double length = k == 2 ? 5500 : k == 5 ? 5000 : 1000;
            t.mark(at, at + length, "main", "Part " + std::to_string(k));
            at += length;
        }
        t.end(at, "main").frameEnd(at, "main");
        const auto e = explained(t.open());
        QCOMPARE(e->causes.size(), size_t{2});
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Part 2 slower"));
        QCOMPARE(causeText(*e, 1), QString("B main Frame/Part 5 slower"));
    }

    void whatSomeUsualFramesReachIsNamedWhereNothingElseIs() {
        // Every tenth usual frame spends 6 ms more in Work and less in Rest; a late one more in Work only.
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 101; ++f, at += 40'000) {
            const bool heavy = f % 10 == 9, late = f == 100;
            const double work = heavy || late ? 9000 : 3000, rest = heavy ? 500 : 5000;
            t.frame(at, "main", 12'000).mark(at, at + work, "main", "Work");
            t.mark(at + work, at + work + rest, "main", "Rest").frameEnd(at + work + rest, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->figures.over, size_t{1});
        QCOMPARE(causeText(*e, 0), QString("A main Work slower"));
        QCOMPARE(e->coverageOf(100).part(), 1.0);
    }

    void whatIsLeftOverHasAnOwnerAndIsSaid() {
        // Twenty-five markers side by side on main; each is a little longer by an amount of its own, and one much.
        constexpr int kParts = 25;
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 31; ++f) {
            const double begin = at;
            t.frame(at, "main", 14'000);
            for (int k = 0; k < kParts; ++k) {
                // 400 µs; the late frame has 8 ms more: 2 ms in one of them, 250 µs in each of the others.
                const double length = 400 + (f == 30 ? (k == 3 ? 2000 : 250) : 0);
                t.mark(at, at + length, "main", "Part " + std::to_string(k));
                at += length;
            }
            t.frameEnd(at, "main");
            at = begin + 40'000;
        }
        const auto e = explained(t.open());
        QCOMPARE(e->frames[30].overrun, int64_t{4'000'000});
        const auto coverage = e->coverageOf(30);
        QCOMPARE(coverage.excess, int64_t{8'000'000});
        QCOMPARE(coverage.named, int64_t{2'000'000});
        QCOMPARE(e->causes.size(), size_t{2});
        QCOMPARE(causeText(*e, 0), QString("A main  unexplained"));
        QCOMPARE(causeText(*e, 1), QString("B main Part 3 slower"));
        QCOMPARE(e->causes[0].late, int64_t{3'000'000});  // 6 of 8 ms
        QVERIFY(sentencesOf(*e, 30).contains(
            "These explain 25 % of the 8.0 ms more than usual; the rest is spread over small parts."));
        const Confidence confidence = confidenceOf(*e, 30, e->causes[1], e->segmentsOf(30));
        QVERIFY(confidence.level == ConfidenceLevel::Low);
        QCOMPARE(confidence.doubts.back(), std::string("what is named explains only 25 % of what it took longer"));
    }

    void causesOfNextToNothingAreNotListed() {
        // One frame is late by 100 ms because of Work, one by 0.5 ms because of Flush.
        TextRecording t;
        double at = usualFrames(t, 30);
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 109'000, "main", "Work");
        t.end(at + 110'000, "main").frameEnd(at + 110'000, "main");
        at += 200'000;
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 7000, "main", "Work");
        t.mark(at + 7000, at + 9500, "main", "Flush").end(at + 10'500, "main").frameEnd(at + 10'500, "main");
        const auto e = explained(t.open());
        QCOMPARE(e->causes.size(), size_t{2});
        QCOMPARE(e->listed, size_t{1});
        QCOMPARE(verdictSentence(*e), std::string("2 frames over budget, 100 ms late in all, from 1 cause"));
        QCOMPARE(smallerCausesText(*e), std::string("1 smaller cause: 500 µs late in all"));
    }

    void aCauseIsShownByTheFrameWithMostOfIt() {
        // Frame 30: 5 ms more of Work and 40 ms of Load; frame 31: 12 ms more of Work.
        TextRecording t;
        double at = usualFrames(t, 30);
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 12'000, "main", "Work");
        t.mark(at + 12'000, at + 52'000, "main", "Load").end(at + 53'000, "main").frameEnd(at + 53'000, "main");
        at += 100'000;
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 19'000, "main", "Work");
        t.end(at + 20'000, "main").frameEnd(at + 20'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Load unusual"));
        QCOMPARE(e->worstFrameOf(e->causes[0]), 30u);
        QCOMPARE(causeText(*e, 1), QString("B main Frame/Work slower"));
        QCOMPARE(e->worstFrameOf(e->causes[1]), 31u);
    }

    void theUsualFrameLastsAsLongAsTheMiddleOne() {
        // Two parts that take turns: 7 ms and 1 ms. The medians add up to 2 ms or 8 ms, frames take 8.
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 31; ++f, at += 40'000) {
            const double first = f == 30 ? 9000
                                 : f % 3 ? 1000
                                         : 7000,
                         second = f == 30      ? 9000
                                  : f % 3 == 1 ? 7000
                                               : 1000;
            t.frame(at, "main").mark(at, at + first, "main", "First");
            t.mark(at + first, at + first + second, "main", "Second").frameEnd(at + first + second, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->usualOf(30), int64_t{2'000'000});
        QCOMPARE(e->usualDuration(30), int64_t{8'000'000});
        int64_t steps = 0;
        for (const WaterfallStep& step : waterfallOf(*e, 30)) steps += step.excess;
        QCOMPARE(steps, int64_t{10'000'000});  // from 8 to 18 ms
    }

    // ---- threads without markers -----------------------------------------------------------------

    void threadsThatToldNothingHaveLanesFromTheSystem() {
        TextRecording t;
        threadsAndCore(t);
        t.line(R"({"define":"context","key":"process","value":"100"})");
        t.line(R"({"define":"os_thread","id":100,"process":100,"name":"game"})");
        t.line(R"({"define":"os_thread","id":500,"process":100,"name":"driver"})");
        t.line(R"({"define":"os_thread","id":501,"process":100,"name":"driver"})");
        t.line(R"({"define":"os_thread","id":502,"process":100,"name":"idler"})");  // never had a core
        t.at(0, "core 0", onCore(100));
        double at = usualFrames(t, 30);
        t.frame(at, "main").begin(at, "main", "Frame").begin(at + 1000, "main", "Work");
        t.at(at + 2000, "core 0", onCore(500, true)).at(at + 7000, "core 0", onCore(501));
        t.at(at + 8000, "core 0", onCore(100));
        t.end(at + 13'000, "main").end(at + 14'000, "main").frameEnd(at + 14'000, "main");
        const auto r = t.open();
        std::vector<std::string> shown;
        for (const uint32_t lane : lanesInOrder(*r))
            if (r->lanes[lane].fromSystem) shown.push_back(r->lanes[lane].name);
        QCOMPARE(shown, (std::vector<std::string>{"driver", "driver"}));
        QVERIFY(r->lanes[lanesInOrder(*r).back()].fromSystem);  // after all others
        const Lane& driver = r->lanes[laneNamed(*r, "driver")];
        QCOMPARE(driver.osId, uint64_t{500});
        QCOMPARE(driver.splitBetween(r->begin, r->end).ran, int64_t{5'000'000});
        const auto e = explained(r);
        QCOMPARE(
            firstSentence(*e, 30),
            std::string("main was ready to run, but waited for a core 6.0 ms longer than usual: CPU contention with "
                        "driver."));
        QVERIFY(e->causes[0].contention == Contention::OwnThreads);
    }

    void aThreadThatSpeaksLaterHasItsOwnLane() {
        ModelBuilder builder;
        const auto onCoreAt = [&](int64_t time, uint32_t thread) {
            builder.event(9, {time, EventKind::Switch, thread, 0, 0, {}});
        };
        builder.define(ContextDefinition{"process", "100"});
        builder.define(LaneDefinition{9, LaneKind::Core, 0, "core 0", ""});
        builder.define(OsThreadDefinition{500, 100, "late"});
        onCoreAt(1000, 500);
        onCoreAt(5000, 0);
        const auto before = builder.asItIs();
        const uint32_t lane = laneNamed(*before, "late");
        QVERIFY(lane != kNone && before->lanes[lane].fromSystem && before->lanes[lane].schedule.size() > 0);
        builder.define(LaneDefinition{3, LaneKind::Thread, 500, "late", ""});
        SiteDefinition site;
        site.id = 1;
        site.name = "Work";
        builder.define(site);
        builder.event(3, {6000, EventKind::MarkBegin, 1, 0, 0, {}});
        builder.event(3, {7000, EventKind::MarkEnd, 0, 0, 0, {}});
        const auto after = builder.asItIs();
        QVERIFY(after->lanes[lane].fromSystem && after->lanes[lane].schedule.empty());
        size_t shown = 0;
        for (const uint32_t l : lanesInOrder(*after)) {
            shown += after->lanes[l].name == "late";
            if (after->lanes[l].name == "late") QVERIFY(!after->lanes[l].schedule.empty());
        }
        QCOMPARE(shown, size_t{1});
    }

    // ---- ran, ready, blocked ---------------------------------------------------------------------

    void aMarkerSaysHowMuchOfItRan() {
        TextRecording t;
        threadsAndCore(t);
        t.at(0, "core 0", onCore(100));
        double at = usualFrames(t, 30);
        // Load takes 20 ms: it runs for 4 ms, is blocked for 6 without a wait, runs for 7, has no core for 1, runs
        // again.
        t.frame(at, "main").begin(at, "main", "Frame").begin(at + 1000, "main", "Load");
        t.at(at + 5000, "core 0", onCore(0)).at(at + 11'000, "core 0", onCore(100));
        t.at(at + 18'000, "core 0", onCore(200, true)).at(at + 19'000, "core 0", onCore(100));
        t.end(at + 21'000, "main").end(at + 22'000, "main").frameEnd(at + 22'000, "main");
        const auto e = explained(t.open());
        const Recording& r = *e->recording;
        const Lane& main = r.lanes[0];
        const int64_t begin = e->frame(30).begin;
        const TimeSplit split = main.splitBetween(begin + 1'000'000, begin + 21'000'000);
        QCOMPARE(split.ran, int64_t{13'000'000});
        QCOMPARE(split.ready, int64_t{1'000'000});
        QCOMPARE(split.blocked, int64_t{6'000'000});
        QCOMPARE(
            firstSentence(*e, 30),
            std::string("Frame ▸ Load on main took 19.0 ms; it does not occur in a usual frame. It ran 13.0 ms and "
                        "was blocked 6.0 ms of that."));
        const auto waterfall = waterfallOf(*e, 30);
        QCOMPARE(waterfall[0].excess, int64_t{19'000'000});
        QCOMPARE(waterfall[0].notRunning, int64_t{6'000'000});
        const MarkerRef load{0, 1, main.rows[1].lastBefore(begin + 2'000'000)};
        const MarkerWords words = markerWords(r, nullptr, load);
        QVERIFY(std::count(words.lines.begin(), words.lines.end(),
                           "ran 13.0 ms, ready without a core 1.0 ms, blocked 6.0 ms") == 1);
        const auto table = UsualMarkers(e).ofFrame(30);
        const auto row = std::find_if(table->rows.begin(), table->rows.end(),
                                      [&](const NestedMarker& one) { return r.nameOf(one.path) == "Load"; });
        QCOMPARE(row->total, int64_t{20'000'000});
        QCOMPARE(row->ran, int64_t{13'000'000});
    }

    void timeSplitsAreTheSameHoweverManySwitchesThereAre() {
        TextRecording t;
        threadsAndCore(t);
        std::vector<std::pair<double, int>> switches;  // 100, 0 or 200 from then on
        double at = 0;
        for (int i = 0; i < 400; ++i, at += 100 + i % 7 * 30) {
            const int thread = i % 2 == 0 ? 100 : i % 3 == 0 ? 0 : 200;
            t.at(at, "core 0", onCore(thread, thread == 200));
            switches.emplace_back(at, thread);
        }
        t.mark(0, at, "main", "Work");
        const auto r = t.open();
        const auto slowly = [&](double begin, double end) {
            TimeSplit split;
            for (size_t i = 0; i < switches.size(); ++i) {
                const double to = i + 1 < switches.size() ? switches[i + 1].first : at;
                const auto length =
                    static_cast<int64_t>(std::max(0.0, std::min(end, to) - std::max(begin, switches[i].first)) * 1000);
                (switches[i].second == 100   ? split.ran
                 : switches[i].second == 200 ? split.ready
                                             : split.blocked) += length;
            }
            return split;
        };
        for (double begin = 0; begin < at; begin += at / 23)
            for (double end = begin; end <= at; end += at / 17) {
                const double from = std::floor(begin), to = std::floor(end);
                const TimeSplit quick = r->lanes[0].splitBetween(static_cast<int64_t>(from) * 1000,
                                                                 static_cast<int64_t>(to) * 1000),
                                plain = slowly(from, to);
                QCOMPARE(quick.ran, plain.ran);
                QCOMPARE(quick.ready, plain.ready);
                QCOMPARE(quick.blocked, plain.blocked);
            }
    }

    // ---- loops held by a timer -------------------------------------------------------------------

    /// 60 frames that sleep until their tick of 20 ms, which they miss or make by up to 150 µs. Frame 40 works for 26
    /// ms; frame 50 sleeps 8 ms too long.
    static TextRecording timedFrames(bool told) {
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 60; ++f) {
            const double work = f == 40 ? 26'000 : 6000, drift = f % 5 * 75 - 150.0;
            const double end = f == 40 ? work : 20'000 + drift + (f == 50 ? 8000 : 0);
            t.frame(at, "main", 20'000).mark(at, at + work, "main", "Work");
            if (f != 40) {
                t.wait(at + work, "main", "Rest", "timer", told ? "pacing" : "sleep").waitEnd(at + end, "main");
            }
            t.frameEnd(at + end, "main");
            at += end;
        }
        return t;
    }

    void aLoopThatSleepsToItsTickIsRecognised() {
        const auto e = explained(timedFrames(false).open());
        QCOMPARE(e->timer.tick, int64_t{20'000'000});
        QCOMPARE(e->late, (std::vector<uint32_t>{40, 50}));  // not those that are late by the timer's slack
        QCOMPARE(e->frames[10].work, int64_t{6'000'000});
        // The sleep that gave way takes nothing from what the work took longer.
        QCOMPARE(causeText(*e, 0), QString("A main Rest waiting"));
        QCOMPARE(causeText(*e, 1), QString("B main Work slower"));
        QCOMPARE(e->sharesOf(40)[0].excess, int64_t{20'000'000});
        QCOMPARE(e->coverageOf(40).part(), 1.0);
        const auto advice = adviceFor(*e);
        const auto timer = std::find_if(advice->begin(), advice->end(),
                                        [](const Advice& a) { return a.kind == AdviceKind::TimerPacing; });
        QVERIFY(timer != advice->end());
        QCOMPARE(timer->evidence,
                 std::string("97 % of the frames last 20.0 ms; the time left is spent in Rest. Frames up "
                             "to 20.6 ms count as in budget."));
    }

    void aSleepWithoutAMarkerIsRecognisedToo() {
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 60; ++f) {
            const double work = f == 40 ? 26'000 : 6000 + f % 3 * 1000,
                         end = f == 40 ? work : 20'000 + f % 5 * 75 - 150.0;
            t.frame(at, "main", 20'000).mark(at, at + work, "main", "Work").frameEnd(at + end, "main");
            at += end;
        }
        const auto e = explained(t.open());
        QCOMPARE(e->timer.tick, int64_t{20'000'000});
        QCOMPARE(e->late, std::vector<uint32_t>{40});
        QCOMPARE(causeText(*e, 0), QString("A main Work slower"));
    }

    void whoeverTellsItsPacingIsBelieved() {
        const auto e = explained(timedFrames(true).open());
        QCOMPARE(e->timer.tick, int64_t{0});
        QCOMPARE(e->late, (std::vector<uint32_t>{40}));  // one that sleeps too long ended on its tick
        // A loop that works until its deadline is no loop that sleeps.
        TextRecording busy;
        for (int f = 0; f < 60; ++f) {
            const double at = f * 20'000.0, end = at + 19'950 + f % 5 * 75 - 150.0;
            busy.frame(at, "main", 19'900).mark(at, end, "main", "Work").frameEnd(end, "main");
        }
        const auto worked = explained(busy.open());
        QCOMPARE(worked->timer.tick, int64_t{0});
        QVERIFY(worked->figures.over > 20);
        // Nor is one whose frames last well below their deadline.
        QCOMPARE(explained(timedFrames(false).open(), 50'000'000)->timer.tick, int64_t{0});
    }

    // ---- what is missing -------------------------------------------------------------------------

    void aLostEndIsMendedWithItsFrame() {
        TextRecording t;
        double at = usualFrames(t, 20);
        t.frame(at, "main").begin(at, "main", "Frame").begin(at + 1000, "main", "Work");  // its end is lost
        t.end(at + 8000, "main").frameEnd(at + 8000, "main");
        at = usualFrames(t, 20, at + 20'000);
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 15'000, "main", "Work");
        t.end(at + 16'000, "main").frameEnd(at + 16'000, "main");
        const auto r = t.open();
        QCOMPARE(r->repairs.beginsWithoutEnd, uint64_t{1});
        QCOMPARE(r->lanes[0].rows.size(), size_t{2});
        const auto e = explained(r);
        QCOMPARE(e->figures.over, size_t{1});
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Work slower"));
    }

    void whatOutlivesItsFrameIsNoLostEnd() {
        // A scope around the loop's body ends just after its frame does; a loading screen goes on into the next frame.
        TextRecording t;
        t.begin(0, "main", "Loop");
        for (int f = 0; f < 3; ++f) {
            const double at = 100 + f * 20'000.0;
            t.frame(at, "main").begin(at, "main", "Body").mark(at + 1000, at + 7000, "main", "Work");
            t.frameEnd(at + 8000, "main").end(at + 8001, "main");
        }
        t.frame(70'000, "main").begin(71'000, "main", "Loading").frameEnd(78'000, "main");
        t.frame(80'000, "main").mark(81'000, 82'000, "main", "Work").end(83'000, "main").frameEnd(88'000, "main");
        t.end(90'000, "main");
        const auto r = t.open();
        QCOMPARE(r->repairs.beginsWithoutEnd, uint64_t{1});  // Loading, which ends with its frame
        QCOMPARE(r->repairs.endsWithoutBegin, uint64_t{0});
        const auto& rows = r->lanes[0].rows;
        QCOMPARE(rows[0].size(), size_t{1});
        QCOMPARE(rows[0].end(0), int64_t{90'000'000});
        QCOMPARE(rows[1].end(0), int64_t{8'101'000});
        QCOMPARE(rows[1].end(3), int64_t{78'000'000});
    }
    // ---- starting up -------------------------------------------------------------------------------

    void startUpIsRankedAfterEverythingElse() {
        // The first frame loads for 3 s, the second for 30 ms; later, Work takes 6 ms longer in three frames.
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 60; ++f) {
            const double load = f == 0 ? 3'000'000 : f == 1 ? 30'000 : 0, more = f % 20 == 15 ? 6000 : 0;
            t.frame(at, "main").begin(at, "main", "Frame");
            if (load > 0) t.mark(at, at + load, "main", "Load");
            t.mark(at + load, at + load + 6000 + more, "main", "Work").end(at + load + 7000 + more, "main");
            t.frameEnd(at + load + 7000 + more, "main");
            at += load + 20'000;
        }
        const auto e = explained(t.open());
        QCOMPARE(e->figures.over, size_t{5});
        QCOMPARE(e->figures.startUpOver, size_t{2});
        QCOMPARE(e->figures.startUpLate, int64_t{2'997'000'000 + 27'000'000});
        QCOMPARE(e->causes.size(), size_t{2});
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Frame ▸ Work"));
        QCOMPARE(e->causes[0].letter, std::string("A"));
        QCOMPARE(causeTitle(*e, e->causes[1]), std::string("Starting up: Frame ▸ Load"));
        QCOMPARE(e->causes[1].frames, (std::vector<uint32_t>{0, 1}));
        QCOMPARE(e->listed, size_t{2});  // though the first has less than a hundredth of the time late
        QVERIFY(verdictSentence(*e).find("late in all (3.02 s of it starting up), from 2 causes") != std::string::npos);
    }

    void aStageThatLoadsIsStartUpToo() {
        TextRecording t;
        for (int f = 0; f < 60; ++f) {
            const double at = f * 40'000.0, more = f == 30 || f == 50 ? 8000 : 0;
            if (f == 0) t.at(at, "main", R"("do":"state","state":"stage","value":"Harbour")");
            if (f == 28) t.at(at, "main", R"("do":"state","state":"stage","value":"Loading the next race")");
            if (f == 32) t.at(at, "main", R"("do":"state","state":"stage","value":"Race")");
            t.frame(at, "main").mark(at, at + 7000 + more, "main", "Work").frameEnd(at + 8000 + more, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, (std::vector<uint32_t>{30, 50}));
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Work"));
        QCOMPARE(e->causes[0].frames, std::vector<uint32_t>{50});
        QCOMPARE(causeTitle(*e, e->causes[1]), std::string("Starting up: Work"));
    }

    void aSlowBeginIsNoStartUp() {
        // Not even ten deadlines long: like any other frame.
        TextRecording t;
        for (int f = 0; f < 60; ++f) {
            const double at = f * 100'000.0, more = f == 0 || f == 50 ? 60'000 : 0;
            t.frame(at, "main").mark(at, at + 7000 + more, "main", "Work").frameEnd(at + 8000 + more, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->figures.startUpOver, size_t{0});
        QCOMPARE(e->causes.size(), size_t{1});
        QCOMPARE(e->causes[0].frames, (std::vector<uint32_t>{0, 50}));
    }

    // ---- a part alone ------------------------------------------------------------------------------

    void aTimeRangeOrAStageIsExplainedAlone() {
        // Work is slow in frames 35 (Harbour), 75 (Race) and 76; frames last 8 ms each 20 ms.
        TextRecording t;
        for (int f = 0; f < 80; ++f) {
            const double at = f * 20'000.0, more = f == 35 ? 4000 : f == 75 || f == 76 ? 6000 : 0;
            if (f == 0) t.at(at, "main", R"("do":"state","state":"stage","value":"Harbour")");
            if (f == 40) t.at(at, "main", R"("do":"state","state":"stage","value":"Race")");
            t.frame(at, "main").mark(at, at + 7000 + more, "main", "Work").frameEnd(at + 8000 + more, "main");
        }
        const auto r = t.open();
        const auto sums = sumCriticalPaths(*r, 0);
        const auto all = explain(r, sums, 0);
        QCOMPARE(all->late, (std::vector<uint32_t>{35, 75, 76}));
        QVERIFY(all->scope.whole());
        ExplainScope race;
        race.stage = "Race";
        const auto ofRace = explain(r, sums, {0, nullptr, race}, {}, all.get());
        QCOMPARE(ofRace->late, (std::vector<uint32_t>{75, 76}));
        QCOMPARE(ofRace->figures.frames, size_t{40});
        QCOMPARE(ofRace->figures.worst, int64_t{14'000'000});
        QCOMPARE(ofRace->causes[0].letter, all->causes[0].letter);
        QCOMPARE(scopeText(*ofRace), std::string("stage Race"));
        QVERIFY(verdictSentence(*ofRace).find("2 frames over budget") == 0);
        QCOMPARE(predict(*ofRace, {{0, false}})->over, 0u);
        // From frame 30 to before frame 75: fewer than thirty frames would be too few to compare with, these suffice.
        const auto ofTime = explain(r, sums, {0, nullptr, {30 * 20'000'000, 75 * 20'000'000, {}}});
        QCOMPARE(ofTime->late, std::vector<uint32_t>{35});
        QCOMPARE(ofTime->figures.frames, size_t{45});
        QCOMPARE(scopeText(*ofTime), std::string("from 600 ms to 1.50 s"));
        // Of two frames alone, both late: they are compared with those outside.
        const auto two = explain(r, sums, {0, nullptr, {75 * 20'000'000, 77 * 20'000'000, {}}});
        QCOMPARE(two->late, (std::vector<uint32_t>{75, 76}));
        QCOMPARE(two->usualDuration(75), int64_t{8'000'000});
        QVERIFY(!two->baselines[two->frames[75].baseline].onlyLate);
        // Of none.
        const auto none = explain(r, sums, {0, nullptr, {1, 2, {}}});
        QCOMPARE(none->figures.frames, size_t{0});
        QCOMPARE(verdictSentence(*none), std::string("No frame begins in what is to be explained alone."));
        QVERIFY(adviceFor(*none));
    }
};

QTEST_GUILESS_MAIN(CausesTest)
#include "causes_test.moc"
