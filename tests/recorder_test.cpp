// SPDX-License-Identifier: GPL-3.0-or-later
#include <sys/wait.h>
#include <unistd.h>

#include <QTemporaryDir>
#include <QtTest>
#include <csignal>
#include <fugato/fugato.hpp>
#include <thread>

#include "core/model/model_builder.h"

using namespace fugato;

namespace {

uint64_t givenTime = 0;
uint64_t givenNow() { return givenTime; }

uint32_t laneNamed(const Recording& r, const std::string& name) {
    for (uint32_t i = 0; i < r.lanes.size(); ++i)
        if (r.lanes[i].name == name) return i;
    return kNone;
}

}  // namespace

extern "C" int recordFromC(const char* path);

class RecorderTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    std::string path(const char* name) const { return folder_.filePath(name).toStdString(); }
    static std::shared_ptr<const Recording> open(const std::string& file) {
        auto opened = openRecording(file);
        if (!opened) {
            QTest::qFail(opened.failure().sentence.c_str(), __FILE__, __LINE__);
            return nullptr;
        }
        return *opened;
    }

private slots:
    void cleanup() { fug_stop(); }

    void nestedMarkersComeBackWithNameCategoryDescriptionAndPlace() {
        const std::string file = path("nested.fugato");
        fug_options options{};
        options.program = "test";
        options.now = givenNow;
        options.no_background = 1;
        givenTime = 1000;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        fug_name_thread("main", "loop", FUG_LANE_THREAD);
        int line = 0;
        {
            givenTime = 2000;
            line = __LINE__ + 1;
            FUG_MARK("Outer", "physics", "the whole step");
            givenTime = 2500;
            {
                FUG_MARK("Inner");
                givenTime = 2700;
            }
            givenTime = 3000;
        }
        fug_stop();
        const auto r = open(file);
        QVERIFY(r);
        QVERIFY(!r->damage.any());
        QVERIFY(!r->repairs.any());
        QCOMPARE(r->context.at("program"), std::string("test"));
        const Lane& lane = r->lanes.at(laneNamed(*r, "main"));
        QCOMPARE(lane.role, std::string("loop"));
        QCOMPARE(lane.rows.size(), size_t{2});
        const Site& outer = r->siteOf(lane.rows[0].path[0]);
        QCOMPARE(outer.name, std::string("Outer"));
        QCOMPARE(outer.category, std::string("physics"));
        QCOMPARE(outer.description, std::string("the whole step"));
        QCOMPARE(outer.file, std::string("tests/recorder_test.cpp"));
        QCOMPARE(int(outer.line), line);
        QCOMPARE(lane.rows[0].begin[0], int64_t{1000});  // since the start
        QCOMPARE(lane.rows[0].end[0], int64_t{2000});
        QCOMPARE(lane.rows[1].begin[0], int64_t{1500});
        QCOMPARE(lane.rows[1].end[0], int64_t{1700});
        QCOMPARE(r->selfTime({laneNamed(*r, "main"), 0, 0}), int64_t{800});
    }

    void everyKindOfEventComesBack() {
        const std::string file = path("kinds.fugato");
        fug_options options{};
        options.now = givenNow;
        options.no_background = 1;
        givenTime = 0;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        const fug::Series loop("loop", 5000), other("other");
        const fug::Counter drops("drops", "pieces", 3.5);
        const fug::State stage("stage");
        fug::Mutex scene("scene lock");
        loop.begin();
        givenTime = 100;
        loop.end();
        other.begin(777);
        givenTime = 150;
        other.end();
        drops.set(-2.25);
        fug_point(FUG_WARNING, "grüße from the test");
        stage.set("Race");
        scene.lock();
        givenTime = 200;
        scene.unlock();
        const uint64_t link = fug_link_new();
        fug_link_out(link);
        {
            FUG_WAIT(wait, scene.object(), FUG_WAIT_GPU, "Wait for GPU");
            givenTime = 300;
            wait.endedBy(link);
        }
        fug_stop();
        const auto r = open(file);
        QVERIFY(r);
        QCOMPARE(r->series[0].name, std::string("loop"));
        QCOMPARE(r->series[0].frames.at(0).deadline, int64_t{5000});
        QCOMPARE(r->series[1].frames.at(0).deadline, int64_t{777});
        QCOMPARE(r->series[1].frames.at(0).duration(), int64_t{50});
        QCOMPARE(r->counters.at(0).values.at(0), -2.25);
        QCOMPARE(r->counters.at(0).unit, std::string("pieces"));
        QCOMPARE(*r->counters.at(0).threshold, 3.5);
        QCOMPARE(r->points.at(0).text, std::string("grüße from the test"));
        QCOMPARE(int(r->points.at(0).severity), int(Severity::Warning));
        QCOMPARE(r->stages()->spans.at(0).value, std::string("Race"));
        QCOMPARE(r->holds.at(0).at(0).end - r->holds.at(0).at(0).begin, int64_t{50});
        const Wait& wait = r->lanes[0].waits.at(0);
        QCOMPARE(int(wait.kind), int(WaitKind::Gpu));
        QCOMPARE(wait.link, link);
        QCOMPARE(r->objects.at(wait.object), std::string("scene lock"));
        QCOMPARE(r->linkSources.at(link).time, int64_t{200});
    }

    void manyThreadsKeepTheirOwnOrderAndNames() {
        const std::string file = path("threads.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        constexpr int kThreads = 8, kPairs = 20'000;
        std::vector<std::thread> threads;
        for (int t = 0; t < kThreads; ++t)
            threads.emplace_back([t] {
                fug_name_thread(("thread " + std::to_string(t)).c_str(), "", FUG_LANE_THREAD);
                for (int i = 0; i < kPairs; ++i) {
                    FUG_MARK("Outer");
                    FUG_MARK("Inner");
                }
            });
        for (auto& thread : threads) thread.join();
        fug_stop();
        const uint64_t lost = fug_lost();
        const auto r = open(file);
        QVERIFY(r);
        QCOMPARE(r->repairs.timesBackwards, uint64_t{0});
        QCOMPARE(r->repairs.endsWithoutBegin, uint64_t{0});
        QCOMPARE(r->repairs.beginsWithoutEnd, uint64_t{0});
        QCOMPARE(r->repairs.lostEvents, lost);
        QCOMPARE(uint64_t(r->markerCount()) * 2 + lost, uint64_t{2} * 2 * kThreads * kPairs);
        for (int t = 0; t < kThreads; ++t) QVERIFY(laneNamed(*r, "thread " + std::to_string(t)) != kNone);
    }

    void aFullBufferLosesWholeMarkersAndCountsThem() {
        const std::string file = path("full.fugato");
        fug_options options{};
        options.buffer_events = 64;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        constexpr uint64_t kPairs = 200'000;  // far quicker than the background thread empties 64 events
        for (uint64_t i = 0; i < kPairs; ++i) {
            FUG_MARK("A");
            FUG_MARK("B");
        }
        fug_stop();
        const uint64_t lost = fug_lost();
        QVERIFY(lost > 0);
        const auto r = open(file);
        QVERIFY(r);
        QCOMPARE(r->repairs.endsWithoutBegin, uint64_t{0});
        QCOMPARE(r->repairs.beginsWithoutEnd, uint64_t{0});
        QVERIFY(r->markerCount() * 2 <= kPairs * 4 - lost);
        QVERIFY(r->markerCount() * 2 + lost >= kPairs * 4 - 1);
        QVERIFY(r->repairs.lostEvents > 0);
    }

    void withoutBackgroundAFullBufferIsWrittenByItsThread() {
        const std::string file = path("foreground.fugato");
        fug_options options{};
        options.buffer_events = 64;
        options.now = givenNow;
        options.no_background = 1;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        for (int i = 0; i < 10'000; ++i) {
            FUG_MARK("A");
            fug_point(FUG_INFO, "some words that take more than one slot of the buffer");
            givenTime += 10;
        }
        fug_stop();
        QCOMPARE(fug_lost(), uint64_t{0});
        const auto r = open(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{10'000});
        QCOMPARE(r->points.size(), size_t{10'000});
    }

    void aKilledProgramLeavesAFileThatOpens() {
        for (int round = 0; round < 12; ++round) {
            const std::string file = path("killed.fugato");
            QFile::remove(QString::fromStdString(file));
            const pid_t child = fork();
            if (child == 0) {
                // exec, so that the child records as a program of its own
                execl(SKERRY_PROGRAM, "skerry", "--out", file.c_str(), "--seconds", "20", static_cast<char*>(nullptr));
                _exit(127);
            }
            // Once something is in the file, at another instant each time.
            QTRY_VERIFY_WITH_TIMEOUT(QFileInfo(QString::fromStdString(file)).size() > 4096, 20'000);
            usleep(17'000 * static_cast<unsigned>(round));
            kill(child, SIGKILL);
            int status = 0;
            waitpid(child, &status, 0);
            QVERIFY(WIFSIGNALED(status));
            const auto r = open(file);
            QVERIFY(r);
            QVERIFY(r->damage.indexMissing);
            QCOMPARE(r->repairs.timesBackwards, uint64_t{0});
            QVERIFY(r->markerCount() > 0);
        }
    }

    void aChildAfterForkDoesNotRecordAndTheParentGoesOn() {
        const std::string file = path("fork.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        { FUG_MARK("Before"); }
        const pid_t child = fork();
        if (child == 0) {
            for (int i = 0; i < 1000; ++i) {
                FUG_MARK("In the child");
            }
            _exit(fug_recording());
        }
        int status = 0;
        waitpid(child, &status, 0);
        QCOMPARE(WEXITSTATUS(status), 0);
        { FUG_MARK("After"); }
        fug_stop();
        const auto r = open(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{2});
    }

    void callsBeforeStartAndAfterStopDoNothing() {
        { FUG_MARK("Too early"); }
        fug_end();
        fug_point(FUG_INFO, nullptr);
        fug_wait_end(3);
        fug_stop();
        fug_stop();
        QCOMPARE(fug_recording(), 0);
        const std::string file = path("again.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        { FUG_MARK("Now"); }
        fug_end();  // an end too many
        fug_stop();
        { FUG_MARK("Too late"); }
        const auto r = open(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{1});
        QCOMPARE(r->repairs.endsWithoutBegin, uint64_t{1});
    }

    void aPlaceThatCannotBeWrittenIsToldAndTheProgramGoesOn() {
        QCOMPARE(fug_start("/nowhere/at/all.fugato", nullptr), ENOENT);
        QVERIFY(QString(fug_status()).contains("/nowhere/at/all.fugato"));
        QCOMPARE(fug_recording(), 0);
        { FUG_MARK("Unrecorded"); }
        QCOMPARE(fug_start("/dev/full", nullptr), 0);
        for (int i = 0; i < 1000; ++i) {
            FUG_MARK("Into a full disk");
        }
        fug_stop();
        QVERIFY(QString(fug_status()).contains("No space"));
    }

    void shortLivedThreadsAreNoTrouble() {
        const std::string file = path("short.fugato");
        fug_options options{};
        options.buffer_events = 256;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        for (int i = 0; i < 300; ++i) std::thread([] { FUG_MARK("Brief"); }).join();
        fug_stop();
        const auto r = open(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{300});
        QSet<QString> names;  // nameless threads stay tellable apart
        for (const Lane& lane : r->lanes)
            if (lane.markerCount()) names.insert(QString::fromStdString(lane.name));
        QCOMPARE(names.size(), 300);
    }

    void aProgramInCCanSayEverything() {
        const std::string file = path("c.fugato");
        QCOMPARE(recordFromC(file.c_str()), 0);
        const auto r = open(file);
        QVERIFY(r);
        QVERIFY(!r->repairs.any());
        const Lane& lane = r->lanes.at(laneNamed(*r, "c thread"));
        QCOMPARE(int(lane.kind), int(LaneKind::Queue));
        QCOMPARE(r->siteOf(lane.rows[0].path[0]).name, std::string("Outer in C"));
        QCOMPARE(r->siteOf(lane.rows[1].path[0]).name, std::string("Wait in C"));
        QVERIFY(r->siteOf(lane.rows[0].path[0]).file.find("c_client.c") != std::string::npos);
        QCOMPARE(r->series.at(0).frames.size(), size_t{1});
        QCOMPARE(r->points.at(0).text, std::string("from C"));
    }

    void timesFollowTheMonotonicClock() {
        const std::string file = path("clock.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        const auto begin = std::chrono::steady_clock::now();
        {
            FUG_MARK("Sleep");
            std::this_thread::sleep_for(std::chrono::milliseconds(300));
        }
        const auto took =
            std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::steady_clock::now() - begin).count();
        fug_stop();
        const auto r = open(file);
        QVERIFY(r);
        const MarkerRow& row = r->lanes[0].rows[0];
        const int64_t seen = row.end[0] - row.begin[0];
        QVERIFY(seen >= 300'000'000 && seen <= took);
    }
};

QTEST_GUILESS_MAIN(RecorderTest)
#include "recorder_test.moc"
