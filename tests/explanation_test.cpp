// SPDX-License-Identifier: GPL-3.0-or-later
//
// Each rule of docs/explanation.md on a small recording whose answer is worked out by hand.
#include <QtTest>
#include <random>

#include "core/ask/usual_markers.h"
#include "core/explain/advice/advice.h"
#include "core/explain/causes/confidence.h"
#include "core/explain/causes/earlier_stage.h"
#include "core/explain/causes/growing.h"
#include "core/explain/simulation/what_if.h"
#include "core/explain/words/frame_sentences.h"
#include "core/explain/words/templates.h"
#include "core/model/open_recording.h"
#include "testing/explaining.h"

using namespace fugato;

class ExplanationTest : public QObject {
    Q_OBJECT

private slots:
    // ---- how sure a cause is, and through which stages it came -----------------------------------------

    void eachCauseSaysHowSureItIs_data() {
        QTest::addColumn<QString>("missing");
        QTest::addColumn<QString>("sentence");
        QTest::newRow("nothing") << ""
                                 << "Confidence: high. All that this rests on was recorded, and fits together.";
        QTest::newRow("cores") << "cores"
                               << "Confidence: medium. Whether main always had a core was not recorded.";
        QTest::newRow("few") << "few"
                             << "Confidence: medium. It is compared with only 12 frames in budget.";
        QTest::newRow("hardly any") << "hardly any"
                                    << "Confidence: low. It is compared with only 5 frames in budget.";
        QTest::newRow("who ended it") << "who ended it"
                                      << "Confidence: medium. Who ended that wait was not recorded.";
        QTest::newRow("events") << "events"
                                << "Confidence: low. Events of main are missing in this frame.";
        QTest::newRow("an end") << "an end"
                                << "Confidence: medium. The end of ‘Nap’ was not recorded.";
        QTest::newRow("marker") << "marker"
                                << "Confidence: low. No marker says what was done there.";
        QTest::newRow("deadline") << "deadline"
                                  << "Confidence: medium. No frame met its deadline, so it is compared with the "
                                     "quickest quarter of all frames.";
    }
    void eachCauseSaysHowSureItIs() {
        QFETCH(QString, missing);
        QFETCH(QString, sentence);
        TextRecording t;
        threadsAndCore(t);
        if (missing != "cores") t.at(0, "core 0", onCore(100));
        const bool late = missing == "deadline";
        const int usual = missing == "few" ? 12 : missing == "hardly any" ? 5 : 40;
        double at = 0;
        for (int i = 0; i < usual; ++i, at += 20'000) {
            t.frame(at, "main", late ? 5000 : 10'000).begin(at, "main", "Frame");
            t.mark(at + 1000, at + 7000, "main", "Work").end(at + 8000, "main").frameEnd(at + 8000, "main");
        }
        t.frame(at, "main", late ? 5000 : 10'000).begin(at, "main", "Frame");
        if (missing == "who ended it")
            t.mark(at + 1000, at + 7000, "main", "Work")
                .wait(at + 7000, "main", "Wait", "thing", "condition")
                .waitEnd(at + 17'000, "main");
        else if (missing == "an end")  // the marker around it ends
            t.begin(at + 1000, "main", "Work").wait(at + 16'000, "main", "Nap", "bed", "sleep");
        else if (missing == "marker")
            t.mark(at + 11'000, at + 17'000, "main", "Work");
        else
            t.mark(at + 1000, at + 17'000, "main", "Work");
        if (missing == "events") t.at(at + 17'500, "main", R"("do":"lost","events":3)");
        t.end(at + 18'000, "main").frameEnd(at + 18'000, "main");
        if (missing != "cores") t.at(at + 30'000, "core 0", onCore(0));
        const auto e = explained(t.open());
        QStringList all;
        for (const Sentence& said : frameSentences(*e, uint32_t(usual))) all << QString::fromStdString(said.text);
        QVERIFY2(all.contains(sentence), qPrintable(all.join("\n")));
    }

    void framesStandWhereNothingWasAddedToAnyLane() {
        // main and worker; the worker's last 20 ms come later than main's.
        const auto upTo = [](int frames, double workerUntil, const char* site = "Work") {
            TextRecording t;
            for (int i = 0; i < frames; ++i) {
                const double at = i * 20'000.0;
                t.frame(at, "main").mark(at, at + 8000, "main", site).frameEnd(at + 8000, "main");
                if (at + 4000 <= workerUntil) t.mark(at + 1000, at + 4000, "worker", "Job");
            }
            return t.open();
        };
        const auto e = explained(upTo(300, 290 * 20'000));
        const auto same = upTo(320, 290 * 20'000);
        QCOMPARE(framesThatStand(*e, *same), 299u);  // the last one ended when main was last heard of
        const auto more = upTo(320, 320 * 20'000);
        QCOMPARE(framesThatStand(*e, *more), 289u);  // its next job may have begun in frame 289
        QCOMPARE(framesThatStand(*e, *upTo(320, 290 * 20'000, "Toil")), 0u);  // another recording
        QCOMPARE(framesThatStand(*e, *upTo(200, 290 * 20'000)), 200u);        // it has become shorter
        for (const auto& now : {same, more}) {
            const auto further = explainIncrementally(now, *e);
            QCOMPARE(further->frames.size(), size_t{320});
            QCOMPARE(further->usualOver, 300u);
        }
        const auto less = explainIncrementally(upTo(200, 0), *e);
        QCOMPARE(less->frames.size(), size_t{200});
        QCOMPARE(less->usualOver, 200u);
        QVERIFY(!explainIncrementally(more, *e, [](double) { return false; }));  // cancelled
    }

    void aStageThatComesWhileItGrowsIsComparedWithItself() {
        const auto upTo = [](int frames) {
            TextRecording t;
            t.at(0, "main", R"("do":"state","state":"stage","value":"Quiet")");
            for (int i = 0; i < frames; ++i) {
                const double at = i * 20'000.0, work = i < 300 ? 4000 : 9000;
                if (i == 150) t.at(at - 1, "main", R"("do":"state","state":"stage","value":"Brisk")");
                if (i == 300) t.at(at - 1, "main", R"("do":"state","state":"stage","value":"Busy")");
                t.frame(at, "main").mark(at, at + work, "main", "Work").frameEnd(at + work, "main");
            }
            return t.open();
        };
        const auto e = explained(upTo(300));
        QCOMPARE(e->baselines[e->frames[299].baseline].stage, std::string("Brisk"));
        const auto further = explainIncrementally(upTo(330), *e);
        QCOMPARE(further->usualOver, 330u);  // there was no usual frame for it: all was worked out anew
        QCOMPARE(further->baselines[further->frames[329].baseline].stage, std::string("Busy"));
        QCOMPARE(further->usualOf(329), int64_t{9'000'000});
    }

    void aCauseIsFoundByItsKeyAndByItsWorstFrame() {
        TextRecording t;
        double at = usualFrames(t, 30);
        for (const double work : {12'000.0, 15'000.0, 13'000.0}) {
            t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + work, "main", "Work");
            t.end(at + work + 1000, "main").frameEnd(at + work + 1000, "main");
            at += 40'000;
        }
        const auto e = explained(t.open());
        QCOMPARE(e->causes.size(), size_t{1});
        QCOMPARE(e->worstFrameOf(e->causes[0]), 31u);
        QCOMPARE(e->causeLike(e->causes[0].key), 0u);
        CauseKey other = e->causes[0].key;
        other.waiting = true;
        QCOMPARE(e->causeLike(other), kNone);
        QCOMPARE(e->late, (std::vector<uint32_t>{30, 31, 32}));
    }

    void aLateFrameSaysThroughWhichStageItCame() {
        // main works, then lets render draw; the picture ends after the frame of main. In the last one Work is slow,
        // in the one before render itself is.
        TextRecording t;
        int link = 1;
        const auto round = [&](double at, double work, double draw) {
            t.frame(at, "main", 10'000, "loop").begin(at, "main", "Frame").mark(at, at + work, "main", "Work");
            t.linkOut(at + work, "main", link).end(at + work + 100, "main").frameEnd(at + work + 100, "main", "loop");
            t.frame(at + 100, "render", 12'000, "picture").wait(at + 100, "render", "Await", "scene", "job");
            t.waitEnd(at + work + 50, "render", link++).mark(at + work + 50, at + work + draw, "render", "Draw");
            t.frameEnd(at + work + draw, "render", "picture");
        };
        double at = 0;
        for (int i = 0; i < 40; ++i, at += 40'000) round(at, 6000, 3000);
        round(at, 6000, 14'000);
        round(at + 40'000, 20'000, 3000);
        const auto r = t.open();
        QCOMPARE(r->series[1].name, std::string("picture"));
        const auto e = explain(r, sumCriticalPaths(*r, 1), 0);
        QCOMPARE(e->late, (std::vector<uint32_t>{40, 41}));
        QVERIFY(earlierStages(*e, 40, e->segmentsOf(40)).empty());
        const auto through = earlierStages(*e, 41, e->segmentsOf(41));
        QCOMPARE(through.size(), size_t{1});
        QCOMPARE(through[0].series, 0u);
        QCOMPARE(through[0].frame, 41u);
        QCOMPARE(through[0].overrun, int64_t{10'100'000});
        bool said = false;
        for (const Sentence& s : frameSentences(*e, 41)) {
            if (s.text != "It came through frame 41 of ‘loop’, which was 10.1 ms late itself.") continue;
            said = true;
            QCOMPARE(s.lane, laneNamed(*r, "main"));
            QCOMPARE(s.begin, r->series[0].frames[41].begin);
        }
        QVERIFY(said);
        // The loop's own frame did not come through the picture, which ended after it.
        QVERIFY(earlierStages(*explained(r), 41, explained(r)->segmentsOf(41)).empty());
    }

    void aLateFrameLikelyCameThroughOneThatEndedAsItsWaitDid() {
        // The same without links: that main ended render's wait is not told. In frame 41 main is late by 10.1 ms; in
        // frame 43 only render waits, for something else. Where render waits in every frame, its waits usually end with
        // main's work, and it takes over that cause; where it usually does not wait, nothing tells that.
        for (const bool usually : {true, false}) {
            TextRecording t;
            const auto round = [&](double at, double work, double waited) {
                t.frame(at, "main", 10'000, "loop").mark(at, at + work, "main", "Work");
                t.frameEnd(at + work + 100, "main", "loop");
                t.frame(at + 100, "render", 12'000, "picture");
                if (usually || waited > 10'000)
                    t.wait(at + 100, "render", "Await", "scene", "job").waitEnd(at + waited, "render");
                t.mark(at + waited, at + waited + 3000, "render", "Draw");
                t.frameEnd(at + waited + 3000, "render", "picture");
            };
            for (int i = 0; i < 45; ++i)
                round(i * 40'000.0, i == 41 ? 20'000 : 6000, i == 41 ? 20'050 : i == 43 ? 25'000 : 6050);
            const auto r = t.open();
            const auto e = explain(r, sumCriticalPaths(*r, 1), 0);
            QCOMPARE(e->late, (std::vector<uint32_t>{41, 43}));
            QCOMPARE(causeTitle(*e, e->causes[e->sharesOf(41).front().cause]), std::string(usually ? "Work" : "Await"));
            QCOMPARE(causeTitle(*e, e->causes[e->sharesOf(43).front().cause]), std::string("Await"));
            const auto through = earlierStages(*e, 41, e->segmentsOf(41));
            QCOMPARE(through.size(), size_t{1});
            QVERIFY(through[0].likely);
            QCOMPARE(through[0].frame, 41u);
            const auto sentences = frameSentences(*e, 41);
            QVERIFY(std::any_of(sentences.begin(), sentences.end(), [](const Sentence& s) {
                return s.text ==
                       "It likely came through frame 41 of ‘loop’, which was 10.1 ms late itself and ended as this "
                       "wait "
                       "did.";
            }));
            QVERIFY(earlierStages(*e, 43, e->segmentsOf(43)).empty());
        }
    }

    // ---- what measuring cost -----------------------------------------------------------------

    void measuringIsToldWhenItCostsTooMuch() {
        const auto made = [](int calls) {
            TextRecording t;
            t.line(R"({"define":"context","key":"marker cost ns","value":"20"})");
            t.line(R"({"define":"site","id":1,"name":"Particle","category":"spray"})");
            for (int f = 0; f < 10; ++f) {
                t.frame(f * 1000, "main").begin(f * 1000, "main", "Frame");
                for (int i = 0; i < calls; ++i) t.mark(f * 1000 + i, f * 1000 + i + 0.5, "main", "Particle");
                t.end(f * 1000 + 900, "main").frameEnd(f * 1000 + 900, "main");
            }
            return t.open();
        };
        const auto few = made(4), many = made(800);
        const Measuring little = measuringOf(*few, 0), much = measuringOf(*many, 0);
        QVERIFY(!little.overLimit());
        QVERIFY(measuringAdvice(*few, little).empty());
        QCOMPARE(measuringInFrame(*few, few->series[0].frames[3], 20), int64_t{5 * 20});
        QCOMPARE(much.inFrames, int64_t{10 * 801 * 20});
        QVERIFY(std::abs(much.share - 801 * 20 / 900'000.0) < 1e-9);
        QCOMPARE(many->sites[much.most.at(0).site].name, std::string("Particle"));
        QCOMPARE(much.most[0].count, uint64_t{8000});
        QCOMPARE(much.most[0].perFrame, 800.0);
        QVERIFY(!much.overLimit());  // 1.8 % is below the limit
        const auto more = made(950);
        const std::string advice = measuringAdvice(*more, measuringOf(*more, 0));
        QVERIFY2(advice.find("‘Particle’, 950 times a frame. Switch its category ‘spray’ to a coarser detail.") !=
                     std::string::npos,
                 advice.c_str());
    }

    // ---- frames --------------------------------------------------------------------------------

    void framesAreInBudgetNearOrOverTheirOwnDeadline() {
        TextRecording t;
        t.frame(0, "main", 10'000).frameEnd(9'000, "main").frame(20'000, "main", 10'000).frameEnd(29'001, "main");
        t.frame(40'000, "main", 10'000).frameEnd(50'000, "main").frame(60'000, "main", 10'000).frameEnd(70'001, "main");
        t.frame(80'000, "main", 30'000).frameEnd(90'001, "main");
        const auto e = explained(t.open());
        const auto state = [&](uint32_t f) { return e->frames[f].state; };
        QCOMPARE(state(0), FrameState::InBudget);
        QCOMPARE(state(1), FrameState::Near);
        QCOMPARE(state(2), FrameState::Near);
        QCOMPARE(state(3), FrameState::Over);
        QCOMPARE(e->frames[3].overrun, int64_t{1'000});
        QCOMPARE(state(4), FrameState::InBudget);
        QCOMPARE(e->figures.over, size_t{1});
        QCOMPARE(e->figures.near, size_t{2});
        QCOMPARE(e->figures.late, int64_t{1'000});
        QCOMPARE(e->figures.p50, int64_t{10'000'000});
        QCOMPARE(e->figures.worst, int64_t{10'001'000});
    }

    void aBudgetOfThePersonReplacesEveryDeadline() {
        TextRecording t;
        usualFrames(t, 10);
        const auto r = t.open();
        QCOMPARE(explained(r)->figures.over, size_t{0});
        QCOMPARE(explained(r, 7'000'000)->figures.over, size_t{10});
        QCOMPARE(explained(r, 7'000'000)->figures.late, int64_t{10'000'000});
    }

    void waitingForTheNextTickIsNoWorkAndNoCause() {
        TextRecording t;
        for (int i = 0; i < 12; ++i) {  // 6 ms of work, held to the tick at 10.1 ms
            const double at = i * 11'000;
            t.frame(at, "main")
                .begin(at, "main", "Work")
                .end(at + 6'000, "main")
                .wait(at + 6'000, "main", "Tick", "display", "pacing")
                .waitEnd(at + 10'100, "main")
                .frameEnd(at + 10'100, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->figures.over, size_t{0});
        QCOMPARE(e->frames[0].work, int64_t{6'000'000});
        QCOMPARE(e->figures.near, size_t{0});
    }

    // ---- causes and kinds ------------------------------------------------------------------------

    void workThatNeverOccursInUsualFramesIsUnusualAndNamedAsAWhole() {
        TextRecording t;
        const double at = usualFrames(t, 20);
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 7000, "main", "Work");
        t.begin(at + 7000, "main", "Load")
            .mark(at + 7500, at + 12'000, "main", "Unpack")
            .end(at + 13'000, "main")
            .end(at + 14'000, "main")
            .frameEnd(at + 14'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(e->figures.over, size_t{1});
        QCOMPARE(e->usualOf(20), int64_t{8'000'000});
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Load unusual"));
        QCOMPARE(e->sharesOf(20)[0].excess, int64_t{6'000'000});
        QCOMPARE(predict(*e, {{0, false}})->saved, 1u);
        QCOMPARE(causeKindPhrase(*e, e->causes[0]), std::string("never in a usual frame"));
    }

    void aCallThatTakesLongerIsSlowerAndNamedWhereTheExcessSits() {
        TextRecording t;
        const double at = usualFrames(t, 20);
        t.frame(at, "main")
            .begin(at, "main", "Frame")
            .mark(at + 1000, at + 13'000, "main", "Work")
            .end(at + 14'000, "main")
            .frameEnd(at + 14'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Work slower"));
        QCOMPARE(e->causes[0].slowdown, 2.0);
        QCOMPARE(verdictSentence(*e), std::string("1 frame over budget, 4.0 ms late in all, from 1 cause"));
    }

    void moreCallsAreToldFromSlowerCalls() {
        TextRecording t;
        double at = 0;
        for (int i = 0; i < 20; ++i, at += 20'000) {
            t.frame(at, "main").begin(at, "main", "Frame");
            for (int k = 0; k < 3; ++k) t.mark(at + 1000 + k * 1000, at + 2000 + k * 1000, "main", "Step");
            t.end(at + 5000, "main").frameEnd(at + 5000, "main");
        }
        t.frame(at, "main").begin(at, "main", "Frame");
        for (int k = 0; k < 12; ++k) t.mark(at + 1000 + k * 1000, at + 2000 + k * 1000, "main", "Step");
        t.end(at + 14'000, "main").frameEnd(at + 14'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Step more_calls"));
        QCOMPARE(e->causes[0].calls, 12.0);
        QCOMPARE(e->causes[0].usualCalls, 3.0);
        QCOMPARE(causeKindPhrase(*e, e->causes[0]), std::string("more calls: 12, usually 3"));
    }

    void timeBehindALockIsWaitingAndNamesTheHoldersMarker() {
        TextRecording t;
        const double at = usualFrames(t, 20);
        t.begin(at, "save", "Autosave")
            .begin(at, "save", "Flush")
            .taken(at, "save", "gate")
            .mark(at + 10, at + 11'000, "save", "write")
            .given(at + 11'000, "save", "gate")
            .end(at + 11'500, "save")
            .end(at + 12'000, "save");
        t.frame(at, "main")
            .begin(at, "main", "Frame")
            .mark(at + 1000, at + 7000, "main", "Work")
            .wait(at + 7000, "main", "Wait", "gate", "lock")
            .waitEnd(at + 11'000, "main")
            .end(at + 12'000, "main")
            .frameEnd(at + 12'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(causeText(*e, 0), QString("A save Autosave/Flush waiting"));
        QCOMPARE(e->sharesOf(20)[0].excess, int64_t{4'000'000});
        QCOMPARE(causeKindPhrase(*e, e->causes[0]), std::string("waits: lock held on save"));
        const auto sentences = frameSentences(*e, 20);
        QCOMPARE(sentences.at(0).text, std::string("main waited 4.0 ms for ‘gate’. save held it inside Autosave ▸ "
                                                   "Flush. In usual frames there is no such wait."));
    }

    void aWaitWithoutAKnownEndIsItselfTheCause() {
        TextRecording t;
        const double at = usualFrames(t, 20);
        t.frame(at, "main")
            .begin(at, "main", "Frame")
            .mark(at + 1000, at + 7000, "main", "Work")
            .wait(at + 7000, "main", "Read", "disk", "file")
            .waitEnd(at + 12'000, "main")
            .end(at + 13'000, "main")
            .frameEnd(at + 13'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Read waiting"));
        QCOMPARE(causeKindPhrase(*e, e->causes[0]), std::string("waits for a file on main"));
    }

    void workOnAnotherLaneThatIsUsuallyNotWaitedForIsJudgedByItsOwnUsualLength() {
        TextRecording t;
        double at = 0;
        for (int i = 0; i < 20; ++i, at += 20'000) {
            t.mark(at, at + 5000, "gpu", "Scene");
            t.frame(at, "main").mark(at, at + 8000, "main", "Work").frameEnd(at + 8000, "main");
        }
        t.begin(at, "gpu", "Scene").linkOut(at + 15'000, "gpu", 1).end(at + 15'000, "gpu");
        t.frame(at, "main")
            .mark(at, at + 8000, "main", "Work")
            .wait(at + 8000, "main", "WaitGpu", "fence", "gpu")
            .waitEnd(at + 15'000, "main", 1)
            .frameEnd(at + 15'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(causeText(*e, 0), QString("A gpu Scene slower"));
        QCOMPARE(e->causes[0].slowdown, 3.0);
    }

    void severalCausesAreNamedUntilFourFifthsOfTheExcessAreCovered() {
        TextRecording t;
        const double at = usualFrames(t, 20);
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 7000, "main", "Work");
        t.mark(at + 7000, at + 11'000, "main", "X")
            .mark(at + 11'000, at + 14'000, "main", "Y")
            .mark(at + 14'000, at + 14'500, "main", "Z")
            .end(at + 15'500, "main")
            .frameEnd(at + 15'500, "main");
        const auto e = explained(t.open());
        QCOMPARE(e->sharesOf(20).size(), size_t{2});  // X 4 ms, Y 3 ms of 7.5 ms; Z is left over
        QCOMPARE(causeText(*e, 0), QString("A main Frame/X unusual"));
        QCOMPARE(causeText(*e, 1), QString("B main Frame/Y unusual"));
        QCOMPARE(e->sharesOf(20)[0].late + e->sharesOf(20)[1].late, int64_t{5'500'000});
    }

    void aLateFrameInWhichNothingTookLongerIsUnexplained() {
        TextRecording t;
        usualFrames(t, 20);
        const auto e = explained(t.open(), 7'999'999);
        QCOMPARE(e->figures.over, size_t{20});
        QCOMPARE(e->baselines[0].onlyLate, true);
        QCOMPARE(e->causes.size(), size_t{1});
        QCOMPARE(e->causes[0].kind, CauseKind::Unexplained);
        QVERIFY(QString::fromStdString(verdictSentence(*e)).contains("no cause that was recorded"));
    }

    // ---- usual frames, spikes, origins -------------------------------------------------------------

    void stagesHaveUsualFramesOfTheirOwn() {
        TextRecording t;
        t.at(0, "main", R"("do":"state","state":"stage","value":"Quiet")");
        double at = 0;
        for (int i = 0; i < 40; ++i, at += 20'000) {
            if (i == 20) t.at(at - 1, "main", R"("do":"state","state":"stage","value":"Busy")");
            t.frame(at, "main")
                .mark(at, at + (i < 20 ? 2000 : 9000), "main", "Work")
                .frameEnd(at + (i < 20 ? 2000 : 9000), "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->baselines.size(), size_t{2});
        QCOMPARE(e->usualOf(0), int64_t{2'000'000});
        QCOMPARE(e->usualOf(39), int64_t{9'000'000});
    }

    void lateFramesInARowAreOneSpikeAndSpikesOfOneCauseAreGathered() {
        TextRecording t;
        double at = usualFrames(t, 20);
        const auto slow = [&](int count) {
            for (int i = 0; i < count; ++i, at += 20'000)
                t.frame(at, "main")
                    .begin(at, "main", "Frame")
                    .mark(at + 1000, at + 12'000, "main", "Work")
                    .end(at + 13'000, "main")
                    .frameEnd(at + 13'000, "main");
        };
        slow(3);
        at = usualFrames(t, 5, at);
        slow(1);
        at = usualFrames(t, 5, at);
        const auto e = explained(t.open());
        QCOMPARE(e->spikes.size(), size_t{2});
        QCOMPARE(e->spikes[0].first, 20u);
        QCOMPARE(e->spikes[0].last, 22u);
        QCOMPARE(e->spikes[0].late, int64_t{9'000'000});
        QCOMPARE(e->causes.size(), size_t{1});
        QCOMPARE(e->causes[0].spikes.size(), size_t{2});
        QCOMPARE(e->causes[0].frames.size(), size_t{4});
        QCOMPARE(e->causes[0].late, int64_t{12'000'000});
    }

    void causesAreRankedByTheTimeTheyCost() {
        TextRecording t;
        double at = usualFrames(t, 20);
        const auto late = [&](const char* name, double ms) {
            t.frame(at, "main")
                .begin(at, "main", "Frame")
                .mark(at + 1000, at + 7000, "main", "Work")
                .mark(at + 7000, at + 7000 + ms * 1000, "main", name)
                .end(at + 8000 + ms * 1000, "main")
                .frameEnd(at + 8000 + ms * 1000, "main");
            at = usualFrames(t, 3, at + 40'000);
        };
        late("Small", 4);
        late("Large", 9);
        late("Small", 4);
        const auto e = explained(t.open());
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Large unusual"));
        QCOMPARE(causeText(*e, 1), QString("B main Frame/Small unusual"));
        QCOMPARE(e->causes[1].spikes.size(), size_t{2});
    }

    void aFrameThatSuffersFromWorkAskedForEarlierNamesThatFrame() {
        TextRecording t;
        double at = 0;
        for (int i = 0; i < 20; ++i, at += 20'000) {
            t.frame(at, "main").begin(at, "main", "Work");
            if (i == 17) t.linkOut(at + 1000, "main", 5);
            t.end(at + 8000, "main").frameEnd(at + 8000, "main");
        }
        const double asked = 17 * 20'000 + 1000;
        t.begin(asked + 100, "worker", "Rank")
            .linkIn(asked + 100, "worker", 5)
            .linkOut(at + 14'000, "worker", 6)
            .end(at + 14'000, "worker");
        t.frame(at, "main")
            .mark(at, at + 8000, "main", "Work")
            .wait(at + 8000, "main", "WaitRank", "table", "job")
            .waitEnd(at + 14'000, "main", 6)
            .frameEnd(at + 14'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(e->spikes.size(), size_t{1});
        QCOMPARE(e->spikes[0].first, 20u);
        QCOMPARE(e->spikes[0].origin, 17u);
        QCOMPARE(causeText(*e, 0), QString("A worker Rank unusual"));
        bool told = false;
        for (const Sentence& sentence : frameSentences(*e, 20))
            told |= sentence.text == "The work was asked for in frame 17; this frame is late because of it.";
        QVERIFY(told);
    }

    // ---- table, waterfall, words ------------------------------------------------------------------------

    void theFrameTableCountsEveryLaneAgainstUsual() {
        TextRecording t;
        const double at = usualFrames(t, 20);
        t.mark(at - 1000, at + 3000, "worker", "Job");  // reaches into the frame from before
        workTwice(t, at);
        const auto e = explained(t.open());
        const auto made = UsualMarkers(e).ofFrame(20);
        const NestedMarkers& table = *made;
        const auto find = [&](const QString& lane, const QString& path) -> const NestedMarker* {
            for (const auto& row : table.rows)
                if (QString::fromStdString(e->recording->lanes[row.lane].name) == lane &&
                    pathOf(*e->recording, row.path) == path)
                    return &row;
            return nullptr;
        };
        QCOMPARE(find("main", "")->total, int64_t{13'000'000});
        QCOMPARE(find("main", "Frame")->self, int64_t{2'000'000});
        QCOMPARE(find("main", "Frame/Work")->total, int64_t{11'000'000});
        QCOMPARE(find("main", "Frame/Work")->count, uint64_t{2});
        QCOMPARE(find("main", "Frame/Work")->usual, int64_t{6'000'000});
        QCOMPARE(find("main", "Frame/Work")->excess(), int64_t{5'000'000});
        QCOMPARE(find("worker", "Job")->total, int64_t{3'000'000});
    }

    void theWaterfallAddsUpToTheWholeDifference() {
        TextRecording t;
        const double at = usualFrames(t, 20);
        t.frame(at, "main")
            .begin(at, "main", "Frame")
            .mark(at + 1000, at + 5000, "main", "Work")
            .mark(at + 5000, at + 13'000, "main", "Load")
            .end(at + 14'000, "main")
            .frameEnd(at + 14'000, "main");
        const auto e = explained(t.open());
        int64_t sum = 0;
        for (const WaterfallStep& step : waterfallOf(*e, 20)) sum += step.excess;
        QCOMPARE(sum, int64_t{6'000'000});
        QCOMPARE(waterfallOf(*e, 20).front().title, std::string("Frame ▸ Load"));
        QCOMPARE(waterfallOf(*e, 20).front().excess, int64_t{8'000'000});
        QCOMPARE(waterfallOf(*e, 20)[1].excess, int64_t{-2'000'000});
    }

    void recordingsWithoutFramesOrLatenessSaySo() {
        TextRecording none;
        none.mark(0, 5, "main", "A").frame(6, "main");
        QVERIFY(!explained(none.open())->figures.frames);
        QCOMPARE(verdictSentence(*explained(none.open())),
                 std::string("No frames were recorded, so nothing can be late."));
        TextRecording good;
        usualFrames(good, 3);
        QCOMPARE(verdictSentence(*explained(good.open())),
                 std::string("Every one of 3 frames met its deadline; the slowest took 8.0 ms"));
    }

    void sentencesAreMadeOfWholeTemplates() {
        constexpr Template kOne{"{who} waited {time}, then {who} ran{rest}"};
        QCOMPARE(kOne({{"who", "main"}, {"time", "3.0 ms"}, {"rest", "."}}),
                 std::string("main waited 3.0 ms, then main ran."));
        QCOMPARE(kOne({{"who", "{time}"}}), std::string("{time} waited {time}, then {time} ran{rest}"));  // put in once
        QCOMPARE(Template{"100 % {"}(), std::string("100 % {"));
        // In another language, whole.
        setTranslate([](const char* text) {
            return std::string(text) == say::kOnlyFrameMet.text ? std::string("{worst}: in Ordnung")
                                                                : std::string(text);
        });
        TextRecording t;
        t.frame(0, "main", 10'000).frameEnd(9000, "main");
        QCOMPARE(verdictSentence(*explained(t.open())), std::string("9.0 ms: in Ordnung"));
        setTranslate(nullptr);
        // No part is forgotten: nothing of the demo is told with a brace in it.
        const auto demo = openRecording(FUGATO_DEMO_RECORDING);
        QVERIFY(bool(demo));
        const auto e = explain(*demo, sumCriticalPaths(**demo, 0), 0);
        std::string all = verdictSentence(*e) + boundPhrase(*e) + scopeText(*e);
        for (uint32_t c = 0; c < e->causes.size(); ++c) {
            all += causeTitle(*e, e->causes[c]) + causeKindPhrase(*e, e->causes[c]);
            for (const bool gone : {false, true}) all += whatIfSentence(*e, *predict(*e, {{c, gone}}), c);
            all += trialSentence(*e, *predict(*e, {{c, true}}));
        }
        for (const uint32_t frame : e->late)
            for (const Sentence& sentence : frameSentences(*e, frame)) all += sentence.text;
        const auto found = adviceFor(*e, AdviceLimits());
        for (const Advice& advice : *found) all += advice.title + advice.evidence + advice.next;
        QVERIFY(all.size() > 50'000);
        QCOMPARE(all.find_first_of("{}"), std::string::npos);
    }

    void aSingleFrameHasNothingToCompareWith() {
        for (const bool late : {false, true}) {
            TextRecording t;
            t.frame(0, "main", 10'000).mark(10, late ? 14'000 : 8000, "main", "Simulate");
            t.frameEnd(late ? 15'000 : 9000, "main");
            const auto e = explained(t.open());
            QCOMPARE(verdictSentence(*e),
                     std::string(late ? "1 frame over budget, 5.0 ms late in all, from no cause that was recorded"
                                      : "Its only frame met its deadline; it took 9.0 ms"));
            const auto sentences = frameSentences(*e, 0);
            const bool said = std::any_of(sentences.begin(), sentences.end(), [](const Sentence& s) {
                return s.text.find("nly frame, so there is nothing to compare it with") != std::string::npos;
            });
            QVERIFY(said);
        }
    }

    void numbersReadWell() {
        QCOMPARE(durationText(95), std::string("95 ns"));
        QCOMPARE(durationText(1'500), std::string("1.5 µs"));
        QCOMPARE(durationText(41'300'000), std::string("41.3 ms"));
        QCOMPARE(durationText(3'100'000'000), std::string("3.10 s"));
        QCOMPARE(durationText(156'000'000'000), std::string("2 min 36 s"));
        QCOMPARE(signedMsText(-400'000), std::string("−0.4"));
        QCOMPARE(countText(9402), std::string("9\u202f402"));
        QCOMPARE(countText(1234567), std::string("1\u202f234\u202f567"));
        QCOMPARE(plural(1, "frame", "frames"), std::string("1 frame"));
    }

    void explainingCanBeCancelled() {
        TextRecording t;
        usualFrames(t, 3);
        const auto r = t.open();
        QVERIFY(!sumCriticalPaths(*r, 0, [](double) { return false; }));
        QVERIFY(!explain(r, sumCriticalPaths(*r, 0), 0, [](double) { return false; }));
    }

    // ---- who had the core ------------------------------------------------------------------------

    void wantOfACoreIsOneCauseWhateverItHeldUp() {
        TextRecording t;
        threadsAndCore(t);
        double at = 0;
        t.at(0, "core 0", onCore(100));
        for (int f = 0; f < 32; ++f, at += 20'000) {
            const bool starved = f == 20 || f == 30;
            const double from = at + (f == 20 ? 2000 : 6500), more = starved ? 8000 : 0;  // in Work, or after it
            t.frame(at, "main").begin(at, "main", "Frame").begin(at + 1000, "main", "Work");
            t.end(at + 6000 + (f == 20 ? more : 0), "main").end(at + 8000 + more, "main");
            t.frameEnd(at + 8000 + more, "main");
            if (starved) t.at(from, "core 0", onCore(200, true)).at(from + more, "core 0", onCore(100));
        }
        const auto e = explained(t.open());
        QCOMPARE(e->figures.over, size_t{2});
        QCOMPARE(e->causes.size(), size_t{1});
        QVERIFY(e->causes[0].kind == CauseKind::NoCore);
        QCOMPARE(e->causes[0].frames, (std::vector<uint32_t>{20, 30}));
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("CPU contention by other programs"));
        QCOMPARE(
            frameSentences(*e, 20)[0].text,
            std::string(
                "main was ready to run, but waited for a core 8.0 ms longer than usual: CPU contention with updater."));
        QVERIFY(e->frames[20].bound == BoundBy::Cpu && e->figures.boundGroup == e->causes[0].group);
        const auto p = predict(*e, {{0, false}});
        QCOMPARE(p->saved, 2u);
        QCOMPARE(trialSentence(*e, *p), std::string("With A repaired no frame is late, instead of 2"));
    }

    // ---- the range of usual frames -------------------------------------------------------------------

    void whatEveryFourthFrameDoesIsNoCause() {
        TextRecording t;
        double at = 0;
        const auto frame = [&](double work, double load) {
            t.frame(at, "main").begin(at, "main", "Frame").mark(at + 500, at + 500 + work, "main", "Work");
            if (load > 0) t.mark(at + 500 + work, at + 500 + work + load, "main", "Load");
            t.end(at + 1000 + work + load, "main").frameEnd(at + 1000 + work + load, "main");
            at += 20'000;
        };
        for (int f = 0; f < 40; ++f) frame(f % 4 == 3 ? 8000 : 4000, 0);
        frame(8000, 6000);  // a heavy one, and a load in it
        const auto e = explained(t.open());
        QCOMPARE(e->figures.over, size_t{1});
        QCOMPARE(e->causes.size(), size_t{1});
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Load unusual"));
        QCOMPARE(e->sharesOf(40)[0].late, e->frames[40].overrun);
    }

    void slowDriftHasUsualFramesOfItsOwn() {
        TextRecording t;
        for (int f = 0; f < 400; ++f) {
            const double at = f * 20'000.0, work = 4000 + f * 10;
            t.frame(at, "main").mark(at, at + work, "main", "Work").frameEnd(at + work, "main");
        }
        t.frame(8'000'000, "main").mark(8'000'000, 8'012'000, "main", "Work").frameEnd(8'012'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(e->baselines.size(), size_t{8});
        QVERIFY(e->usualOf(400) > 7'500'000 && e->usualOf(3) < 4'500'000);
        bool told = false;
        for (const Sentence& sentence : frameSentences(*e, 400))
            told |= sentence.text.starts_with("What is usual changes");
        QVERIFY(told);
    }

    void timeWithoutMarkersIsSaidToBeThat() {
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 21; ++f, at += 20'000) {
            const double gap = f == 20 ? 9000 : 100;
            t.frame(at, "main").begin(at, "main", "Frame").mark(at, at + 3000, "main", "Steer");
            t.mark(at + 3000 + gap, at + 6000 + gap, "main", "Trim").end(at + 6000 + gap, "main");
            t.frameEnd(at + 6000 + gap, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(causeText(*e, 0), QString("A main Frame unexplained"));
        QCOMPARE(
            frameSentences(*e, 20)[0].text,
            std::string("Frame took 8.9 ms longer than usual outside its inner markers: 9.0 ms without one between "
                        "‘Steer’ and ‘Trim’. A marker there would tell more."));
        const auto advice = adviceFor(*e);
        QVERIFY(
            std::none_of(advice->begin(), advice->end(), [](auto& a) { return a.kind == AdviceKind::ComesBefore; }));
    }

    void aMarkerThatIsSlowerThroughoutIsOneCause() {
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 21; ++f, at += 60'000) {
            const double slow = f == 20 ? 5 : 1;
            t.frame(at, "main").begin(at, "main", "Draw");
            double now = at;
            for (const auto& [name, ms] :
                 {std::pair("Sea", 1500.0), std::pair("Sails", 800.0), std::pair("Gulls", 700.0)}) {
                t.mark(now, now + ms * slow, "main", name);
                now += ms * slow;
            }
            t.end(now, "main").frameEnd(now, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->causes.size(), size_t{1});
        QCOMPARE(causeText(*e, 0), QString("A main Draw slower"));
    }

    // ---- letters, and what comes before ----------------------------------------------------------------

    void lettersStayWithTheirCauseUnderAnotherBudget() {
        TextRecording t;
        double at = usualFrames(t, 20);
        const auto late = [&](const char* site, double load, int times) {
            for (int i = 0; i < times; ++i, at += 40'000) {
                t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 7000, "main", "Work");
                t.mark(at + 7000, at + 7000 + load, "main", site).end(at + 8000 + load, "main");
                t.frameEnd(at + 8000 + load, "main");
            }
        };
        late("Anchor", 3000, 6);    // 1 ms over 10 ms each
        late("Beacon", 12'000, 1);  // 10 ms over
        const auto r = t.open();
        const auto pathSums = sumCriticalPaths(*r, 0);
        const auto e = explain(r, pathSums, 0);
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Beacon unusual"));
        QCOMPARE(causeText(*e, 1), QString("B main Frame/Anchor unusual"));
        const auto tight = explain(r, pathSums, 8'500'000, {}, e.get());  // now Anchor costs more
        QCOMPARE(causeText(*tight, 0), QString("B main Frame/Anchor unusual"));
        QCOMPARE(causeText(*tight, 1), QString("A main Frame/Beacon unusual"));
        QCOMPARE(causeText(*explain(r, pathSums, 8'500'000), 0), QString("A main Frame/Anchor unusual"));
    }
};

QTEST_GUILESS_MAIN(ExplanationTest)
#include "explanation_test.moc"
