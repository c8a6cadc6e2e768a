// SPDX-License-Identifier: GPL-3.0-or-later
//
// The walk back through a frame, added up and segment by segment: both must say the same, whatever the recording is
// like.
#include "core/explain/walk/critical_path.h"

#include <QtTest>
#include <map>
#include <set>
#include <tuple>

#include "core/ask/usual_markers.h"
#include "core/explain/walk/critical_path_sums.h"
#include "core/explain/words/frame_sentences.h"
#include "testing/explaining.h"
#include "testing/making.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

/// A frame's account, whichever way it came about.
struct Account final : SegmentSums {
    using Key = std::tuple<uint32_t, PathId, SegmentKind, uint32_t, PathId, uint32_t, CoreHolder>;
    std::map<Key, int64_t> times;
    std::map<std::pair<uint32_t, PathId>, uint32_t> occurrences;

    void time(const Segment& like, int64_t ns) override {
        times[{like.lane, like.path, like.kind, like.lock.object, like.lock.holder, like.lock.waiterLane,
               like.coreHolder}] += ns;
    }
    void calls(uint32_t lane, PathId path, uint32_t count) override { occurrences[{lane, path}] += count; }
    bool operator==(const Account& other) const { return times == other.times && occurrences == other.occurrences; }
    int64_t total() const {
        int64_t sum = 0;
        for (const auto& [key, ns] : times) sum += ns;
        return sum;
    }
};

/// Segment by segment; a marker counts where it or what it holds has a segment.
Account byPieces(const Recording& r, std::span<const Segment> segments) {
    Account account;
    std::set<std::tuple<uint32_t, uint32_t, uint32_t>> met;  // lane, row, index
    for (const Segment& segment : segments) {
        account.time(segment, segment.duration());
        if (!segment.marker.valid()) continue;
        uint32_t index = segment.marker.index;
        PathId path = segment.path;
        for (uint32_t row = segment.marker.row;; --row) {
            if (met.insert({segment.lane, row, index}).second) account.calls(segment.lane, path, 1);
            if (row == 0) break;
            index = r.lanes[segment.lane].rows[row].parent(index);
            path = r.paths[path].parent;
        }
    }
    return account;
}

/// Compares both ways for every frame, in the order told by `order`. Returns how many frames were compared.
size_t compareAll(const Recording& r, std::mt19937* shuffled = nullptr) {
    size_t compared = 0;
    for (const Series& series : r.series) {
        CriticalPathWalker quick(r), slow(r);
        std::vector<uint32_t> order;
        for (size_t f = series.frames.size(); f-- > 0;) order.push_back(uint32_t(f));
        if (shuffled) std::shuffle(order.begin(), order.end(), *shuffled);
        for (const uint32_t f : order) {
            const Frame& frame = series.frames[f];
            Account added;
            quick.sumUp(frame.lane, frame.begin, frame.end, added);
            const Account plain = byPieces(r, slow.account(frame.lane, frame.begin, frame.end));
            if (!(added == plain) || added.total() != frame.duration()) return 0;
            ++compared;
        }
    }
    return compared;
}

std::shared_ptr<const Recording> randomRecording(uint32_t seed, bool cores, bool wakeUps = false) {
    std::mt19937 random(seed);
    std::vector<ToldEvent> all = toldAtRandom(random, 12'000);
    ModelBuilder builder;
    defineTold(builder);
    for (size_t i = 0; i < all.size(); ++i) {
        // Work that is asked for by a link given out before.
        if (i % 11 == 0) all[i].event.kind = EventKind::LinkIn, all[i].event.a = random() % (i + 1);
        builder.event(all[i].lane, all[i].event);
    }
    if (cores) {
        for (uint32_t core = 0; core < 2; ++core) {
            builder.define(LaneDefinition{50 + core, LaneKind::Core, core, "core " + std::to_string(core), ""});
            for (int64_t now = random() % 500; now < 2'000'000; now += 200 + int64_t(random() % 40'000)) {
                // 101 to 104 are the lanes' threads, 0 is idle, 200 another program's.
                const uint32_t threads[] = {101, 102, 103, 104, 0, 200};
                builder.event(50 + core, {now, EventKind::Switch, threads[random() % 6], random() % 2, 0, {}});
                if (wakeUps && random() % 2)
                    builder.event(50 + core, {now + int64_t(random() % 200),
                                              EventKind::WakeUp,
                                              threads[random() % 4],
                                              threads[random() % 6],
                                              0,
                                              {}});
            }
        }
        builder.define(OsThreadDefinition{200, 77, "updater"});
    }
    return builder.finish();
}

}  // namespace

class CriticalPathTest : public QObject {
    Q_OBJECT

private slots:
    // ---- added up, and segment by segment ---------------------------------------------------------------

    void addedUpIsWhatThePiecesComeTo_data() {
        QTest::addColumn<bool>("cores");
        QTest::addColumn<bool>("wakeUps");
        QTest::newRow("markers alone") << false << false;
        QTest::newRow("with what the system did") << true << false;
        QTest::newRow("and who woke whom") << true << true;
    }
    void addedUpIsWhatThePiecesComeTo() {
        QFETCH(bool, cores);
        QFETCH(bool, wakeUps);
        for (uint32_t seed = 1; seed <= 12; ++seed) {
            const auto r = randomRecording(seed, cores, wakeUps);
            QVERIFY(compareAll(*r) > 100);
            std::mt19937 random(seed);
            QVERIFY(compareAll(*r, &random) > 100);  // also where times do not run backwards
        }
    }

    void randomRecordingsHaveEveryKindOfPiece() {  // else the comparison above would show little
        std::set<SegmentKind> kinds;
        size_t throughLocks = 0, elsewhere = 0, insideWaits = 0;
        for (uint32_t seed = 1; seed <= 12; ++seed) {
            const auto r = randomRecording(seed, true);
            for (const Series& series : r->series) {
                CriticalPathWalker walker(*r);
                for (const Frame& frame : series.frames)
                    for (const Segment& segment : walker.account(frame.lane, frame.begin, frame.end)) {
                        kinds.insert(segment.kind);
                        throughLocks += segment.lock.object != kNone;
                        elsewhere += segment.lane != frame.lane;
                        if (segment.marker.valid())
                            insideWaits += r->lanes[segment.lane].rows[segment.marker.row].flags(
                                               segment.marker.index) == kMarkerInsideWait;
                    }
            }
        }
        for (const SegmentKind kind :
             {SegmentKind::Running, SegmentKind::WaitLock, SegmentKind::WaitCondition, SegmentKind::WaitJob,
              SegmentKind::WaitGpu, SegmentKind::WaitFile, SegmentKind::WaitSleep, SegmentKind::WaitPacing,
              SegmentKind::Waking, SegmentKind::Queued, SegmentKind::Idle, SegmentKind::NoCore, SegmentKind::Blocked})
            QVERIFY2(kinds.count(kind), segmentName(kind));
        QVERIFY(throughLocks > 100);
        QVERIFY(elsewhere > 100);
        QVERIFY(insideWaits > 100);
    }

    void manyMarkersInDeepRowsAreAddedUpToo() {
        // More rows than are moved together, more markers than a chunk holds, and pauses of seconds.
        Making making;
        making.lanes = 2;
        making.depth = 90;
        making.events = 60'000;
        making.frameEvery = 700;
        making.gapEvery = 9'000;
        making.waits = 0.004;
        const Made made = making.make();
        QVERIFY(made.recording->lanes[0].rows.size() > 64);
        QVERIFY(made.recording->lanes[0].rows[0].size() > MarkerRow::kGroup);
        QVERIFY(compareAll(*made.recording) > 50);
        std::mt19937 random(5);
        QVERIFY(compareAll(*made.recording, &random) > 50);
    }

    void accountsOfFramesHoldTheSameSums() {
        const auto r = randomRecording(3, true);
        for (uint32_t s = 0; s < r->series.size(); ++s) {
            const auto pathSums = sumCriticalPaths(*r, s);
            CriticalPathWalker walker(*r);
            QCOMPARE(pathSums->frameCount(), r->series[s].frames.size());
            for (uint32_t f = 0; f < pathSums->frameCount(); ++f) {
                const Frame& frame = r->series[s].frames[f];
                int64_t total = 0, pacing = 0;
                for (const Part& part : pathSums->partsOf(f)) {
                    QVERIFY(part.ns > 0);
                    total += part.ns;
                }
                for (const Segment& segment : walker.account(frame.lane, frame.begin, frame.end))
                    pacing += segment.kind == SegmentKind::WaitPacing ? segment.duration() : 0;
                QCOMPARE(total, frame.duration());
                QCOMPARE(pathSums->pacing(f), pacing);
            }
        }
    }

    // ---- the cursor -----------------------------------------------------------------------------------

    void aCursorSaysWhatIsOpenWhereverItCameFrom() {
        for (uint32_t seed = 1; seed <= 4; ++seed) {
            Making making;
            making.seed = seed;
            making.events = 20'000;
            making.step = seed % 2 ? 400 : 3;  // many at the same instant
            const Made made = making.make();
            const Recording& r = *made.recording;
            std::mt19937 random(seed);
            for (uint32_t lane = 0; lane < r.lanes.size(); ++lane) {
                LaneCursor cursor(r, lane);
                const int64_t span = r.lanes[lane].last - r.lanes[lane].first;
                int64_t time = r.lanes[lane].last;
                for (int step = 0; step < 3'000; ++step) {
                    time = random() % 50 ? time - int64_t(random() % 500)
                                         : r.lanes[lane].first + int64_t(random()) % (span + 1);
                    const LaneCursor::Here here = cursor.at(time);
                    QCOMPARE(here.marker, r.innermostBefore(lane, time));
                    if (!here.marker.valid()) continue;
                    const MarkerRow& row = r.lanes[lane].rows[here.marker.row];
                    QCOMPARE(here.path, row.path(here.marker.index));
                    QCOMPARE(here.wait, bool(row.flags(here.marker.index) & kMarkerWait));
                    // It has been the innermost one all the while since then, and not before.
                    QVERIFY(here.partBegin < time && here.partBegin >= row.begin(here.marker.index));
                    QCOMPARE(r.innermostBefore(lane, here.partBegin + 1), here.marker);
                    if (here.partBegin > row.begin(here.marker.index)) {  // then it held another one until then
                        const MarkerRow& below = r.lanes[lane].rows[here.marker.row + 1];
                        QCOMPARE(below.end(below.lastBefore(time)), here.partBegin);
                    }
                    QVERIFY(cursor.outermostBegin() < time);
                    QVERIFY(cursor.outermostEnd() >= time);
                }
            }
        }
    }

    void aCursorKnowsTheWaitBefore() {
        Making making;
        making.waits = 0.2;
        const Made made = making.make();
        const Recording& r = *made.recording;
        std::mt19937 random(9);
        LaneCursor cursor(r, 0);
        for (int step = 0; step < 2'000; ++step) {
            const int64_t time = r.begin + int64_t(random()) % (r.end - r.begin);
            int64_t expected = INT64_MIN;
            for (const ToldMarker& marker : made.markers)
                if (marker.lane == 0 && marker.wait && !marker.insideWait && marker.begin < time) expected = marker.end;
            QCOMPARE(cursor.waitedUntil(time), expected);
        }
    }

    void aTimeRangeIsAddedUpByMarker() {
        TextRecording t;
        t.begin(0, "main", "Frame").mark(1, 3, "main", "Draw").mark(4, 4, "main", "Nothing").begin(5, "main", "Draw");
        t.mark(6, 8, "main", "Sails").end(9, "main").end(10, "main");
        const auto r = t.open();
        MarkerSums sums;
        sums.of.resize(r->paths.size());
        LaneCursor cursor(*r, 0);
        const auto said = [&](double from, double to) {
            cursor.countAnew();
            cursor.addUp(int64_t(from * 1000), int64_t(to * 1000), sums);
            QMap<QString, QString> out;
            for (const PathId path : sums.touched) {
                out[pathOf(*r, path)] = QString("%1 in %2").arg(sums.of[path].self / 1000.0).arg(sums.of[path].calls);
                sums.of[path] = {};
            }
            sums.touched.clear();
            return out;
        };
        using Map = QMap<QString, QString>;
        QCOMPARE(said(0, 10),
                 (Map{{"", "0 in 0"}, {"Frame", "4 in 1"}, {"Frame/Draw", "4 in 2"}, {"Frame/Draw/Sails", "2 in 1"}}));
        QCOMPARE(said(7, 12),
                 (Map{{"", "2 in 0"}, {"Frame", "1 in 1"}, {"Frame/Draw", "1 in 1"}, {"Frame/Draw/Sails", "1 in 1"}}));
        QCOMPARE(said(2, 7),
                 (Map{{"", "0 in 0"}, {"Frame", "2 in 1"}, {"Frame/Draw", "2 in 2"}, {"Frame/Draw/Sails", "1 in 1"}}));
        QCOMPARE(said(3.5, 4.5), (Map{{"", "0 in 0"}, {"Frame", "1 in 1"}}));  // what has no length took no time
        QCOMPARE(said(11, 12), (Map{{"", "1 in 0"}}));
    }

    void whatIsMetInTwoRangesCountsOnce() {
        TextRecording t;
        t.begin(0, "main", "Frame").mark(1, 3, "main", "Draw").mark(5, 8, "main", "Draw").end(10, "main");
        const auto r = t.open();
        MarkerSums sums;
        sums.of.resize(r->paths.size());
        LaneCursor cursor(*r, 0);
        cursor.countAnew();
        cursor.addUp(6'000, 10'000, sums);
        cursor.addUp(2'000, 6'000, sums);
        QStringList counted;
        cursor.countUp({0, 1, 0}, r->lanes[0].rows[1].path(0), [&](PathId path) { counted << pathOf(*r, path); });
        QVERIFY(counted.isEmpty());  // it was met by then, and so was what holds it
        uint32_t calls = 0;
        for (const PathId path : sums.touched) calls += sums.of[path].calls;
        QCOMPARE(calls, 3u);
        cursor.countAnew();
        cursor.countUp({0, 1, 1}, r->lanes[0].rows[1].path(1), [&](PathId path) { counted << pathOf(*r, path); });
        QCOMPARE(counted, (QStringList{"Frame/Draw", "Frame"}));
    }

    void aLaneWithoutMarkersIsOutsideAny() {
        TextRecording t;
        t.frame(0, "main").frameEnd(10, "main");
        const auto r = t.open();
        Account account;
        CriticalPathWalker(*r).sumUp(r->series[0].frames[0].lane, 0, 10'000, account);
        QCOMPARE(account.times.size(), size_t{1});
        QCOMPARE(account.total(), int64_t{10'000});
        QVERIFY(account.occurrences.empty());
        Account nothing;
        CriticalPathWalker(*r).sumUp(r->series[0].frames[0].lane, 10'000, 10'000, nothing);
        QVERIFY(nothing.times.empty());
    }

    // ---- worked out by hand ---------------------------------------------------------------------

    void runningTimeBelongsToTheInnermostMarker() {
        TextRecording t;
        t.frame(0, "main")
            .begin(1, "main", "A")
            .mark(2, 3, "main", "B")
            .mark(3, 4, "main", "B")
            .end(6, "main")
            .frameEnd(8, "main");
        QCOMPARE(segmentsOf(*t.open()),
                 (QStringList{"main: running 0-1", "main:A running 1-2", "main:A/B running 2-3", "main:A/B running 3-4",
                              "main:A running 4-6", "main: running 6-8"}));
    }

    void aLockWaitBelongsToItsHolderAndWakingToTheWaiter() {
        TextRecording t;
        t.begin(0, "save", "Flush")
            .taken(1, "save", "gate")
            .begin(2, "save", "write")
            .end(7, "save")
            .given(8, "save", "gate")
            .end(9, "save");
        t.frame(0, "main")
            .wait(3, "main", "Wait", "gate", "lock")
            .waitEnd(8.5, "main")
            .taken(8.5, "main", "gate")
            .frameEnd(10, "main");
        const auto r = t.open();
        QCOMPARE(segmentsOf(*r),
                 (QStringList{"main: running 0-3", "save:Flush/write running 3-7", "save:Flush running 7-8",
                              "main:Wait waking 8-8.5", "main: running 8.5-10"}));
        CriticalPathWalker walker(*r);
        for (const Segment& segment : walker.account(r->series[0].frames[0].lane, 0, 10'000)) {
            if (segment.lane != laneNamed(*r, "save")) continue;
            QCOMPARE(r->objects[segment.lock.object], std::string("gate"));
            QCOMPARE(pathOf(*r, segment.lock.holder), QString("Flush"));
        }
    }

    void twoHoldersInARowShareTheWait() {
        TextRecording t;
        t.begin(0, "b", "B").taken(1, "b", "gate").given(4, "b", "gate").end(4.5, "b");
        t.begin(0, "c", "C")
            .wait(2, "c", "WaitC", "gate", "lock")
            .waitEnd(4, "c")
            .taken(4, "c", "gate")
            .given(7, "c", "gate")
            .end(9, "c");
        t.frame(0, "main")
            .wait(3, "main", "Wait", "gate", "lock")
            .waitEnd(7, "main")
            .taken(7, "main", "gate")
            .frameEnd(8, "main");
        QCOMPARE(segmentsOf(*t.open()),
                 (QStringList{"main: running 0-3", "b:B running 3-4", "c:C running 4-7", "main: running 7-8"}));
    }

    void aLinkedWaitBelongsToWhoeverEndedItAlsoOverSeveralLanes() {
        TextRecording t;
        t.begin(0, "gpu", "Scene").linkOut(6, "gpu", 1).end(6, "gpu");
        t.begin(0, "render", "Picture")
            .wait(1, "render", "WaitGpu", "fence", "gpu")
            .waitEnd(6, "render", 1)
            .linkOut(8, "render", 2)
            .end(8, "render");
        t.frame(0, "main")
            .begin(0, "main", "Frame")
            .wait(2, "main", "WaitRender", "picture", "job")
            .waitEnd(8, "main", 2)
            .end(9, "main")
            .frameEnd(9, "main");
        QCOMPARE(segmentsOf(*t.open()), (QStringList{"main:Frame running 0-2", "gpu:Scene running 2-6",
                                                     "render:Picture running 6-8", "main:Frame running 8-9"}));
    }

    void workThatWasQueuedLeadsBackToWhoAskedForIt() {
        TextRecording t;
        t.lane("gpu", 5, "queue");
        t.begin(0, "render", "Encode").linkOut(5, "render", 1).end(5, "render");
        t.begin(6, "gpu", "Scene").linkIn(6, "gpu", 1).linkOut(9, "gpu", 2).end(9, "gpu");
        t.frame(0, "main").wait(1, "main", "WaitGpu", "fence", "gpu").waitEnd(9, "main", 2).frameEnd(10, "main");
        QCOMPARE(segmentsOf(*t.open()),
                 (QStringList{"main: running 0-1", "render:Encode running 1-5", "gpu:Scene queued 5-6",
                              "gpu:Scene running 6-9", "main: running 9-10"}));
    }

    void showingAPictureIsTheDevicesUntilItHasFinishedAndGoesOnAfterwards() {
        const auto shown =
            [](const char* kind) {  // the device finishes in the wait, which then lasts as long as it does
                TextRecording t;
                t.lane("gpu", 5, "queue");
                t.begin(1000, "gpu", "Drawing").linkIn(1000, "gpu", 1).linkOut(6000, "gpu", 2).end(6000, "gpu");
                t.frame(0, "main")
                    .linkOut(1000, "main", 1)
                    .wait(2000, "main", "Show", "", kind)
                    .waitEnd(9000, "main", 2)
                    .frameEnd(10'000, "main");
                return segmentsOf(*t.open());
            };
        QCOMPARE(shown("pacing"), (QStringList{"main: running 0-2000", "gpu:Drawing running 2000-6000",
                                               "main:Show wait_pacing 6000-9000", "main: running 9000-10000"}));
        QCOMPARE(shown("gpu"), (QStringList{"main: running 0-2000", "gpu:Drawing running 2000-6000",
                                            "main:Show wait_gpu 6000-9000", "main: running 9000-10000"}));
        // What had finished before did not keep the display waiting.
        TextRecording t;
        t.lane("gpu", 5, "queue");
        t.begin(1000, "gpu", "Drawing").linkOut(1500, "gpu", 2).end(1500, "gpu");
        t.frame(0, "main").wait(2000, "main", "Show", "", "pacing").waitEnd(9000, "main", 2).frameEnd(9000, "main");
        QCOMPARE(segmentsOf(*t.open()), (QStringList{"main: running 0-2000", "main:Show wait_pacing 2000-9000"}));
    }

    void aWaitWithoutAKnownEndBelongsToItsKind() {
        TextRecording t;
        t.frame(0, "main")
            .wait(1, "main", "Read", "sails.pak", "file")
            .waitEnd(4, "main")
            .wait(5, "main", "Nap", "timer", "sleep")
            .waitEnd(6, "main")
            .frameEnd(7, "main");
        QCOMPARE(segmentsOf(*t.open()),
                 (QStringList{"main: running 0-1", "main:Read wait_file 1-4", "main: running 4-5",
                              "main:Nap wait_sleep 5-6", "main: running 6-7"}));
    }

    void anotherLaneOutsideAnyMarkerIsIdleThere() {
        TextRecording t;
        t.mark(0, 2, "worker", "Old").mark(4, 5, "worker", "Job").linkOut(5, "worker", 1);
        t.frame(0, "main").wait(1, "main", "Wait", "job", "job").waitEnd(5, "main", 1).frameEnd(6, "main");
        QCOMPARE(segmentsOf(*t.open()), (QStringList{"main: running 0-1", "worker:Old running 1-2", "worker: idle 2-4",
                                                     "worker:Job running 4-5", "main: running 5-6"}));
    }

    void lanesThatWaitForEachOtherEndTheWalk() {
        TextRecording t;
        t.wait(1, "b", "WaitB", "x", "job").waitEnd(6, "b", 2).linkOut(7, "b", 1);
        t.frame(0, "main")
            .wait(2, "main", "WaitA", "x", "job")
            .linkOut(6, "main", 2)
            .waitEnd(7, "main", 1)
            .frameEnd(8, "main");
        QCOMPARE(segmentsOf(*t.open()),
                 (QStringList{"main: running 0-2", "b:WaitB wait_job 2-6", "b: idle 6-7", "main: running 7-8"}));
    }

    void piecesOfEveryFrameAddUpOnRandomRecordings() {
        std::mt19937 random(3);
        for (int round = 0; round < 60; ++round) {
            TextRecording t;
            const char* const lanes[] = {"main", "a", "b"};
            std::vector<int> depth(3), waits(3);
            std::vector<std::vector<bool>> open(3);
            double now = 0;
            bool inFrame = false;
            for (int i = 0; i < 500; ++i) {
                now += static_cast<double>(random() % 40) / 7;
                const size_t l = random() % 3;
                const std::string lane = lanes[l];
                switch (random() % 8) {
                    case 0:
                    case 1:
                        t.begin(now, lane, std::string(1, static_cast<char>('A' + random() % 5)));
                        open[l].push_back(false);
                        break;
                    case 2:
                        t.wait(now, lane, "W", random() % 2 ? "gate" : "door", random() % 2 ? "lock" : "job");
                        open[l].push_back(true);
                        break;
                    case 3:
                    case 4:
                        if (open[l].empty()) break;
                        open[l].back() ? t.waitEnd(now, lane, static_cast<int>(random() % 30)) : t.end(now, lane);
                        open[l].pop_back();
                        break;
                    case 5:
                        random() % 2 ? t.linkOut(now, lane, static_cast<int>(random() % 30))
                                     : t.linkIn(now, lane, static_cast<int>(random() % 30));
                        break;
                    case 6: random() % 2 ? t.taken(now, lane, "gate") : t.given(now, lane, "gate"); break;
                    default: inFrame ? t.frameEnd(now, "main") : t.frame(now, "main", 30); inFrame = !inFrame;
                }
            }
            const auto r = t.open();
            if (r->series.empty() || r->series[0].frames.empty()) continue;
            for (uint32_t f = 0; f < r->series[0].frames.size(); ++f) QVERIFY(!segmentsOf(*r, f).contains("GAP"));
            const auto e = explained(r);
            UsualMarkers usual(e);
            for (uint32_t f = 0; f < e->frames.size(); ++f) {
                int64_t sum = 0, late = 0;
                for (const ExcessPart& part : e->excessOf(f)) sum += part.excess();
                QCOMPARE(sum, e->frame(f).duration() - e->usualOf(f));
                for (const CauseShare& share : e->sharesOf(f)) late += share.late;
                for (const Sentence& sentence : frameSentences(*e, f)) QVERIFY(!sentence.text.empty());
                int64_t waterfall = 0;
                for (const WaterfallStep& step : waterfallOf(*e, f)) waterfall += step.excess;
                QCOMPARE(waterfall, e->frame(f).duration() - e->usualDuration(f));
                const auto table = usual.ofFrame(f);
                for (const NestedMarker& row : table->rows)
                    QVERIFY(row.total >= 0 && row.total <= e->frame(f).duration() && row.self <= row.total);
                QCOMPARE(late, e->frames[f].overrun);
            }
            int64_t late = 0;
            for (const Cause& cause : e->causes) late += cause.late;
            QCOMPARE(late, e->figures.late);
        }
    }

    void chainsOfVeryManyLanesAreFollowedSoFar() {
        // Each lane waits until the next one ends that, which itself waited until just before.
        constexpr int kLanes = 2000;
        TextRecording t;
        const auto lane = [](int i) { return "lane " + std::to_string(i); };
        t.frame(0, lane(0));
        for (int i = 0; i < kLanes; ++i) {
            t.wait(1, lane(i), "Wait", "object " + std::to_string(i), "job").waitEnd(5000 - i, lane(i), i + 1);
            if (i > 0) t.linkOut(5000 - i + 0.5, lane(i), i);
        }
        t.frameEnd(5001, lane(0));
        const auto r = t.open();
        CriticalPathWalker walker(*r);
        int64_t sum = 0;
        std::set<uint32_t> met;
        for (const Segment& segment : walker.account(r->series[0].frames[0].lane, 0, 5'001'000)) {
            sum += segment.duration();
            met.insert(segment.lane);
        }
        QCOMPARE(sum, int64_t{5'001'000});
        QVERIFY2(met.size() > 200 && met.size() < 300, qPrintable(QString::number(met.size())));
    }

    void timeWithoutACoreBelongsToWhoHadIt() {
        TextRecording t;
        threadsAndCore(t);
        t.at(0, "core 0", onCore(100)).at(3, "core 0", onCore(200, true)).at(7, "core 0", onCore(100));
        t.frame(0, "main").mark(1, 9, "main", "Work").frameEnd(10, "main");
        const auto r = t.open();
        QCOMPARE(segmentsOf(*r), (QStringList{"main: running 0-1", "main:Work running 1-3", "main:Work no_core 3-7",
                                              "main:Work running 7-9", "main: running 9-10"}));
        CriticalPathWalker walker(*r);
        const auto segments = walker.account(laneNamed(*r, "main"), 0, 10'000);
        QCOMPARE(coreHolderText(*r, segments[2].coreHolder), std::string("updater"));
    }

    void aThreadOfTheProgramThatFillsAQueueIsNoOtherProgram() {
        TextRecording t;
        t.line(R"({"define":"context","key":"process","value":"1"})");
        threadsAndCore(t);
        // One has the number of a core, as in a container.
        t.line(R"({"define":"lane","id":31,"name":"core 1","kind":"core","os":1})");
        t.line(R"({"define":"os_thread","id":1,"process":1,"name":"loader"})");
        t.line(R"({"define":"os_thread","id":9,"process":1,"name":"skerry"})");
        t.line(R"({"define":"lane","id":30,"name":"GPU graphics","kind":"queue","os":9})");
        t.at(0, "core 0", onCore(100)).at(3, "core 0", onCore(9, true)).at(7, "core 0", onCore(100));
        t.frame(0, "main").mark(1, 9, "main", "Work").frameEnd(10, "main").mark(3, 7, "GPU graphics", "Draw");
        const auto r = t.open();
        CriticalPathWalker walker(*r);
        const auto segments = walker.account(laneNamed(*r, "main"), 0, 10'000);
        QCOMPARE(segments[2].kind, SegmentKind::NoCore);
        QCOMPARE(coreHolderText(*r, segments[2].coreHolder), std::string("GPU graphics"));
        QVERIFY(segments[2].coreHolder < r->groups.size());
        QVERIFY2(laneNamed(*r, "loader") != kNone, "a thread that told nothing");
    }

    void whoIsWokenAndFindsTheCoreInUseHadNone() {
        TextRecording t;
        threadsAndCore(t);
        t.at(0, "core 0", onCore(100)).at(2, "core 0", onCore(300)).at(7, "core 0", onCore(100));
        t.begin(1, "worker", "Job").linkOut(4, "worker", 5).end(5, "worker");
        t.frame(0, "main").wait(2, "main", "Wait", "job", "job").waitEnd(7.5, "main", 5).frameEnd(10, "main");
        const auto r = t.open();
        QCOMPARE(segmentsOf(*r), (QStringList{"main: running 0-2", "worker:Job running 2-4", "main:Wait no_core 4-7",
                                              "main:Wait waking 7-7.5", "main: running 7.5-10"}));
        CriticalPathWalker walker(*r);
        for (const Segment& segment : walker.account(laneNamed(*r, "main"), 0, 10'000))
            if (segment.kind == SegmentKind::NoCore)
                QCOMPARE(coreHolderText(*r, segment.coreHolder), std::string("hauler"));
    }

    void stoppedByTheSystemWithoutAWaitIsBlocked() {
        TextRecording t;
        threadsAndCore(t);
        t.at(0, "core 0", onCore(100)).at(3, "core 0", onCore(0)).at(6, "core 0", onCore(100));
        t.frame(0, "main").mark(0, 10, "main", "Work").frameEnd(10, "main");
        QCOMPARE(segmentsOf(*t.open()),
                 (QStringList{"main:Work running 0-3", "main:Work blocked 3-6", "main:Work running 6-10"}));
    }

    void whatWasQueuedBehindOtherWorkWaitedForThatWork() {
        TextRecording t;
        t.frame(0, "main").linkOut(1, "main", 1).linkOut(2, "main", 2).wait(3, "main", "Wait", "job", "job");
        t.waitEnd(8, "main", 9).frameEnd(10, "main");
        t.begin(1.5, "worker", "First").linkIn(1.5, "worker", 1).end(6, "worker");
        t.begin(6.2, "worker", "Second").linkIn(6.2, "worker", 2).linkOut(8, "worker", 9).end(8, "worker");
        QCOMPARE(segmentsOf(*t.open()),
                 (QStringList{"main: running 0-3", "worker:First running 3-6", "worker:Second queued 6-6.2",
                              "worker:Second running 6.2-8", "main: running 8-10"}));
    }

    void aLinkThatEndedAWaitInsideIsNotWhatAskedForTheWork() {
        TextRecording t;
        t.linkOut(0.5, "other", 7);
        t.frame(0, "main").wait(1, "main", "Wait", "job", "job").waitEnd(8, "main", 9).frameEnd(9, "main");
        t.begin(4, "worker", "Job").wait(5, "worker", "Glance", "x", "condition").waitEnd(5, "worker", 7);
        t.linkOut(8, "worker", 9).end(8, "worker");
        QCOMPARE(segmentsOf(*t.open()), (QStringList{"main: running 0-1", "worker: idle 1-4", "worker:Job running 4-5",
                                                     "worker:Job running 5-8", "main: running 8-9"}));
    }
};

QTEST_GUILESS_MAIN(CriticalPathTest)
#include "critical_path_test.moc"
