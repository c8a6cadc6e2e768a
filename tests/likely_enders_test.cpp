// SPDX-License-Identifier: GPL-3.0-or-later
//
// Waits of which nobody told who ended them, and work that usually ends as they do. Each recording is small enough to
// work the answer out by hand.
#include "core/model/likely_enders.h"

#include <QtTest>

#include "core/explain/causes/confidence.h"
#include "core/explain/simulation/what_if.h"
#include "core/explain/words/frame_sentences.h"
#include "testing/explaining.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

struct Engine {
    std::string kind = "job", partner = "thread";
    double afterWork = 30;      // us until the wait ends after the work did
    int frames = 40, ofUs = 0;  // ofUs: the partner also ends something so often
    bool jitter = false;        // the work ends anywhere in the wait instead
};
/// Frames of 9 ms, deadline 10: main works for 2 ms, then waits for 6 ms, while the partner draws; in frame 30 it draws
/// for 9 ms longer.
TextRecording engine(const Engine& is) {
    TextRecording t;
    t.line(R"({"define":"lane","id":1,"name":"main","kind":"thread","role":"","os":0})");
    t.line(R"({"define":"lane","id":2,"name":"partner","kind":")" + is.partner + R"(","role":"","os":0})");
    t.line(R"({"define":"lane","id":3,"name":"beside","kind":"thread","role":"","os":0})");
    for (int f = 0; f < is.frames; ++f) {
        const double at = f * 40'000.0, more = f == 30 ? 9000 : 0, ends = at + 8000 + more;
        t.frame(at, "main", 10'000).mark(at, at + 2000, "main", "Simulate");
        t.wait(at + 2000, "main", "Finish", "finish", is.kind).waitEnd(ends, "main");
        t.mark(at + 2500, is.jitter ? at + 3000 + f * 100 : ends - is.afterWork, "partner", "Draw");
        t.mark(at + 1000, at + 4000 + f * 37 % 1000, "beside", "Listen");
        for (double small = at + 100; is.ofUs && small < ends + 2000; small += is.ofUs)
            t.mark(small, small + 20, "beside", "Tick");
        t.frameEnd(at + 9000 + more, "main");
    }
    return t;
}

}  // namespace

class LikelyEndersTest : public QObject {
    Q_OBJECT

private slots:
    void workThatEndsAsWaitsDoIsFollowed() {
        for (const Engine& is : {Engine{}, Engine{"gpu", "queue", -60}, Engine{"condition", "thread", 150}}) {
            const auto e = explained(engine(is).open());
            const Recording& r = *e->recording;
            QCOMPARE(r.likelyEnders.size(), size_t{1});
            QCOMPARE(r.likelyEnders[0].lane, laneNamed(r, "main"));
            QCOMPARE(pathOf(r, r.likelyEnders[0].path), QString("Finish"));
            QCOMPARE(r.likelyEnders[0].group, r.lanes[laneNamed(r, "partner")].group);
            QCOMPARE(e->late, std::vector<uint32_t>{30});
            QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Draw"));
            QCOMPARE(e->causes[0].kind, CauseKind::Slower);
            QCOMPARE(r.groups[e->causes[0].group].name, std::string("partner"));
            const Confidence sure = confidenceOf(*e, 30, e->causes[0], e->segmentsOf(30));
            QCOMPARE(sure.level, ConfidenceLevel::Medium);
            QVERIFY(std::count(sure.doubts.begin(), sure.doubts.end(),
                               "who ended the wait was not recorded, work of partner ended at that instant") == 1);
            int64_t sum = 0;
            for (const Segment& segment : e->segmentsOf(30)) sum += segment.duration();
            QCOMPARE(sum, e->frame(30).duration());
            const auto repaired = predict(*e, {{0, false}});
            QCOMPARE(repaired->saved, 1u);
            QVERIFY(std::abs(repaired->duration[30] - 9'000'000) < 100'000);
        }
    }

    void otherwiseTheWaitKeepsItsTime_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<bool>("jitter");
        QTest::addColumn<int>("frames");
        QTest::newRow("it ends anywhere in the wait") << "job" << true << 40;
        QTest::newRow("too seldom to tell") << "job" << false << 7;
        QTest::newRow("threads do not end waits for a device") << "gpu" << false << 40;
        QTest::newRow("sleeping ends by itself") << "sleep" << false << 40;
        QTest::newRow("so do files") << "file" << false << 40;
    }
    void otherwiseTheWaitKeepsItsTime() {
        QFETCH(QString, kind);
        QFETCH(bool, jitter);
        QFETCH(int, frames);
        const auto r = engine({kind.toStdString(), "thread", 30, frames, 0, jitter}).open();
        QVERIFY(r->likelyEnders.empty());
    }

    void whatEndsAllTheTimeIsNoEvidence() {
        Engine is{"job", "thread", 30, 40, 250, true};
        QVERIFY(engine(is).open()->likelyEnders.empty());
        is.jitter = false;  // yet what ends with the wait alone is found beside it
        const auto r = engine(is).open();
        QCOMPARE(r->likelyEnders.size(), size_t{1});
        QCOMPARE(r->likelyEnders[0].group, r->lanes[laneNamed(*r, "partner")].group);
    }

    void whatLinksTellIsNotGuessed() {
        TextRecording t = engine({});
        // One wait of another marker, whose end a link tells, is left alone; so are those of Finish, but for their
        // ends.
        for (int f = 0; f < 40; ++f) {
            const double at = f * 40'000.0 + 20'000;
            t.wait(at, "main", "Take", "take", "job").mark(at + 100, at + 2000, "beside", "Give");
            t.linkOut(at + 2000, "beside", f + 1).waitEnd(at + 2010, "main", f + 1);
        }
        const auto r = t.open();
        QCOMPARE(r->likelyEnders.size(), size_t{1});
        QCOMPARE(pathOf(*r, r->likelyEnders[0].path), QString("Finish"));
    }

    void aPoolEndsTogether() {
        // Two workers by turns: the group is found, and of it the one whose work ended just then.
        TextRecording t;
        t.line(R"({"define":"lane","id":1,"name":"main","kind":"thread","role":"","os":0})");
        for (const char* worker : {"2", "3"})
            t.line(R"({"define":"lane","id":)" + std::string(worker) + R"(,"name":"worker )" + worker +
                   R"(","kind":"thread","role":"worker","os":0})");
        for (int f = 0; f < 20; ++f) {
            const double at = f * 40'000.0;
            t.wait(at, "main", "Finish", "finish", "job").waitEnd(at + 5000, "main");
            t.mark(at + 100, at + 4990, f % 2 ? "worker 2" : "worker 3", "Job");
            t.mark(at + 100, at + 2000 + 50 * f, f % 2 ? "worker 3" : "worker 2", "Job");
        }
        const auto r = t.open();
        QCOMPARE(r->likelyEnders.size(), size_t{1});
        const uint32_t group = r->likelyEnders[0].group, main = laneNamed(*r, "main");
        QCOMPARE(workEndedNear(*r, group, main, 5'000'000).lane, laneNamed(*r, "worker 3"));
        QCOMPARE(workEndedNear(*r, group, main, 45'000'000).lane, laneNamed(*r, "worker 2"));
        QCOMPARE(workEndedNear(*r, group, main, 45'000'000).time, int64_t{44'990'000});
        QCOMPARE(workEndedNear(*r, group, main, 15'000'000).lane, kNone);
    }
};

QTEST_GUILESS_MAIN(LikelyEndersTest)
#include "likely_enders_test.moc"
