// SPDX-License-Identifier: GPL-3.0-or-later
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <sys/mman.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <unistd.h>

#include <QTemporaryDir>
#include <QtTest>
#include <condition_variable>
#include <csignal>
#include <fugato/fugato.hpp>
#include <limits>
#include <map>
#include <random>
#include <set>
#include <thread>

#include "core/ask/coverage.h"
#include "core/model/open_recording.h"
#include "testing/children.h"
#include "testing/kill_rounds.h"
#include "testing/opened.h"

using namespace fugato;

namespace {

FUG_DECLARED_SITE(rescue, "Rescue boat", "physics");

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

    /// A marker with arguments and one inside it, an operation, frames with deadlines, memory, points and a picture.
    static void tellEverythingElse() {
        fug_name_thread("main", "loop", FUG_LANE_THREAD);
        FUG_SITE_HERE(load, "Load", "assets", "one file");
        FUG_SITE_HERE(unpack, "Unpack", "assets");
        const fug::Operation operation(load);
        const fug::Series ticked("ticked", 5000);
        const fug::Pool textures("textures");
        {
            FUG_MARK_WITH(1, 700, "Outer", "physics");
            FUG_ARGUMENT("boats", 12);
            FUG_ARGUMENT("wind", 7.25);
            FUG_ARGUMENT("course", std::string("äußere Bahn"));
            FUG_ARGUMENT("depth", int64_t{-5'000'000'000});
            givenTime = 100;
            {
                FUG_MARK("Inner");
                fug_changed_nothing();
                fug_memory_taken(0, reinterpret_cast<void*>(16), 100, nullptr);
                textures.taken(reinterpret_cast<void*>(32), 5000, "sail");
            }
            fug_memory_given(0, reinterpret_cast<void*>(16));
        }
        ticked.tick();
        givenTime = 300;
        operation.step(unpack);
        ticked.tick(9000);
        givenTime = 700;
        ticked.tick();
        std::thread([&] {
            fug_name_thread("loader", "", FUG_LANE_THREAD);
            operation.end(-2, "no such file");
        }).join();
        fug_point_code(FUG_ERROR, -13, "refused");
        fug_input("key W down");
        std::vector<uint32_t> pixels(320 * 200);
        for (uint32_t y = 0; y < 200; ++y)
            for (uint32_t x = 0; x < 320; ++x) pixels[y * 320 + x] = x / 2 | (y / 2) << 8 | 0x330000;
        fug_picture(320, 200, pixels.data(), 320 * 4);
        fug_stop();
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
        const auto r = opened(file);
        QVERIFY(r);
        QVERIFY(!r->damage.any());
        QVERIFY(!r->repairs.any());
        QCOMPARE(r->context.at("program"), std::string("test"));
        const Lane& lane = r->lanes.at(laneNamed(*r, "main"));
        QCOMPARE(lane.role, std::string("loop"));
        QCOMPARE(lane.rows.size(), size_t{2});
        const Site& outer = r->siteOf(lane.rows[0].path(0));
        QCOMPARE(outer.name, std::string("Outer"));
        QCOMPARE(outer.category, std::string("physics"));
        QCOMPARE(outer.description, std::string("the whole step"));
        QCOMPARE(outer.file, std::string("tests/recorder_test.cpp"));
        QCOMPARE(int(outer.line), line);
        QCOMPARE(lane.rows[0].begin(0), int64_t{1000});  // since the start
        QCOMPARE(lane.rows[0].end(0), int64_t{2000});
        QCOMPARE(lane.rows[1].begin(0), int64_t{1500});
        QCOMPARE(lane.rows[1].end(0), int64_t{1700});
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
        const auto r = opened(file);
        QVERIFY(r);
        QCOMPARE(r->series[0].name, std::string("loop"));
        QCOMPARE(r->series[0].frames.at(0).deadline, int64_t{5000});
        QCOMPARE(r->series[1].frames.at(0).deadline, int64_t{777});
        QCOMPARE(r->series[1].frames.at(0).duration(), int64_t{50});
        QCOMPARE(r->counters.at(0).values.at(0), -2.25);
        QCOMPARE(r->counters.at(0).unit, std::string("pieces"));
        QCOMPARE(*r->counters.at(0).threshold, 3.5);
        QCOMPARE(r->text(r->points.at(0).text), std::string_view("grüße from the test"));
        QCOMPARE(int(r->points.at(0).severity), int(Severity::Warning));
        QCOMPARE(r->text(r->stages()->spans.at(0).value), std::string_view("Race"));
        QCOMPARE(r->holds.at(0).at(0).end - r->holds.at(0).at(0).begin, int64_t{50});
        const Wait& wait = r->lanes[0].waits.at(0);
        QCOMPARE(int(wait.kind), int(WaitKind::Gpu));
        QCOMPARE(wait.link, link);
        QCOMPARE(r->objects.at(wait.object), std::string("scene lock"));
        QCOMPARE(r->linkSource(link)->time, int64_t{200});
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
        const auto r = opened(file);
        QVERIFY(r);
        QCOMPARE(r->repairs.timesBackwards, uint64_t{0});
        QCOMPARE(r->repairs.endsWithoutBegin, uint64_t{0});
        QCOMPARE(r->repairs.beginsWithoutEnd, uint64_t{0});
        QCOMPARE(r->repairs.lostEvents, lost);
        QCOMPARE(uint64_t(r->markerCount()) * 2 + lost, uint64_t{2} * 2 * kThreads * kPairs);
        for (int t = 0; t < kThreads; ++t) QVERIFY(laneNamed(*r, "thread " + std::to_string(t)) != kNone);
    }

    void callsBeforeStartAndAfterStopDoNothing() {
        { FUG_MARK("Too early"); }
        fug_end(1);
        fug_point(FUG_INFO, nullptr);
        fug_wait_end(1, 3);
        fug_stop();
        fug_stop();
        QCOMPARE(fug_recording(), 0);
        const std::string file = path("again.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        { FUG_MARK("Now"); }
        fug_end(1);  // an end too many
        fug_stop();
        { FUG_MARK("Too late"); }
        const auto r = opened(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{1});
        QCOMPARE(r->repairs.endsWithoutBegin, uint64_t{1});
    }

    void shortLivedThreadsAreNoTrouble() {
        const std::string file = path("short.fugato");
        fug_options options{};
        options.buffer_events = 256;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        for (int i = 0; i < 1000; ++i) std::thread([] { FUG_MARK("Brief"); }).join();
        fug_stop();
        const auto r = opened(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{1000});
        QSet<QString> names;  // nameless threads stay tellable apart
        for (const Lane& lane : r->lanes)
            if (lane.markerCount()) names.insert(QString::fromStdString(lane.name));
        QCOMPARE(names.size(), 1000);
    }

    void everythingElseThatCanBeToldComesBack() {
        const std::string file = path("more.fugato");
        fug_options options{};
        options.now = givenNow;
        options.no_background = 1;
        givenTime = 0;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        tellEverythingElse();
        const auto r = opened(file);
        QVERIFY(r);
        QVERIFY2(!r->repairs.any(), r->repairs.any() ? r->repairs.sentences().at(0).c_str() : "");
        const Lane& lane = r->lanes.at(laneNamed(*r, "main"));
        const Site& outer = r->siteOf(lane.rows[0].path(0));
        QCOMPARE(outer.longestNs, int64_t{700});
        QCOMPARE(outer.detail, 1u);
        const auto [from, to] = lane.argumentsOf(0, 0);
        QCOMPARE(to - from, std::ptrdiff_t{4});
        QCOMPARE(r->keys[from[0].key] + " = " + r->valueText(from[0]), std::string("boats = 12"));
        QCOMPARE(r->keys[from[1].key] + " = " + r->valueText(from[1]), std::string("wind = 7.25"));
        QCOMPARE(r->valueText(from[2]), std::string("äußere Bahn"));
        QCOMPARE(from[3].integer(), int64_t{-5'000'000'000});
        QVERIFY(lane.rows[1].flags(0) & kMarkerChangedNothing);
        QVERIFY(!(lane.rows[0].flags(0) & kMarkerChangedNothing));

        QCOMPARE(r->operations.size(), size_t{1});
        const Operation& kept = r->operations[0];
        QCOMPARE(r->sites[kept.site].name, std::string("Load"));
        QCOMPARE(kept.begin, int64_t{0});
        QCOMPARE(kept.end, int64_t{700});
        QCOMPARE(kept.endedOn, laneNamed(*r, "loader"));
        QCOMPARE(kept.code, int64_t{-2});
        QCOMPARE(r->text(kept.text), std::string_view("no such file"));
        QCOMPARE(r->stepsOf(kept)[0].time, int64_t{300});
        QCOMPARE(r->sites[r->stepsOf(kept)[0].site].name, std::string("Unpack"));

        QCOMPARE(r->series[0].frames.size(), size_t{2});
        QCOMPARE(r->series[0].frames[0].duration(), int64_t{200});
        QCOMPARE(r->series[0].frames[0].deadline, int64_t{5000});
        QCOMPARE(r->series[0].frames[1].deadline, int64_t{9000});

        QCOMPARE(r->allocations.size(), size_t{2});
        QVERIFY(r->allocations[0].isReleased());
        QCOMPARE(r->nameOf(r->allocations[0].path), std::string("Inner"));
        QVERIFY(!r->allocations[1].isReleased());
        QCOMPARE(r->text(r->allocations[1].name), std::string_view("sail"));
        QCOMPARE(r->pools[r->allocations[1].pool].name, std::string("textures"));
        QCOMPARE(r->pools[r->allocations[0].pool].bytesInUse, (std::vector<int64_t>{100, 0}));
        QCOMPARE(*r->points.at(0).code, int64_t{-13});
        QVERIFY(!r->points.at(0).input && r->points.at(1).input);
        QCOMPARE(r->text(r->points.at(1).text), std::string_view("key W down"));

        QCOMPARE(r->pictures.size(), size_t{1});
        const Picture& picture = r->pictures[0];
        QCOMPARE(picture.width, 160u);
        QCOMPARE(picture.height, 100u);
        const size_t at = (size_t{70} * 160 + 90) * 3;
        QCOMPARE(int(uint8_t(r->text(picture.pixels)[at])), 90);
        QCOMPARE(int(uint8_t(r->text(picture.pixels)[at + 1])), 70);
        QCOMPARE(int(uint8_t(r->text(picture.pixels)[at + 2])), 0x33);
    }

    void aDevicesTimesFollowItsClockThoughItDrifts() {
        const std::string file = path("device.fugato");
        fug_options options{};
        options.now = givenNow;
        options.no_background = 1;
        givenTime = 0;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        const uint32_t clock = fug_clock("gpu clock", 10);
        {
            const fug::Lane queue("GPU", "gpu", FUG_LANE_QUEUE, clock);
            fug_clock_sync(clock, 1000, 0);
            fug_clock_sync(clock, 2000, 10'000);  // 10 ns a tick
            fug_clock_sync(clock, 3000, 22'000);  // then 12
            const fug::InLane in(queue);
            fug_at(1500);
            const int began = [] {
                FUG_SITE_HERE(scene, "Scene");
                return fug_begin(&scene);
            }();
            fug_at(2500);
            fug_end(began);
            fug_at_now();
        }
        { FUG_MARK("On the host again"); }
        fug_stop();
        const auto r = opened(file);
        QVERIFY(r);
        const Lane& lane = r->lanes.at(laneNamed(*r, "GPU"));
        QCOMPARE(int(lane.kind), int(LaneKind::Queue));
        QCOMPARE(lane.rows[0].begin(0), int64_t{5000});
        QCOMPARE(lane.rows[0].end(0), int64_t{16'000});
        QCOMPARE(r->lanes.size(), size_t{2});
    }

    void aFiberKeepsItsMarkersThoughItMovesBetweenThreads() {
        const std::string file = path("fiber.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        const fug::Lane fiber("fiber 1", "fiber");
        int began = 0;
        std::thread([&] {
            fug_name_thread("thread A", "", FUG_LANE_THREAD);
            FUG_MARK("A's own");
            const fug::InLane in(fiber);
            FUG_SITE_HERE(site, "Across");
            began = fug_begin(&site);
        }).join();
        std::thread([&] {
            fug_name_thread("thread B", "", FUG_LANE_THREAD);
            FUG_MARK("B's own");
            const fug::InLane in(fiber);
            { FUG_MARK("Inside"); }
            fug_end(began);
        }).join();
        fug_stop();
        const auto r = opened(file);
        QVERIFY(r);
        QVERIFY(!r->repairs.any());
        const Lane& lane = r->lanes.at(laneNamed(*r, "fiber 1"));
        QCOMPARE(lane.markerCount(), size_t{2});
        QCOMPARE(r->pathText(lane.rows[1].path(0), 3), std::string("Across \u25b8 Inside"));
        QCOMPARE(r->lanes.at(laneNamed(*r, "thread B")).markerCount(), size_t{1});
    }

    void aCategoryMayBeSwitchedOffAndOnAgain() {
        const std::string file = path("detail.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        const auto work = [] {
            FUG_MARK("Coarse", "switched");
            FUG_MARK_WITH(2, 0, "Finest", "switched");
            FUG_MARK("Other", "stays");
        };
        work();
        fug_detail("switched", 1);
        work();
        fug_detail("switched", -1);
        work();
        const auto unused = [] { FUG_MARK("First used while off", "switched"); };
        unused();
        fug_detail(nullptr, 2);
        work();
        unused();
        fug_stop();
        const auto r = opened(file);
        QVERIFY(r);
        QVERIFY(!r->repairs.any());
        std::map<std::string, int> counts;
        for (const MarkerRow& row : r->lanes[0].rows)
            for (uint32_t i = 0; i < row.size(); ++i) ++counts[r->nameOf(row.path(i))];
        QCOMPARE(counts["Coarse"], 3);
        QCOMPARE(counts["Finest"], 2);
        QCOMPARE(counts["Other"], 4);
        QCOMPARE(counts["First used while off"], 1);
    }

    void declaredMarkersAreKnownAlsoWhereTheyAreNeverReached() {
        // FUG_DECLARED_SITE(rescue, …) at the top of this file was declared before anything was recorded.
        FUG_SITE_HERE(late, "Abandon race", "table");
        FUG_SITE_HERE(reached, "Rescue crew", "physics");
        for (int round = 0; round < 2; ++round) {
            const std::string file = path("declared.fugato");
            fug_options options{};
            options.existing = FUG_REPLACE_EXISTING;
            QCOMPARE(fug_start(file.c_str(), &options), 0);
            for (fug_site* site : {&late, &reached, &late}) fug_declare(site);
            fug_declare(nullptr);
            { const fug::Mark mark(reached); }
            fug_stop();
            const auto r = opened(file);
            QVERIFY(r && !r->repairs.any());
            std::map<std::string, int> known;
            for (const Site& site : r->sites) ++known[site.name];
            for (const char* name : {"Rescue boat", "Abandon race", "Rescue crew"}) QCOMPARE(known[name], 1);
            const auto coverage = coverageOf(*r, wholeOf(*r));
            std::set<std::string> missing;
            for (const uint32_t site : coverage->missing) missing.insert(r->sites[site].name);
            QVERIFY(missing.count("Rescue boat") && missing.count("Abandon race") && !missing.count("Rescue crew"));
            for (const Site& site : r->sites)
                if (site.name == "Rescue boat") QCOMPARE(site.category, std::string("physics"));
        }
    }

    void aSchedulerOfTheHostsOwnTellsWhoHasWhichCore() {
        const std::string file = path("cores.fugato");
        fug_thread_number(7);  // before anything is recorded
        fug_options options{};
        options.now = givenNow;
        options.no_background = 1;
        givenTime = 1000;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        fug_name_thread("main", "", FUG_LANE_THREAD);
        const fug::Lane first("core 0", "", FUG_LANE_CORE), second("core 1", "", FUG_LANE_CORE);
        std::thread([&] {
            fug_name_thread("worker", "", FUG_LANE_THREAD);
            fug_thread_number(8);
            FUG_MARK("Work");
        }).join();
        const auto has = [](const fug::Lane& core, uint64_t at, uint32_t thread, int ready = 0) {
            const fug::InLane here(core);
            fug_at(at);
            fug_switch(thread, ready);
        };
        has(first, 1000, 7);
        has(second, 1200, 8);
        has(second, 1500, 0);    // 8 blocks
        has(first, 1600, 8, 1);  // 7 would have gone on
        has(second, 1900, 7);
        {
            const void* const stack[] = {reinterpret_cast<const void*>(&fug_now_slow), &givenTime};
            const fug::InLane here(second);
            fug_at(2000);
            fug_call_stack(7, stack, std::size(stack));
            fug_call_stack(7, nullptr, 3);  // nothing
        }
        givenTime = 2500;
        { FUG_MARK("Later"); }
        fug_stop();
        fug_thread_number(0);
        const auto r = opened(file);
        QVERIFY(r && !r->repairs.any());
        const auto spansOf = [&](const std::string& name) {
            std::vector<std::tuple<int64_t, int64_t, ThreadState>> spans;
            for (const ScheduleSpan& span : r->lanes[laneNamed(*r, name)].schedule)
                spans.emplace_back(span.begin, span.end, span.state);
            return spans;
        };
        using Spans = std::vector<std::tuple<int64_t, int64_t, ThreadState>>;
        QCOMPARE(
            spansOf("main"),
            (Spans{{0, 600, ThreadState::Running}, {600, 900, ThreadState::Ready}, {900, 1500, ThreadState::Running}}));
        QCOMPARE(spansOf("worker"), (Spans{{200, 500, ThreadState::Running},
                                           {500, 600, ThreadState::Blocked},
                                           {600, 1500, ThreadState::Running}}));
        QVERIFY(r->lanes[laneNamed(*r, "core 0")].kind == LaneKind::Core);
        QCOMPARE(r->samples.size(), size_t{1});
        QCOMPARE(r->samples[0].thread, 7u);
        QCOMPARE(r->samples[0].time, int64_t{1000});
        const auto address = reinterpret_cast<uint64_t>(&fug_now_slow);
        QVERIFY(std::any_of(r->modules.begin(), r->modules.end(), [&](const Module& module) {
            return address >= module.address && address - module.address < module.bytes;
        }));
    }

    void recordedLocksAndConditionsTellWaitersHoldersAndEnders() {
        const std::string file = path("locks.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        fug_name_thread("main", "", FUG_LANE_THREAD);
        fug::SharedMutex scene("scene");
        fug::Mutex door("door");
        fug::Condition opened("door opened");
        bool open_ = false;
        std::atomic<bool> waiting{false};
        std::thread waiter([&] {
            fug_name_thread("waiter", "", FUG_LANE_THREAD);
            std::unique_lock<fug::Mutex> lock(door);
            waiting = true;
            opened.wait(lock, [&] { return open_; });
        });
        while (!waiting) usleep(100);
        {
            const std::lock_guard<fug::Mutex> lock(door);
            FUG_MARK("Open the door");
            open_ = true;
            opened.notify_all();
        }
        waiter.join();
        std::thread reader;
        {
            const std::unique_lock<fug::SharedMutex> lock(scene);
            waiting = false;
            reader = std::thread([&] {
                fug_name_thread("reader", "", FUG_LANE_THREAD);
                waiting = true;
                const std::shared_lock<fug::SharedMutex> shared(scene);
            });
            while (!waiting) usleep(100);
            usleep(2000);
        }
        reader.join();
        fug_stop();
        const auto r = fugato::opened(file);
        QVERIFY(r);
        const Lane& waits = r->lanes.at(laneNamed(*r, "waiter"));
        QVERIFY(waits.waits.size() >= 1);
        const Wait& wait = waits.waits.at(0);
        QCOMPARE(int(wait.kind), int(WaitKind::Condition));
        QCOMPARE(r->objects[wait.object], std::string("door opened"));
        QCOMPARE(r->nameOf(r->linkSource(wait.link)->path), std::string("Open the door"));
        const Lane& shared = r->lanes.at(laneNamed(*r, "reader"));
        QCOMPARE(r->objects[shared.waits.at(0).object], std::string("scene"));
        QCOMPARE(r->holds.at(shared.waits[0].object).size(), size_t{2});
    }

    void aSignalHandlerMayTellEvents() {
        if (kThreadSanitizer) QSKIP("the thread sanitizer runs handlers in the midst of events alone");
        const std::string file = path("signal.fugato");
        fug_options options{};
        options.buffer_events = 1 << 20;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        struct sigaction action {};
        action.sa_handler = [](int) {
            FUG_MARK("In a handler");
            fug_point(FUG_WARNING, "from a handler");
        };
        struct sigaction before {};
        sigaction(SIGUSR1, &action, &before);
        std::atomic<bool> done{false};
        std::thread interrupted([&] {
            for (int i = 0; i < 100'000; ++i) {
                FUG_MARK("Interrupted");
                if (i % 16 == 0) fug_point(FUG_INFO, "a text that takes more than one slot of the buffer");
            }
            done = true;
        });
        int sent = 0;
        for (; !done || sent < 200; ++sent) {
            pthread_kill(done && sent ? pthread_self() : interrupted.native_handle(), SIGUSR1);
            usleep(20);  // often, but not without a pause
        }
        interrupted.join();
        sigaction(SIGUSR1, &before, nullptr);
        fug_stop();
        const auto r = opened(file);
        QVERIFY(r);
        QVERIFY2(r->markerCount() > 50'000, qPrintable(QString::number(r->markerCount())));
        QVERIFY(r->repairs.beginsWithoutEnd + r->repairs.endsWithoutBegin < 100);
        QVERIFY(!r->points.empty());
        for (const Point& point : r->points)
            QVERIFY(r->text(point.text) == "from a handler" || r->text(point.text).find("a text that") == 0);
    }

    void aRecordedThreadCallsNeitherTheSystemNorWaits_data() {
        QTest::addColumn<uint>("events");
        QTest::newRow("with room") << (1u << 16);
        QTest::newRow("with a buffer that is mostly full") << 64u;
    }
    void aRecordedThreadCallsNeitherTheSystemNorWaits() {
        QFETCH(uint, events);
        NEEDS_THREADS_IN_A_CHILD();
        // The kernel ends the process at any call but write and exit: at a lock that has to wait, at memory
        // asked of the system, at a file.
        const std::string file = path("strict.fugato");
        int pipes[2];
        QCOMPARE(pipe(pipes), 0);
        const auto work = [&] {
            fug_options options{};
            options.buffer_events = events;
            options.existing = FUG_REPLACE_EXISTING;
            fug_start(file.c_str(), &options);
            constexpr int kSites = 3000;
            static fug_site sites[kSites];
            for (fug_site& each : sites) each = FUG_SITE("One of many", "strict", "each is used once");
            fug_lane* const lane = fug_lane_make("a lane", "", FUG_LANE_THREAD, 0);
            const uint32_t series = fug_series("made before", 1), object = fug_object("made before");
            std::thread([&] {
                { FUG_MARK("The thread's first event"); }
                sock_filter allowed[] = {
                    BPF_STMT(BPF_LD | BPF_W | BPF_ABS, offsetof(seccomp_data, nr)),
                    BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_write, 2, 0),
                    BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_exit, 1, 0),
                    BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_KILL_PROCESS),
                    BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ALLOW),
                };
                const sock_fprog filter{5, allowed};
                if (prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) != 0 ||
                    prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &filter) != 0)
                    _exit(3);
                for (int i = 0; i < 300'000; ++i) {
                    if (i % 50 == 0) fug_end(fug_begin(&sites[i / 50 % kSites]));
                    if (i % 1000 == 0) {
                        fug_lane* const before = fug_lane_enter(lane);
                        { FUG_MARK("In a lane of the host's own"); }
                        fug_lane_enter(before);
                    }
                    fug_clock_sync(2, static_cast<uint64_t>(i), fug_now());
                    fug_frame_begin(series, 0);
                    FUG_MARK("Made later", "strict", "even its name is told without a call");
                    FUG_ARGUMENT("i", i);
                    fug_taken(object);
                    FUG_SITE_HERE(site, "An operation", "strict");
                    const fug::Operation operation(site);
                    fug_point(FUG_INFO, "words");
                    fug_link_out(fug_link_new());
                    fug_memory_taken(0, &site, 8, nullptr);
                    fug_count(1, i);
                    operation.end();
                    fug_given(object);
                    fug_frame_end(series);
                }
                (void)!write(pipes[1], "x", 1);
                syscall(SYS_exit, 0);
            }).detach();
            char done = 0;
            (void)!read(pipes[0], &done, 1);
            fug_stop();
            _exit(done == 'x' ? 0 : 4);
        };
        const int end = ran(work);
        ::close(pipes[0]);
        ::close(pipes[1]);
        if (end == 3) QSKIP("this system does not let a process restrict itself");
        QCOMPARE(end, 0);
        const auto r = opened(file);
        QVERIFY(r && r->markerCount() > (events == 64 ? 10u : 1000u));
    }

    void theLayoutThatProgramsAreCompiledAgainstStays() {
        QCOMPARE(FUG_ABI, 1u);
        QCOMPARE(sizeof(fug_slot), size_t{16});
        QCOMPARE(sizeof(fug_key), size_t{16});
        QCOMPARE(sizeof(fug_site), size_t{64});
        QCOMPARE(offsetof(fug_site, longest_ns), size_t{48});
        QCOMPARE(sizeof(fug_buffer), size_t{40});
        QCOMPARE(offsetof(fug_buffer, end_limit), size_t{32});
        QCOMPARE(offsetof(fug_options, now), size_t{32});
        QCOMPARE(offsetof(fug_options, buffer_folder), size_t{72});
        // A caller of an earlier version with a shorter structure: what lies behind it is not looked at.
        struct {
            fug_options options{};
            char beyond[64];
        } shorter;
        std::memset(static_cast<void*>(&shorter), 0xff, sizeof shorter);
        shorter.options.size = offsetof(fug_options, buffer_events);
        shorter.options.program = "short";
        shorter.options.build = nullptr;
        const std::string file = path("shorter.fugato");
        QCOMPARE(fug_start(file.c_str(), &shorter.options), 0);
        fug_stop();
        QCOMPARE(opened(file)->context.at("program"), std::string("short"));
    }

    void badUseIsBorne() {
        const std::string file = path("bad.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        static fug_site nameless = FUG_SITE(nullptr, nullptr, nullptr);
        fug_end(fug_begin(&nameless));
        static const std::string huge(1 << 20, 'x');
        static fug_site hugeSite = FUG_SITE(huge.c_str(), huge.c_str(), huge.c_str());
        fug_end(fug_begin(&hugeSite));
        static fug_site wrongText = FUG_SITE("\xff\xfe not UTF-8 \xc3", "", "");
        fug_end(fug_begin(&wrongText));
        const fug::Counter counter("counter");
        counter.set(std::numeric_limits<double>::quiet_NaN());
        counter.set(std::numeric_limits<double>::infinity());
        const fug::Series series(nullptr, 0);
        series.begin(0);
        series.begin(0);
        series.end();
        series.end();
        fug_point(static_cast<fug_severity>(77), huge.c_str());
        fug_state_set(12345, nullptr);
        fug_operation_end(999, 0, nullptr);
        fug_memory_given(9, nullptr);
        fug_text(nullptr, "no key");
        fug_picture(0, 5, nullptr, 0);
        fug_lane_end(nullptr);
        fug_changed_nothing();
        fug_given(7);
        fug_stop();
        const auto r = opened(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{3});
        QCOMPARE(r->siteOf(r->lanes[0].rows[0].path(1)).name.size(), size_t{1000});
        QVERIFY(r->siteOf(r->lanes[0].rows[0].path(2)).name.find("\xef\xbf\xbd not UTF-8") != std::string::npos);
    }

    void aMillionNamesAreKept() {
        const std::string file = path("names.fugato");
        constexpr int kNames = 1'000'000;
        NEEDS_THREADS_IN_A_CHILD();
        const auto work = [&] {  // names are kept for every later recording of a program
            fug_start(file.c_str(), nullptr);
            std::vector<std::string> names(kNames);
            std::vector<fug_site> sites(kNames);
            for (int i = 0; i < kNames; ++i) {
                names[i] = "name " + std::to_string(i);
                sites[i] = FUG_SITE(names[i].c_str(), "", "");
                fug_end(fug_begin(&sites[i]));
            }
            fug_stop();
        };
        QCOMPARE(ran(work), 0);
        const auto r = opened(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount() * 2 + r->repairs.lostEvents, size_t{kNames} * 2);
        QCOMPARE(r->repairs.unknownNames, uint64_t{0});
        QCOMPARE(r->siteOf(r->lanes[0].rows[0].path(r->lanes[0].rows[0].size() - 1)).name.rfind("name ", 0), size_t{0});
    }

    void aProgramInCCanSayEverything() {
        const std::string file = path("c.fugato");
        QCOMPARE(recordFromC(file.c_str()), 0);
        const auto r = opened(file);
        QVERIFY(r);
        QVERIFY(!r->repairs.any());
        const Lane& lane = r->lanes.at(laneNamed(*r, "c thread"));
        QCOMPARE(int(lane.kind), int(LaneKind::Queue));
        QCOMPARE(r->siteOf(lane.rows[0].path(0)).name, std::string("Outer in C"));
        QCOMPARE(r->siteOf(lane.rows[1].path(0)).name, std::string("Wait in C"));
        // Scopes end where their block is left: one early, one with two more inside.
        QCOMPARE(lane.rows[0].size(), size_t{3});
        QCOMPARE(r->siteOf(lane.rows[0].path(2)).name, std::string("Scope in C"));
        QCOMPARE(r->siteOf(lane.rows[1].path(1)).name, std::string("Inner scope in C"));
        QCOMPARE(r->siteOf(lane.rows[2].path(0)).name, std::string("Innermost scope in C"));
        QVERIFY(r->siteOf(lane.rows[0].path(0)).file.find("c_client.c") != std::string::npos);
        QCOMPARE(r->series.at(0).frames.size(), size_t{1});
        QCOMPARE(r->text(r->points.at(0).text), std::string_view("from C"));
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
        const auto r = opened(file);
        QVERIFY(r);
        const MarkerRow& row = r->lanes[0].rows[0];
        const int64_t seen = row.end(0) - row.begin(0);
        QVERIFY(seen >= 300'000'000 && seen <= took);
    }
};

QTEST_GUILESS_MAIN(RecorderTest)
#include "recorder_test.moc"
