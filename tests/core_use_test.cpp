// SPDX-License-Identifier: GPL-3.0-or-later
//
// What threads had of the cores: against sums over every piece of time between two changes.
#include "core/ask/core_use.h"

#include <QtTest>
#include <random>
#include <set>

#include "core/model/model_builder.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

constexpr uint32_t kCores = 3, kThreads = 5;

/// Threads 101 to 105, of which the first three have lanes, take turns on three cores.
std::shared_ptr<const Recording> randomSwitches(uint32_t seed) {
    std::mt19937 random(seed);
    TextRecording t;
    t.line(R"({"define":"context","key":"program","value":"race"})");
    t.line(R"({"define":"context","key":"process","value":"100"})");
    for (uint32_t i = 0; i < 3; ++i)
        t.line(R"({"define":"lane","id":)" + std::to_string(i + 1) + R"(,"name":"crew )" + std::to_string(i) +
               R"(","kind":"thread","role":"","os":)" + std::to_string(101 + i) + "}");
    for (uint32_t i = 0; i < kCores; ++i) t.lane("core " + std::to_string(i), static_cast<int>(20 + i), "core");
    for (uint32_t i = 3; i < kThreads; ++i)
        t.line(R"({"define":"os_thread","id":)" + std::to_string(101 + i) + R"(,"process":7,"name":"ferry"})");
    std::vector<uint32_t> on(kCores, 0);
    double now = 10;
    for (uint32_t i = 0; i < 400; ++i) {
        now += 1 + random() % 40;
        const uint32_t core = random() % kCores;
        uint32_t next = random() % 3 ? 101 + random() % kThreads : 0;
        for (const uint32_t other : on)
            if (other == next) next = 0;  // it runs already
        on[core] = next;
        t.at(now, "core " + std::to_string(core),
             R"("do":"switch","thread":)" + std::to_string(next) + (random() % 2 ? R"(,"ready":true)" : ""));
    }
    for (uint32_t i = 0; i < 3; ++i) t.mark(now + 10 + i, now + 20 + i, "crew " + std::to_string(i), "Work");
    return t.open();
}

/// Who has a core in each piece of time between two changes.
template <class Take>
void eachPiece(const Recording& r, const Scope& scope, Take&& take) {
    std::set<int64_t> edges;
    for (const TimeRange& stretch : scope.stretches) edges.insert({stretch.begin, stretch.end});
    for (const Lane& lane : r.lanes) {
        for (const CoreSpan& span : lane.coreSpans) edges.insert({span.begin, span.end});
        for (const ScheduleSpan& span : lane.schedule) edges.insert({span.begin, span.end});
    }
    for (auto at = edges.begin(); std::next(at) != edges.end(); ++at) {
        if (!scope.contains(*at)) continue;
        std::vector<uint32_t> running;
        for (const Lane& lane : r.lanes)
            for (const CoreSpan& span : lane.coreSpans)
                if (span.begin <= *at && span.end > *at && span.thread != 0 && span.thread < kStoppedMachine)
                    running.push_back(span.thread);
        int ready = 0;
        for (const Lane& lane : r.lanes) {
            const ScheduleSpan* span = lane.scheduleAt(*at);
            ready += span && span->state == ThreadState::Ready && lane.kind == LaneKind::Thread;
        }
        take(TimeRange{*at, *std::next(at)}, running, ready);
    }
}

}  // namespace

class CoreUseTest : public QObject {
    Q_OBJECT
private slots:
    void sumsAreThoseOfEveryPiece() {
        bool anyCrowded = false;
        for (uint32_t seed = 1; seed <= 8; ++seed) {
            const auto r = randomSwitches(seed);
            QVERIFY(tellsCores(*r));
            std::mt19937 random(seed);
            for (int round = 0; round < 6; ++round) {
                const auto instant = [&] {
                    return r->begin + static_cast<int64_t>(random() % static_cast<uint64_t>(r->end - r->begin));
                };
                Scope scope = wholeOf(*r);
                if (round) scope = Scope(std::vector<TimeRange>{{instant(), instant()}, {instant(), instant()}});
                if (scope.stretches.empty()) continue;
                const auto use = coreUse(*r, scope);
                std::vector<int64_t> busy(kCores + 1);
                std::map<uint32_t, int64_t> ran;
                int64_t crowded = 0;
                eachPiece(*r, scope, [&](const TimeRange& piece, const std::vector<uint32_t>& running, int ready) {
                    const int64_t ns = piece.end - piece.begin;
                    busy[running.size()] += ns;
                    for (const uint32_t thread : running) ran[thread] += ns;
                    if (running.size() == kCores && ready) crowded += ns;
                });
                QCOMPARE(use->cores, kCores);
                QCOMPARE(use->length, scope.length());
                for (uint32_t i = 1; i <= kCores; ++i) QCOMPARE(use->busyAtOnce[i], busy[i]);
                QCOMPARE(use->crowded, crowded);
                anyCrowded = anyCrowded || crowded > 0;
                for (const ThreadUse& thread : use->threads) {
                    QCOMPARE(thread.ran, ran[thread.thread]);
                    QCOMPARE(thread.program, std::string(thread.thread < 104 ? "race" : "ferry"));
                }
                // Programs stand above their threads, and are their sums.
                const auto table = coreTable(r, use);
                for (uint32_t i = 0; i < table->countBelow(Table::kTop); ++i) {
                    const Table::Row program = table->rowBelow(Table::kTop, i);
                    int64_t sum = 0;
                    for (uint32_t k = 0; k < table->countBelow(program); ++k)
                        sum += std::get<int64_t>(table->value(table->rowBelow(program, k), kCoreRan));
                    QCOMPARE(table->value(program, kCoreRan), TableValue(sum));
                }
            }
        }
        QVERIFY(anyCrowded);
    }

    void theCurveIsTheSameTime() {
        for (uint32_t seed = 1; seed <= 4; ++seed) {
            const auto r = randomSwitches(seed);
            const TimeRange range{r->begin + 1000, r->end - 1000};
            for (const bool byProgram : {false, true}) {
                const auto curve = coreCurve(*r, range, 37, byProgram, 3);
                QVERIFY(curve->names.size() <= 4);
                int64_t sum = 0, slow = 0;
                for (const auto& parts : curve->parts) {
                    QCOMPARE(parts.size(), size_t{37});
                    for (const int64_t ns : parts) {
                        QVERIFY(ns >= 0);
                        sum += ns;
                    }
                }
                for (size_t column = 0; column < 37; ++column) {
                    int64_t busy = 0;
                    for (const auto& parts : curve->parts) busy += parts[column];
                    QVERIFY(busy <= int64_t{kCores} * ((range.end - range.begin) / 37 + 2));  // idle is left blank
                }
                eachPiece(*r, Scope(range), [&](const TimeRange& piece, const std::vector<uint32_t>& running, int) {
                    slow += (piece.end - piece.begin) * static_cast<int64_t>(running.size());
                });
                QCOMPARE(sum, slow);
                if (byProgram)
                    for (const std::string& name : curve->names)
                        QVERIFY(name == "race" || name == "ferry" || name == "not known");
            }
        }
    }

    void movesAreCounted() {
        TextRecording t;
        t.line(R"({"define":"lane","id":1,"name":"main","kind":"thread","role":"","os":101})");
        t.lane("core 0", 20, "core").lane("core 1", 21, "core");
        const auto runs = [&](double us, const char* core, int thread) {
            t.at(us, core, R"("do":"switch","thread":)" + std::to_string(thread));
        };
        runs(10, "core 0", 101);
        runs(20, "core 0", 0);
        runs(30, "core 1", 101);
        runs(40, "core 1", 0);
        runs(50, "core 1", 101);
        runs(60, "core 1", 0);
        runs(70, "core 0", 101);
        runs(80, "core 0", 0);
        t.mark(90, 95, "main", "Work");
        const auto r = t.open();
        const auto use = coreUse(*r, wholeOf(*r));
        QCOMPARE(use->moves, uint64_t{2});
        QVERIFY(coreSentences(*use).find("They moved 2 times") != std::string::npos);
        QCOMPARE(use->threads.size(), size_t{1});
        QCOMPARE(use->threads[0].ran, int64_t{40'000});
    }

    void withoutCoresThereIsNothing() {
        TextRecording t;
        t.lane("main", 1).mark(0, 10, "main", "Work");
        const auto r = t.open();
        QVERIFY(!tellsCores(*r));
        const auto use = coreUse(*r, wholeOf(*r));
        QVERIFY(use->threads.empty() && use->cores == 0);
        QVERIFY(coreCurve(*r, wholeOf(*r), 10, false, 3)->parts.empty());
        QVERIFY(!coreSentences(*use).empty());
    }
};

QTEST_MAIN(CoreUseTest)
#include "core_use_test.moc"
