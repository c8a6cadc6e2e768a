// SPDX-License-Identifier: GPL-3.0-or-later
//
// The pieces the demo is made of: its virtual clock, its recorded locks, fences and queues, its race.
#include <QtTest>
#include <cmath>
#include <map>

#include "demo/call_stacks.h"
#include "demo/race.h"
#include "demo/runtime.h"

using namespace skerry;

namespace {

FUG_SITE_HERE(anySite, "wait");

void spend(Runtime& runtime, int64_t ns) {
    runtime.beginComputing(ns);
    runtime.endComputing();
}

}  // namespace

class DemoPartsTest : public QObject {
    Q_OBJECT

private slots:
    void virtualThreadsMeetInOrderOfTheirTime() {
        const auto runtime = makeVirtualRuntime(1);
        QStringList order;
        for (const int start : {30, 10, 20})
            runtime->start("", [&, start] {
                runtime->sleepUntil(start * 1000);
                const Section section(*runtime);
                order << QString::number(start);
            });
        runtime->join();
        QCOMPARE(order, (QStringList{"10", "20", "30"}));
    }

    void spendingMovesOnlyOnesOwnClockAndStaysNearWhatWasAsked() {
        const auto runtime = makeVirtualRuntime(5);
        int64_t spent = 0, other = 0;
        runtime->start("", [&] {
            for (int i = 0; i < 1000; ++i) spend(*runtime, 1000);
            spent = runtime->now();
        });
        runtime->start("", [&] { other = runtime->now(); });
        runtime->join();
        QVERIFY(std::abs(spent - 1'000'000) < 30'000);
        QCOMPARE(other, int64_t{0});
    }

    void placesOfAComputationAreKeptEachAsLikely() {
        std::minstd_rand chance(3);
        std::map<const void*, int> kept;
        KeptPlaces none(2, chance);
        QVERIFY(none.kept()[0].empty() && none.kept()[1].empty());
        for (int i = 0; i < 600; ++i) {
            KeptPlaces places(2, chance);
            keptPlaces = &places;
            SKERRY_TELL_PLACE();
            SKERRY_TELL_PLACE();
            SKERRY_TELL_PLACE();
            keptPlaces = nullptr;
            SKERRY_TELL_PLACE();  // not asked for
            for (const CallStack& stack : places.kept()) {
                QVERIFY(stack.size() > 1);
                ++kept[stack[0]];
            }
        }
        QCOMPARE(kept.size(), size_t{3});
        for (const auto& [place, times] : kept)
            QVERIFY2(times > 300 && times < 500, qPrintable(QString::number(times)));
    }

    void elapsedTimeIsNotComputed() {
        const auto runtime = makeVirtualRuntime(5);
        int64_t passed = 0;
        runtime->start("", [&] {
            for (int i = 0; i < 1000; ++i) runtime->elapse(1000);
            passed = runtime->now();
        });
        runtime->join();
        QVERIFY(std::abs(passed - 1'000'000) < 30'000);
    }

    void aGateLetsOneInAtATime() {
        for (const bool real : {false, true}) {
            const auto runtime = real ? makeRealRuntime() : makeVirtualRuntime(2);
            Gate gate(*runtime, "gate");
            int inside = 0, most = 0, passed = 0;
            for (int t = 0; t < 4; ++t)
                runtime->start("", [&] {
                    for (int i = 0; i < 200; ++i) {
                        gate.lock(anySite);
                        most = std::max(most, ++inside);
                        spend(*runtime, 500);
                        ++passed;
                        --inside;
                        gate.unlock();
                        spend(*runtime, 100);
                    }
                });
            runtime->join();
            QCOMPARE(most, 1);
            QCOMPARE(passed, 800);
        }
    }

    void aWaiterGoesOnWhenTheGateIsGivenBack() {
        const auto runtime = makeVirtualRuntime(3);
        Gate gate(*runtime, "gate");
        int64_t got = 0, given = 0;
        runtime->start("", [&] {
            gate.lock(anySite);
            runtime->sleepUntil(1'000'000);
            given = runtime->now();
            gate.unlock();
        });
        runtime->start("", [&] {
            runtime->sleepUntil(500'000);
            gate.lock(anySite);
            got = runtime->now();
            gate.unlock();
        });
        runtime->join();
        QVERIFY(got > given && got < given + 50'000);
    }

    void aFenceHoldsBackUntilItsValueIsReached() {
        for (const bool real : {false, true}) {
            const auto runtime = real ? makeRealRuntime() : makeVirtualRuntime(4);
            Fence fence(*runtime, "fence", FUG_WAIT_JOB);
            std::atomic<int> raised{0};
            bool right = true;
            runtime->start("", [&] {
                for (int i = 1; i <= 100; ++i) {
                    fence.waitFor(static_cast<uint64_t>(i), anySite);
                    right = right && raised >= i;
                }
            });
            runtime->start("", [&] {
                for (int i = 1; i <= 100; ++i) {
                    spend(*runtime, 1000);
                    raised = i;
                    fence.raise(static_cast<uint64_t>(i));
                }
            });
            runtime->join();
            QVERIFY(right);
        }
    }

    void aFenceNeverFallsBackWhenRaisersComeInTheOtherOrder() {
        for (const bool real : {false, true}) {
            const auto runtime = real ? makeRealRuntime() : makeVirtualRuntime(7);
            Fence fence(*runtime, "fence", FUG_WAIT_JOB);
            runtime->start("", [&] {
                fence.raise(4);
                fence.raise(3);
                fence.raise(4);
            });
            bool through = false;
            runtime->start("", [&] {
                runtime->sleepUntil(2'000'000);
                fence.waitFor(4, anySite);
                through = true;
            });
            runtime->join();
            QVERIFY(through);
        }
    }

    void aQueueHandsOutEverythingOnceInOrder() {
        for (const bool real : {false, true}) {
            const auto runtime = real ? makeRealRuntime() : makeVirtualRuntime(6);
            WorkQueue queue(*runtime, "jobs");
            std::atomic<int> done{0};
            std::vector<int> order;
            const auto serve = [&] {
                std::function<void()> work;
                uint64_t link = 0;
                while (queue.pop(work, link, anySite)) {
                    QVERIFY(link != 0);
                    work();
                }
            };
            runtime->start("", serve);
            if (real) runtime->start("", serve);
            runtime->start("", [&] {
                for (int i = 0; i < 300; ++i) {
                    queue.push([&, i] {
                        ++done;
                        if (!real) order.push_back(i);
                    });
                    spend(*runtime, 700);
                }
                queue.close();
            });
            runtime->join();
            QCOMPARE(done.load(), 300);
            QVERIFY(std::is_sorted(order.begin(), order.end()));
        }
    }

    void theRaceStaysFiniteAndMoves() {
        Race race(3);
        Spray spray(3);
        for (int step = 0; step < 3600; ++step) {
            race.wind.rebuild(1.0f / 60, 2, step % 100 < 10 ? 1.0f : 0.1f);
            race.beginSails();
            race.cloth(0, Race::kBoats, 1.0f / 60, 1);
            race.endSails();
            race.hulls(1.0f / 60, 1);
            race.flock(1.0f / 60, 1);
            spray.step(race.bows(), 1.0f / 60, 1);
            race.crowd(1);
            race.collisions(1);
        }
        int legs = 0;
        for (const Boat& boat : race.boats) {
            QVERIFY(std::isfinite(boat.x) && std::isfinite(boat.y) && std::isfinite(boat.drive));
            QVERIFY(boat.speed >= 0 && boat.speed < 50);
            legs += boat.leg;
        }
        QVERIFY(legs > 0);
        const Vec wind = race.wind.at(10, 10);
        QVERIFY(std::isfinite(wind.x) && std::abs(wind.x) < 100);
        QVERIFY(spray.drops() > 0 && spray.drops() <= 2000);
        QVERIFY(race.planPath(1, 1) > 0);
        QVERIFY(race.cull(spray.drops(), 1) > 0);
        QVERIFY(std::isfinite(rank(race.standings(), 1)));
        QCOMPARE(race.snapshot().size(), size_t{Race::kBoats * 5 * sizeof(float)});
    }

    void theSameSeedSailsTheSameRace() {
        const auto sailed = [](uint64_t seed) {
            Race race(seed);
            for (int step = 0; step < 200; ++step) {
                race.beginSails();
                race.cloth(0, Race::kBoats, 1.0f / 60, 1);
                race.endSails();
                race.hulls(1.0f / 60, 1);
            }
            return race.snapshot();
        };
        QVERIFY(sailed(1) == sailed(1));
        QVERIFY(sailed(1) != sailed(2));
    }

    void soundIsNeitherSilentNorClipped() {
        std::vector<float> samples(512);
        const float loudest = mixSound(samples, 0.5f, 1);
        QVERIFY(loudest > 0.1f && loudest <= 1.0f);
    }
};

QTEST_GUILESS_MAIN(DemoPartsTest)
#include "demo_parts_test.moc"
