// SPDX-License-Identifier: GPL-3.0-or-later
//
// Waits and blocked time whose end the program did not tell, followed by what the system tells: who woke whom, else who
// stopped at that instant. Each recording is small enough to work the answer out by hand.
#include <QtTest>

#include "core/explain/causes/confidence.h"
#include "core/explain/simulation/what_if.h"
#include "core/explain/words/explained_frame.h"
#include "core/explain/words/sentences.h"
#include "testing/explaining.h"

using namespace fugato;

namespace {

std::string wakes(int thread, int by = 0) {
    return R"("do":"wake_up","thread":)" + std::to_string(thread) + (by ? R"(,"by":)" + std::to_string(by) : "");
}

/// main is thread 100 of process 100, which also has a thread "decoder" (500) that tells nothing; "sound server" (200)
/// is another program. Two cores.
TextRecording program() {
    TextRecording t;
    t.line(R"({"define":"context","key":"process","value":"100"})");
    t.line(R"({"define":"lane","id":1,"name":"main","kind":"thread","role":"","os":100})");
    t.line(R"({"define":"lane","id":2,"name":"worker","kind":"thread","role":"","os":400})");
    t.line(R"({"define":"lane","id":9,"name":"core 0","kind":"core","role":"","os":0})");
    t.line(R"({"define":"lane","id":10,"name":"core 1","kind":"core","role":"","os":1})");
    t.line(R"({"define":"os_thread","id":100,"process":100,"name":"game"})");
    t.line(R"({"define":"os_thread","id":500,"process":100,"name":"decoder"})");
    t.line(R"({"define":"os_thread","id":600,"process":100,"name":"mixer"})");
    t.line(R"({"define":"os_thread","id":200,"process":200,"name":"sound server"})");
    t.at(0, "core 0", onCore(100)).at(0, "core 1", onCore(0));
    return t;
}

/// A frame of 20 ms on main, begun at `at`: Load, in which main is blocked from 4 to 15 ms and runs again from 16 on.
void blockedInLoad(TextRecording& t, double at) {
    t.frame(at, "main").begin(at + 2000, "main", "Load");
    t.at(at + 4000, "core 0", onCore(0)).at(at + 16'000, "core 0", onCore(100));
    t.end(at + 18'000, "main").frameEnd(at + 20'000, "main");
}

/// The segments of a frame, earliest first, in ms from its begin: "main:Load running 2-4".
QStringList walked(const Recording& r, uint32_t frame) {
    CriticalPathWalker walker(r);
    const Frame& f = r.series[0].frames[frame];
    const auto ms = [&](int64_t t) { return QString::number(static_cast<double>(t - f.begin) / 1e6); };
    QStringList out;
    for (const Segment& s : walker.account(f.lane, f.begin, f.end)) {
        QString who = QString::fromStdString(r.lanes[s.lane].name) + ":" + pathOf(r, s.path) + " " +
                      segmentName(s.kind) + " " + ms(s.begin) + "-" + ms(s.end);
        if (s.kind == SegmentKind::NoCore) who += " by " + QString::fromStdString(coreHolderText(r, s.coreHolder));
        if (s.endedBy != kNone && s.endedBy != kSystem)
            who += " ended by " + QString::fromStdString(coreHolderText(r, s.endedBy));
        if (s.likely) who += " likely";
        out.prepend(who);
    }
    return out;
}

bool says(const QStringList& sentences, const QString& what) { return !sentences.filter(what).isEmpty(); }

QStringList doubtsOf(const Explanation& e, uint32_t frame) {
    const Cause& cause = e.causes[e.sharesOf(frame)[0].cause];
    QStringList doubts;
    for (const std::string& doubt : confidenceOf(e, frame, cause, e.segmentsOf(frame)).doubts)
        doubts << QString::fromStdString(doubt);
    return doubts;
}

}  // namespace

class WakersTest : public QObject {
    Q_OBJECT

private slots:
    // ---- the system tells who woke whom --------------------------------------------------------------

    /// main is blocked from 4 ms on; decoder, which no marker names, runs for it from 4 to 7, another program has its
    /// core from 7 to 12, it runs again and wakes main at 15. main's core is idle, it takes a while to begin.
    void blockedTimeIsFollowedToAThreadWithoutMarkers() {
        TextRecording t = program();
        const double at = usualFrames(t, 30);
        blockedInLoad(t, at);
        t.at(at + 4000, "core 1", onCore(500)).at(at + 7000, "core 1", onCore(200, true));
        t.at(at + 12'000, "core 1", onCore(500)).at(at + 15'000, "core 1", wakes(100, 500));
        t.at(at + 15'500, "core 1", onCore(0));
        const auto r = t.open();
        QVERIFY(r->wakeUps);
        QCOMPARE(walked(*r, 30),
                 (QStringList{"main: running 0-2", "main:Load running 2-4", "decoder: running 4-7",
                              "decoder: no_core 7-12 by sound server", "decoder: running 12-15",
                              "main:Load waking 15-16", "main:Load running 16-18", "main: running 18-20"}));
        const Lane& main = r->lanes[laneNamed(*r, "main")];
        const TimeSplit split = main.splitBetween(r->series[0].frames[30].begin, r->series[0].frames[30].end);
        QCOMPARE(split.blocked, int64_t{11'000'000});
        QCOMPARE(split.ready, int64_t{1'000'000});
        const auto e = explained(r);
        QVERIFY(says(sentencesOf(*e, 30), "main waited for decoder during 11.0 ms of this frame."));
        QVERIFY(says(sentencesOf(*e, 30), "decoder spent 6.0 ms longer than usual outside any marker."));
        QVERIFY(says(sentencesOf(*e, 30),
                     "decoder was ready to run, but waited for a core 5.0 ms longer than usual: CPU contention with "
                     "sound server."));
    }

    /// Woken at 7 ms, main gets its core only at 16: it had none since then. All of it would else be blocked.
    void timeReadyInAWaitIsCpuContention() {
        for (const char* kind : {"file", "pacing", "other"}) {
            TextRecording t = program();
            const double at = usualFrames(t, 30);
            t.frame(at, "main").wait(at + 2000, "main", "Wait", "what it waits for", kind);
            t.at(at + 2000, "core 0", onCore(200)).at(at + 7000, "core 0", wakes(100));
            t.at(at + 16'000, "core 0", onCore(100, true));
            t.waitEnd(at + 16'000, "main").frameEnd(at + 20'000, "main");
            const auto r = t.open();
            QCOMPARE(walked(*r, 30), (QStringList{"main: running 0-2", QString("main:Wait wait_%1 2-7").arg(kind),
                                                  "main:Wait no_core 7-16 by sound server", "main: running 16-20"}));
            const auto e = explained(r);
            QVERIFY(e->frames[30].state == FrameState::Over);  // also where it was held to its tick until 7 ms
            QVERIFY(e->causes[0].contention == Contention::OtherPrograms);
        }
    }

    void anotherProgramThatEndedAWaitIsNamed() {
        TextRecording t = program();
        const double at = usualFrames(t, 30);
        blockedInLoad(t, at);
        t.at(at + 15'000, "core 1", onCore(200)).at(at + 15'950, "core 1", wakes(100, 200));
        t.at(at + 16'100, "core 1", onCore(0));
        const auto r = t.open();
        QCOMPARE(walked(*r, 30)[2], QString("main:Load blocked 4-15.95 ended by sound server"));
        const auto e = explained(r);
        QVERIFY(says(sentencesOf(*e, 30), "It was ended by sound server, another program."));
    }

    void aThreadOfTheSystemIsNoProgram() {
        TextRecording t = program();
        t.line(R"({"define":"os_thread","id":40,"process":40,"name":"kworker/1:2","system":1})");
        const double at = usualFrames(t, 30);
        blockedInLoad(t, at);
        t.at(at + 15'000, "core 1", onCore(40))
            .at(at + 15'950, "core 1", wakes(100, 40))
            .at(at + 16'100, "core 1", onCore(0));
        const auto r = t.open();
        QVERIFY(r->osThreads.at(40).system && !r->osThreads.at(200).system);
        QVERIFY(says(sentencesOf(*explained(r), 30), "It was ended by kworker, a thread of the system."));
    }

    void theSystemItselfEndsAWait() {
        TextRecording t = program();
        const double at = usualFrames(t, 30);
        t.frame(at, "main").wait(at + 2000, "main", "Wait", "what it waits for", "other");
        t.at(at + 2000, "core 0", onCore(0)).at(at + 15'999, "core 1", wakes(100));
        t.at(at + 16'000, "core 0", onCore(100)).waitEnd(at + 16'000, "main").frameEnd(at + 20'000, "main");
        const auto e = explained(t.open());
        QCOMPARE(walked(*e->recording, 30)[1], QString("main:Wait wait_other 2-15.999"));
        QVERIFY(says(sentencesOf(*e, 30), "The system itself ended it, for a timer or a device."));
        QVERIFY(!says(doubtsOf(*e, 30), "who ended that wait"));
    }

    /// A sleep ends by a timer, whichever thread has the core at that moment; and a link says more than a wake-up.
    void sleepsAndLinksAreNotFollowedByWakeUps() {
        TextRecording t = program();
        double at = usualFrames(t, 30);
        for (const bool link : {false, true}) {
            if (link) t.begin(at + 2000, "worker", "Job").linkOut(at + 10'000, "worker", 5).end(at + 15'000, "worker");
            t.frame(at, "main").wait(at + 2000, "main", "Wait", "what it waits for", link ? "other" : "sleep");
            t.at(at + 2000, "core 0", onCore(0)).at(at + 4000, "core 1", onCore(500));
            t.at(at + 15'000, "core 1", wakes(100, 500)).at(at + 15'001, "core 0", onCore(100));
            t.at(at + 15'100, "core 1", onCore(0));
            t.waitEnd(at + 15'000, "main", link ? 5 : 0).frameEnd(at + 20'000, "main");
            at += 20'000;
        }
        const auto r = t.open();
        QCOMPARE(walked(*r, 30)[1], QString("main:Wait wait_sleep 2-15"));
        QCOMPARE(walked(*r, 31)[1], QString("worker:Job running 2-10"));
    }

    /// worker is woken by decoder at 6 ms, does a job without a link, and wakes main; decoder was busy until then.
    void workWithoutALinkIsFollowedToWhoWokeItsThread() {
        const auto recorded = [](bool stopped) {
            TextRecording t = program();
            if (stopped) t.at(100, "core 1", onCore(400)).at(200, "core 1", onCore(0));
            const double at = usualFrames(t, 30);
            blockedInLoad(t, at);
            t.at(at + 3000, "core 1", onCore(500)).at(at + 6000, "core 1", wakes(400, 500));
            t.at(at + 6000, "core 1", onCore(400)).mark(at + 6050, at + 15'900, "worker", "Job");
            t.at(at + 15'950, "core 1", wakes(100, 400)).at(at + 16'000, "core 1", onCore(0));
            return t.open();
        };
        const auto r = recorded(true), unseen = recorded(false);
        const uint32_t worker = laneNamed(*r, "worker");
        // That it stopped was not seen, so nothing is known of its being woken.
        QCOMPARE(unseen->lanes[worker].wakeUps.size(), size_t{0});
        QCOMPARE(walked(*unseen, 30)[2], QString("worker: idle 4-6"));
        QCOMPARE(r->lanes[worker].wakeUps.size(), size_t{1});
        QCOMPARE(walked(*r, 30).mid(2, 4), (QStringList{"decoder: running 4-6", "worker:Job queued 6-6.05",
                                                        "worker:Job running 6.05-15.9", "worker: running 15.9-15.95"}));
        const MarkerRow& jobs = r->lanes[worker].rows[0];
        const Waker asked = requesterOf(*r, worker, jobs.begin(0), jobs.end(0));
        QCOMPARE(r->lanes[asked.lane].name, std::string("decoder"));
    }

    /// A wait without a link that worker's job ends: the job takes its usual time, and so does the wait.
    void whatIfFollowsWakeUps() {
        TextRecording t = program();
        const auto frame = [&](double at, double work) {
            t.at(at, "core 1", onCore(400)).mark(at + 1000, at + 1000 + work, "worker", "Job");
            t.frame(at, "main").wait(at + 1000, "main", "Wait", "its job", "job").at(at + 1000, "core 0", onCore(0));
            t.at(at + 1000 + work, "core 1", wakes(100, 400)).at(at + 1001 + work, "core 0", onCore(100));
            t.at(at + 1002 + work, "core 1", onCore(0));
            t.waitEnd(at + 1001 + work, "main").frameEnd(at + 3000 + work, "main");
        };
        for (int f = 0; f < 40; ++f) frame(f * 20'000.0, 5000);
        frame(800'000, 12'000);
        const auto e = explained(t.open());
        QCOMPARE(e->late, std::vector<uint32_t>{40});
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Job"));
        QCOMPARE(predict(*e, {{0, false}})->over, 0u);
    }

    /// The same without a wait: in each frame main is blocked in Load until decoder, which tells nothing, has computed
    /// for 3 ms; in frame 40 for 14.
    void aThreadWithoutMarkersThatHeldUpAFrameIsNamedAndRepaired() {
        TextRecording t = program();
        for (int f = 0; f < 50; ++f) {
            const double at = f * 40'000.0, done = at + 2000 + (f == 40 ? 14'000 : 3000);
            t.frame(at, "main").begin(at + 1000, "main", "Load").at(at + 2000, "core 1", onCore(500));
            t.at(at + 2100, "core 0", onCore(0))
                .at(done, "core 1", wakes(100, 500))
                .at(done + 5, "core 0", onCore(100));
            t.at(done + 10, "core 1", onCore(0)).end(done + 1000, "main").frameEnd(done + 2000, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, std::vector<uint32_t>{40});
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("decoder, outside any marker"));
        QCOMPARE(causeKindPhrase(*e, e->causes[0]), std::string("longer; a marker there would tell more"));
        QVERIFY(e->causes[0].isNamed());
        QCOMPARE(
            firstSentence(*e, 40),
            std::string("decoder spent 11.0 ms longer than usual outside any marker. A marker there would tell more."));
        QCOMPARE(doubtsOf(*e, 40), QStringList{"no marker says what was done there"});
        const auto p = predict(*e, {{0, false}});
        QCOMPARE(p->over, 0u);
        QCOMPARE(p->duration[40], e->frame(39).duration());
    }

    // ---- nothing tells who woke whom -----------------------------------------------------------------

    void whoStopsAtThatInstantIsLikely() {
        TextRecording t = program();
        const double at = usualFrames(t, 30);
        blockedInLoad(t, at);
        t.at(at + 5000, "core 1", onCore(500)).at(at + 16'050, "core 1", onCore(0));
        const auto e = explained(t.open());
        QVERIFY(!e->recording->wakeUps);
        QCOMPARE(walked(*e->recording, 30).mid(2, 2),
                 (QStringList{"decoder: idle 4-5 likely", "decoder: running 5-16 likely"}));
        QVERIFY(says(sentencesOf(*e, 30),
                     "main likely waited for decoder during 12.0 ms of this frame: its work ended as the wait did."));
        QVERIFY(says(doubtsOf(*e, 30), "who ended the wait was not recorded, work of decoder ended at that instant"));
    }

    void severalThatStopOrOneThatStopsOftenAreNoEvidence() {
        for (const int how : {0, 1, 2}) {
            TextRecording t = program();
            const double at = usualFrames(t, 30);
            blockedInLoad(t, at);
            if (how == 0) {  // two stop
                t.line(R"({"define":"lane","id":11,"name":"core 2","kind":"core","role":"","os":2})");
                t.at(at + 5000, "core 1", onCore(500)).at(at + 16'050, "core 1", onCore(0));
                t.at(at + 5000, "core 2", onCore(600)).at(at + 15'950, "core 2", onCore(0));
            } else if (how == 1) {  // one runs for a millisecond at a time
                for (int ms = 5; ms < 18; ++ms)
                    t.at(at + 1000 * ms - 900, "core 1", onCore(500)).at(at + 1000 * ms, "core 1", onCore(0));
            } else {  // one stops half a millisecond later
                t.at(at + 5000, "core 1", onCore(500)).at(at + 16'500, "core 1", onCore(0));
            }
            const auto r = t.open();
            QCOMPARE(walked(*r, 30)[2], QString("main:Load blocked 4-16"));
        }
    }
};

QTEST_GUILESS_MAIN(WakersTest)
#include "wakers_test.moc"
