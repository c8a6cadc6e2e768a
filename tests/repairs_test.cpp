// SPDX-License-Identifier: GPL-3.0-or-later
//
// What repairs are predicted to bring, beside small programs that run again with them.
#include <QtTest>
#include <functional>

#include "core/explain/simulation/what_if.h"
#include "core/explain/words/sentences.h"
#include "testing/explaining.h"

using namespace fugato;

class RepairsTest : public QObject {
    Q_OBJECT

private slots:
    void aPredictionIsToldOfARecordingThatHasGrown() {
        // Two causes; then another of the first comes, and one that was not there.
        const auto recorded = [](int frames) {
            TextRecording t;
            for (int f = 0; f < frames; ++f) {
                const double at = f * 40'000.0, sort = f == 20 || f == 31 ? 16'000 : 2000,
                             cull = f == 22 ? 14'000 : 2000, rest = f == 33 ? 30'000 : 1000;
                t.frame(at, "main").begin(at, "main", "Frame").mark(at + 10, at + sort, "main", "Sort");
                t.mark(at + sort, at + sort + cull, "main", "Cull");
                t.mark(at + sort + cull, at + sort + cull + rest, "main", "Rest");
                t.end(at + sort + cull + rest, "main").frameEnd(at + sort + cull + rest, "main");
            }
            return explained(t.open());
        };
        const auto from = recorded(25), to = recorded(36);
        QCOMPARE(from->causes.size(), size_t{2});
        QCOMPARE(to->causes.size(), size_t{3});
        const auto before = predict(*from, {{0, false}});
        const auto same = carriedOver(*before, *from, *from);
        QVERIFY(same->overrun == before->overrun && same->lateBy == before->lateBy && same->repairs == before->repairs);
        QCOMPARE(same->over, before->over);
        QCOMPARE(same->late, before->late);
        const auto now = carriedOver(*before, *from, *to);
        QCOMPARE(now->overrun.size(), size_t{36});
        QCOMPARE(to->recording->nameOf(to->causes[now->repairs.at(0).cause].path),
                 from->recording->nameOf(from->causes[0].path));
        QCOMPARE(now->overrun[20], int64_t{0});  // repaired, as it was
        for (uint32_t f = 25; f < 36; ++f) QCOMPARE(now->overrun[f], to->frames[f].overrun);
        QCOMPARE(now->over, before->over + 2);
        QCOMPARE(now->lateBy.size(), size_t{3});
        QCOMPARE(now->lateBy[now->repairs[0].cause], int64_t{0});
    }

    void aRepairNeverGoesBelowTheWorkBeside() {
        TextRecording t;
        for (int f = 0; f < 21; ++f) {
            const double at = f * 40'000.0, slow = f == 20 ? 20'000 : 3000, beside = f == 20 ? 12'000 : 2000;
            t.frame(at, "main").begin(at, "main", "Frame").linkOut(at + 100, "main", 1 + 10 * f);
            t.linkOut(at + 110, "main", 2 + 10 * f);
            t.begin(at + 200, "worker 1", "Cloth").linkIn(at + 200, "worker 1", 1 + 10 * f);
            t.linkOut(at + slow, "worker 1", 3 + 10 * f).end(at + slow, "worker 1");
            t.begin(at + 200, "worker 2", "Hull").linkIn(at + 200, "worker 2", 2 + 10 * f);
            t.linkOut(at + beside, "worker 2", 4 + 10 * f).end(at + beside, "worker 2");
            t.wait(at + 500, "main", "Wait", "jobs", "job").waitEnd(at + slow + 10, "main", 3 + 10 * f);
            t.end(at + slow + 1000, "main").frameEnd(at + slow + 1000, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(causeText(*e, 0), QString("A worker 1 Cloth slower"));
        const auto p = predict(*e, {{0, false}});
        // Hull still runs until 12 ms; then 10 µs of waking and the last 990 µs.
        QCOMPARE(p->duration[20], int64_t{13'000'000});
        QCOMPARE(p->saved, 0u);
        QCOMPARE(p->over, 1u);
        QCOMPARE(whatIfSentence(*e, *p),
                 std::string("If this took its usual time, its frame would still be late; 1 frame stays late."));
    }

    void whoeverComesEarlierMayMeetAHoldThatItDidNot() {
        // Frames of 10 ms, one after another: 6 ms of Work, the gate for 1 ms, 3 ms more. In frames 30 to 32 Work takes
        // 9 ms. Saver, which only its own clock wakes, holds the gate from 17 to 47 ms after frame 30's begin.
        TextRecording t;
        double at = 0, held = 0;
        for (int f = 0; f < 40; ++f) {
            const bool slow = f >= 30 && f < 33;
            if (f == 30) held = at + 17'000;
            double take = at + (slow ? 9000 : 6000);
            t.frame(at, "main", 12'000).mark(at, take, "main", "Work");
            if (f == 31) {  // arrives at 13 + 9 ms
                t.wait(take, "main", "Wait for gate", "gate", "lock").waitEnd(held + 30'000, "main");
                take = held + 30'000;
            }
            t.taken(take, "main", "gate").given(take + 1000, "main", "gate").frameEnd(take + 4000, "main");
            at = take + 4000;
        }
        t.wait(0, "saver", "Nap", "clock", "sleep").waitEnd(held, "saver");
        t.begin(held, "saver", "Save").taken(held, "saver", "gate").given(held + 30'000, "saver", "gate");
        t.end(held + 30'000, "saver");
        const auto e = explained(t.open());
        QCOMPARE(e->late, (std::vector<uint32_t>{30, 31, 32}));
        QCOMPARE(causeText(*e, 0), QString("A saver Save waiting"));
        QCOMPARE(causeText(*e, 1), QString("B main Work slower"));
        const auto p = predict(*e, {{1, false}});
        // Frame 31 comes before Saver now (10 + 6 ms); 32, begun at 20, waits from 26 to 47 ms, and goes on for 4.
        QCOMPARE(p->duration[30], int64_t{10'000'000});
        QCOMPARE(p->duration[31], int64_t{10'000'000});
        QCOMPARE(p->duration[32], int64_t{31'000'000});
        QCOMPARE(p->over, 1u);
        QCOMPARE(p->lateBy[0], int64_t{19'000'000});  // and that is Saver's doing
    }

    void aSpikeOfManyThousandFramesIsPredictedToo() {
        TextRecording t;
        for (int f = 0; f < 30'000; ++f) {  // each waits for a job, and none meets its deadline
            const double at = f * 40'000.0, done = 14'000 + f % 4 * 4000;
            t.frame(at, "main").begin(at, "main", "Frame").linkOut(at + 100, "main", 1 + 2 * f);
            t.begin(at + 200, "worker", "Job").linkIn(at + 200, "worker", 1 + 2 * f);
            t.linkOut(at + done, "worker", 2 + 2 * f).end(at + done, "worker");
            t.wait(at + 1000, "main", "Wait", "job", "job").waitEnd(at + done + 10, "main", 2 + 2 * f);
            t.end(at + done + 1000, "main").frameEnd(at + done + 1000, "main");
        }
        const auto r = t.open();
        const auto e = explained(r);
        QCOMPARE(e->spikes.size(), size_t{1});
        const auto same = predict(*e, {});
        QCOMPARE(same->over, 30'000u);
        QCOMPARE(causeText(*e, 0), QString("A worker Job slower"));
        QCOMPARE(predict(*e, {{0, true}})->saved, 30'000u);
        QVERIFY(!predict(*e, {{0, true}}, [](double) { return false; }));
    }

    void aRepairAlsoSavesFramesThatWereLateInItsWake() {
        // Each frame's job is waited for in the next frame, two milliseconds after its begin, if it is not done by
        // then.
        const auto run = [](bool caulks) {
            TextRecording t;
            double at = 0, free = 0;  // when the next frame begins, and the worker's next job may
            for (int f = 0; f < 40; ++f) {
                const double done = free, begin = std::max(free, at + 1000);
                t.frame(at, "main").begin(at, "main", "Sail").linkOut(at + 1000, "main", 1 + 2 * f);
                t.begin(begin, "worker", "Job").linkIn(begin, "worker", 1 + 2 * f);
                free = begin + 9000;
                const double more = f == 20 && caulks ? 12'000 : f == 23 ? 8000 : 0;
                if (more > 0) t.mark(free, free + more, "worker", f == 20 ? "Caulk" : "Tar");
                free += more;
                t.end(free, "worker").linkOut(free, "worker", 2 + 2 * f);
                double end = at + 2000;
                if (f > 0 && done > end) {
                    t.wait(end, "main", "Wait", "job", "job").waitEnd(done, "main", 2 * f);
                    end = done;
                }
                end += 2000;
                at = std::max(at + 10'000, end);
                t.end(end, "main").frameEnd(end, "main");
                t.wait(end, "main", "Tick", "tick", "pacing").waitEnd(at, "main");
            }
            return explained(t.open());
        };
        const auto e = run(true), without = run(false);
        QCOMPARE(e->late, (std::vector<uint32_t>{21, 24}));
        QCOMPARE(e->sharesOf(24).size(), size_t{1});  // Tar: nothing in this frame tells of the backlog
        const uint32_t caulk = e->sharesOf(21)[0].cause;
        QCOMPARE(causeText(*e, caulk).section(' ', 1), QString("worker Job/Caulk unusual"));
        const auto p = predict(*e, {{caulk, true}});
        for (uint32_t f = 0; f < e->frames.size(); ++f)
            QVERIFY2(p->duration[f] == without->frame(f).duration(),
                     qPrintable(QString("%1: %2, predicted %3, really %4")
                                    .arg(f)
                                    .arg(e->frame(f).duration())
                                    .arg(p->duration[f])
                                    .arg(without->frame(f).duration())));
        QCOMPARE(p->over, uint32_t(without->late.size()));
        QCOMPARE(whatIfSentence(*e, *p),
                 std::string("Without this, its late frame would meet its deadline, and so would "
                             "1 later one, and no frame would be late."));
    }

    void aLaneThatBeganLateForWantOfACoreBeginsSoonerThen() {
        TextRecording t;
        threadsAndCore(t);
        t.line(R"({"define":"lane","id":10,"name":"core 1","kind":"core","role":"","os":1})");
        t.line(R"({"define":"os_thread","id":201,"process":77,"name":"updater"})");
        t.at(0, "core 0", onCore(100)).at(0, "core 1", onCore(0));
        for (int f = 0; f < 21; ++f) {
            const bool starved = f == 20;
            const double at = f * 40'000.0, work = starved ? 9500 : 3500, job = starved ? 9000 : 1000;
            // Nobody told who asks for the worker's job: it begins a millisecond after the frame.
            t.frame(at, "main").mark(at, at + work, "main", "Work");
            t.wait(at + work, "main", "Wait", "job", "job").waitEnd(at + job + 3010, "main", 1 + f);
            t.frameEnd(at + job + 4000, "main");
            t.begin(at + job, "worker", "Job").linkOut(at + job + 3000, "worker", 1 + f).end(at + job + 3000, "worker");
            if (starved) {
                t.at(at + 2000, "core 0", onCore(200, true)).at(at + 8000, "core 0", onCore(100));
                t.at(at + 1000, "core 1", onCore(201));
            }
            t.at(at + job, "core 1", onCore(400, starved)).at(at + job + 3000, "core 1", onCore(0));
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, (std::vector<uint32_t>{20}));
        QVERIFY(e->causes[0].kind == CauseKind::NoCore);
        // Main had no core for 6 ms. The job would still be done too late, had it not had one sooner too.
        const auto p = predict(*e, {{0, false}});
        QCOMPARE(p->duration[20], int64_t{5'000'000});
        QCOMPARE(p->saved, 1u);
    }

    void whatIfKnowsTicks() {
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 24; ++f) {
            const bool late = f == 20;  // a millisecond too long lasts two ticks
            const double work = late ? 11'000 : 6000, end = late ? 20'000 : 10'000;
            t.frame(at, "main").mark(at, at + work, "main", "Work").wait(at + work, "main", "Tick", "tick", "pacing");
            t.waitEnd(at + end, "main").frameEnd(at + end, "main");
            at += end;
        }
        const auto e = explained(t.open());
        QCOMPARE(e->figures.over, size_t{1});
        QCOMPARE(e->frames[20].overrun, int64_t{10'000'000});
        QCOMPARE(causeText(*e, 0), QString("A main Work slower"));
        const auto p = predict(*e, {{0, false}});
        QCOMPARE(p->duration[20], int64_t{10'000'000});
        QCOMPARE(p->saved, 1u);
        QCOMPARE(p->late, int64_t{0});
    }

    void theDisplayWaitsForTheDevicesPictureThen() {
        // The display ticks each 10 ms. The device takes 4 ms for a picture, and 13 ms in frame 20, so that it comes a
        // tick late, though main works for 2 ms as always; in frame 25 main takes 5 ms, and the device 12.
        TextRecording t;
        t.lane("gpu", 5, "queue");
        double at = 0;
        for (int f = 0; f < 30; ++f) {
            const double work = f == 25 ? 5000 : 2000, device = f == 20 ? 13'000 : f == 25 ? 12'000 : 4000;
            const double shown = at + (work + device > 10'000 ? 20'000 : 10'000), done = at + work + device;
            t.frame(at, "main").mark(at, at + work, "main", "Work").linkOut(at + work, "main", 100 + f);
            t.begin(at + work, "gpu", "Drawing").linkIn(at + work, "gpu", 100 + f);
            t.linkOut(done, "gpu", 200 + f).end(done, "gpu");
            t.wait(at + work, "main", "Show", "", "pacing").waitEnd(shown, "main", 200 + f).frameEnd(shown, "main");
            at = shown;
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, (std::vector<uint32_t>{20, 25}));
        QCOMPARE(causeText(*e, 0), QString("A gpu Drawing slower"));
        const auto device = predict(*e, {{0, false}});
        QCOMPARE(device->saved, 2u);
        QCOMPARE(device->duration[20], int64_t{10'000'000});
        // Without any of main's work the device would still be late.
        QCOMPARE(causeText(*e, 1), QString("B main Work slower"));
        QCOMPARE(predict(*e, {{1, true}})->saved, 0u);
    }

    void eachFrameIsHeldToTheTickOfItsOwnDeadline() {
        // Thirty frames with a tick each 10 ms, then thirty with one each 20 ms; frame 45 works for 26 ms and is late
        // for its tick.
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 60; ++f) {
            const double tick = f < 30 ? 10'000 : 20'000, work = f == 45 ? 26'000 : f < 30 ? 8000 : 16'000;
            const double end = std::max(tick, work + 500);
            t.frame(at, "main", tick).mark(at, at + work, "main", "Work");
            t.wait(at + work, "main", "Tick", "tick", "pacing").waitEnd(at + end, "main").frameEnd(at + end, "main");
            at += end;
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, std::vector<uint32_t>{45});
        const auto p = predict(*e, {{0, false}});
        // However short Work becomes, the next tick comes 20 ms after the one before.
        QCOMPARE(p->duration[45], int64_t{20'000'000});
        QCOMPARE(p->saved, 1u);
    }

    void anotherSeriesIsHeldToItsOwnTicks() {
        // The display has a tick each 5 ms and shows each picture then; main waits for it once a frame, which has
        // 12 ms. In frame 40 the display works for 14 ms instead of 3: it is late for its tick.
        TextRecording t;
        for (int f = 0; f < 60; ++f) {
            const double at = f * 40'000.0, work = f == 40 ? 14'000 : 3000, shown = std::max(5000.0, work + 200);
            for (double from = 0; from < 40'000;) {
                const double done = from + (from > 0 ? 3000 : work), to = from > 0 ? from + 5000 : shown;
                t.frame(at + from, "display", 5000, "display").begin(at + from, "display", "Mix");
                if (from == shown) t.linkOut(at + from + 50, "display", f + 1);
                t.end(at + done, "display");
                t.wait(at + done, "display", "Tick", "tick", "pacing").waitEnd(at + to, "display");
                t.frameEnd(at + to, "display", "display");
                from = to;
                if (from + 5000 > 40'000) break;  // a moment without a frame
            }
            t.frame(at, "main", 12'000).wait(at + 1000, "main", "Wait for display", "display", "condition");
            t.waitEnd(at + shown + 60, "main", f + 1).mark(at + shown + 60, at + shown + 2060, "main", "Work");
            t.frameEnd(at + shown + 2060, "main");
        }
        const auto r = t.open();
        const uint32_t loop = r->series[0].name == "loop" ? 0 : 1;
        const auto e = explain(r, sumCriticalPaths(*r, loop), 0);
        QCOMPARE(e->late, std::vector<uint32_t>{40});
        QCOMPARE(causeText(*e, 0), QString("A display Mix slower"));
        const auto p = predict(*e, {{0, false}});
        QCOMPARE(p->duration[40], int64_t{7'060'000});
    }

    // ---- each kind of repair -----------------------------------------------------------------------------

    /// Runs a small program with its trouble, and without: what the repair is predicted to bring must be what it
    /// brings. `make` gives the recording. The cause to be repaired is the first.
    static void compareWithReality(const std::function<TextRecording(bool trouble)>& make, bool gone = false) {
        const auto e = explained(make(true).open()), without = explained(make(false).open());
        QVERIFY(!e->causes.empty());
        QCOMPARE(e->frames.size(), without->frames.size());
        const auto p = predict(*e, {{0, gone}});
        for (uint32_t f = 0; f < e->frames.size(); ++f)
            QVERIFY2(std::abs(p->duration[f] - without->frame(f).duration()) <= 1,
                     qPrintable(QString("frame %1 took %2, predicted %3, really %4")
                                    .arg(f)
                                    .arg(e->frame(f).duration())
                                    .arg(p->duration[f])
                                    .arg(without->frame(f).duration())));
        QCOMPARE(p->over, uint32_t(without->late.size()));
        QCOMPARE(p->saved, uint32_t(e->late.size() - without->late.size()));
        QCOMPARE(p->late, without->figures.late);
    }

    void aSlowerCallTakesItsUsualTimeAgain() {
        compareWithReality([](bool trouble) {
            TextRecording t;
            for (int f = 0; f < 30; ++f) {
                const double at = f * 40'000.0, work = trouble && f % 10 == 9 ? 15'000 : 3000;
                t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 1000 + work, "main", "Work");
                t.end(at + 5000 + work, "main").frameEnd(at + 5000 + work, "main");
            }
            return t;
        });
    }

    void callsBeyondTheUsualNumberAreLeftOut() {
        compareWithReality([](bool trouble) {
            TextRecording t;
            for (int f = 0; f < 30; ++f) {
                const double at = f * 40'000.0;
                const int calls = trouble && f % 10 == 9 ? 12 : 2;
                t.frame(at, "main").begin(at, "main", "Frame");
                for (int i = 0; i < calls; ++i) t.mark(at + i * 1000, at + i * 1000 + 1000, "main", "Wave");
                const double end = at + calls * 1000;
                t.end(end, "main").frameEnd(end, "main");
            }
            return t;
        });
    }

    void aWaitWithoutAnEnderIsShortenedItself() {
        compareWithReality([](bool trouble) {
            TextRecording t;
            for (int f = 0; f < 30; ++f) {
                const double at = f * 40'000.0, wait = trouble && f % 10 == 9 ? 14'000 : 1000;
                t.frame(at, "main").wait(at + 1000, "main", "Read", "chart", "file").waitEnd(at + 1000 + wait, "main");
                t.mark(at + 1000 + wait, at + 4000 + wait, "main", "Draw").frameEnd(at + 4000 + wait, "main");
            }
            return t;
        });
    }

    void aLockIsGivenBackSoonerAndWhoeverWaitedGoesOnThen() {
        compareWithReality([](bool trouble) {
            TextRecording t;
            for (int f = 0; f < 30; ++f) {
                // The saver holds the gate from 1 ms on; main comes to it at 3 ms, and wants it for 1 ms.
                const double at = f * 40'000.0, held = trouble && f % 10 == 9 ? 15'000 : 1500;
                t.begin(at + 900, "saver", "Save").taken(at + 1000, "saver", "gate");
                t.given(at + 1000 + held, "saver", "gate").end(at + 1100 + held, "saver");
                double now = at + 3000;
                t.frame(at, "main").begin(at, "main", "Frame");
                if (at + 1000 + held > now) {
                    t.wait(now, "main", "Wait", "gate", "lock");
                    now = at + 1000 + held;
                    t.waitEnd(now, "main");
                }
                t.taken(now, "main", "gate").given(now + 1000, "main", "gate");
                t.end(now + 2000, "main").frameEnd(now + 2000, "main");
            }
            return t;
        });
    }

    void whatADeviceDoesLongerHoldsUpAChainOfLanes() {
        compareWithReality([](bool trouble) {
            TextRecording t;
            t.lane("main", 1).lane("draw", 2).lane("pixels", 3, "queue").lane("copies", 4, "queue");
            for (int f = 0; f < 30; ++f) {
                // main waits for draw, that for pixels, that for copies.
                const double at = f * 60'000.0, copy = trouble && f % 10 == 9 ? 20'000 : 1000;
                const int link = 10 * f;
                t.frame(at, "main").begin(at, "main", "Frame").linkOut(at + 500, "main", link + 1);
                t.begin(at + 500, "draw", "Picture").linkIn(at + 500, "draw", link + 1);
                t.linkOut(at + 1000, "draw", link + 2).linkOut(at + 1000, "draw", link + 3);
                t.begin(at + 1000, "copies", "Upload").linkIn(at + 1000, "copies", link + 2);
                const double copied = at + 1000 + copy;
                t.end(copied, "copies").linkOut(copied, "copies", link + 4);
                t.begin(at + 1000, "pixels", "Scene").linkIn(at + 1000, "pixels", link + 3);
                t.wait(at + 1000, "pixels", "Wait for copy", "copied", "gpu").waitEnd(copied, "pixels", link + 4);
                t.mark(copied, copied + 2000, "pixels", "Foam").end(copied + 2000, "pixels");
                t.linkOut(copied + 2000, "pixels", link + 5);
                t.wait(at + 1200, "draw", "Wait for GPU", "scene", "gpu").waitEnd(copied + 2000, "draw", link + 5);
                t.linkOut(copied + 2500, "draw", link + 6).end(copied + 2500, "draw");
                t.wait(at + 1500, "main", "Wait for draw", "picture", "condition");
                t.waitEnd(copied + 2500, "main", link + 6);
                t.end(copied + 3500, "main").frameEnd(copied + 3500, "main");
            }
            return t;
        });
    }

    void anotherProgramLeavesTheCoreAtOnce() {
        compareWithReality([](bool trouble) {
            TextRecording t;
            threadsAndCore(t);
            t.at(0, "core 0", onCore(100));
            for (int f = 0; f < 30; ++f) {
                const bool starved = trouble && f % 10 == 9;
                const double at = f * 40'000.0, end = at + 6000 + (starved ? 9000 : 0);
                if (starved) t.at(at + 2000, "core 0", onCore(200, true)).at(at + 11'000, "core 0", onCore(100));
                t.frame(at, "main").mark(at, end, "main", "Work").frameEnd(end, "main");
            }
            return t;
        });
    }

    void withoutWorkThatUsualFramesDoNotHave() {
        compareWithReality(
            [](bool trouble) {
                TextRecording t;
                for (int f = 0; f < 30; ++f) {
                    const double at = f * 40'000.0, more = trouble && f % 10 == 9 ? 9000 : 0;
                    t.frame(at, "main").begin(at, "main", "Frame").mark(at + 100, at + 5000, "main", "Work");
                    if (more > 0) t.mark(at + 5000, at + 5000 + more, "main", "Careen");
                    t.end(at + 6000 + more, "main").frameEnd(at + 6000 + more, "main");
                }
                return t;
            },
            true);
    }

    // ---- several at once, and none -----------------------------------------------------------------------

    /// Every tenth frame is late from Work, every tenth from Chart, every twentieth from both.
    static std::shared_ptr<const Explanation> twoTroubles() {
        TextRecording t;
        for (int f = 0; f < 60; ++f) {
            const double at = f * 40'000.0, work = f % 10 == 9 ? 9000 : 3000,
                         chart = f % 20 < 2 || f % 20 == 19 ? 8500 : 1000;
            t.frame(at, "main").begin(at, "main", "Frame").mark(at, at + work, "main", "Work");
            t.wait(at + work, "main", "Chart", "chart", "file").waitEnd(at + work + chart, "main");
            t.end(at + work + chart + 500, "main").frameEnd(at + work + chart + 500, "main");
        }
        return explained(t.open());
    }

    void twoRepairsTogetherBringMoreThanEach() {
        const auto e = twoTroubles();
        QCOMPARE(e->causes.size(), size_t{2});
        const auto none = predict(*e, {}), first = predict(*e, {{0, false}}), second = predict(*e, {{1, false}}),
                   both = predict(*e, {{0, false}, {1, false}});
        QCOMPARE(none->saved, 0u);
        QCOMPARE(none->late, e->figures.late);
        QCOMPARE(none->nextCause, 0u);
        QCOMPARE(both->over, 0u);
        QCOMPARE(both->late, int64_t{0});
        QCOMPARE(both->nextCause, kNone);
        QVERIFY(first->saved + second->saved < both->saved);  // some frames need both
        QCOMPARE(first->nextCause, 1u);
        QCOMPARE(second->nextCause, 0u);
        for (const auto& p : {none, first, second, both}) {
            int64_t left = 0, late = 0;
            for (const int64_t by : p->lateBy) left += by;
            for (uint32_t f = 0; f < e->frames.size(); ++f) {
                QVERIFY(p->duration[f] <= e->frame(f).duration());
                QVERIFY(p->overrun[f] <= e->frames[f].overrun);
                late += p->overrun[f];
            }
            QCOMPARE(p->late, late);
            QVERIFY(std::abs(left - late) <= int64_t(e->late.size() * e->causes.size()));  // but for rounding
        }
        QCOMPARE(both->lateBy, (std::vector<int64_t>{0, 0}));
    }

    void goneIsNoLessThanItsUsualTime() {
        const auto e = twoTroubles();
        for (uint32_t c = 0; c < e->causes.size(); ++c) {
            const auto usual = predict(*e, {{c, false}}), gone = predict(*e, {{c, true}});
            QVERIFY(gone->saved >= usual->saved);
            for (uint32_t f = 0; f < e->frames.size(); ++f) QVERIFY(gone->duration[f] <= usual->duration[f]);
        }
        // Where another cause is selected, “this” would be wrong.
        const auto first = predict(*e, {{0, false}});
        QVERIFY(whatIfSentence(*e, *first, 0).rfind("If this took its usual time, ", 0) == 0);
        QVERIFY(whatIfSentence(*e, *first, 1).rfind("If A took its usual time, ", 0) == 0);
        QCOMPARE(whatIfSentence(*e, *predict(*e, {{0, true}, {1, false}})),
                 std::string("Without A and if B took its usual time, 12 of their 12 late frames would meet their "
                             "deadline, and no frame would be late."));
    }

    void lanesThatWaitForEachOtherAreLeftWhereTheyWere() {
        TextRecording t;
        for (int f = 0; f < 20; ++f) {  // each ends the other's wait, so nobody could have begun
            const double at = f * 40'000.0, wait = f == 19 ? 15'000 : 3000;
            t.frame(at, "main").begin(at, "main", "Frame").linkOut(at + wait, "main", 1 + 2 * f);
            t.begin(at, "other", "Other").linkOut(at + wait, "other", 2 + 2 * f);
            t.wait(at + 1000, "other", "Wait there", "a", "condition").waitEnd(at + wait, "other", 1 + 2 * f);
            t.end(at + wait + 500, "other");
            t.wait(at + 1000, "main", "Wait here", "b", "condition").waitEnd(at + wait, "main", 2 + 2 * f);
            t.end(at + wait + 1000, "main").frameEnd(at + wait + 1000, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, (std::vector<uint32_t>{19}));
        for (uint32_t c = 0; c < e->causes.size(); ++c) {
            const auto p = predict(*e, {{c, true}});
            QVERIFY(p->duration[19] >= 0 && p->duration[19] <= e->frame(19).duration());
        }
    }
};

QTEST_GUILESS_MAIN(RepairsTest)
#include "repairs_test.moc"
