// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the operating system tells of a recorded program, as far as it is permitted here.
#include <unistd.h>

#include <QTemporaryDir>
#include <QtTest>
#include <csignal>
#include <fugato/fugato.hpp>
#include <set>
#include <thread>

#include "core/model/lane_order.h"
#include "core/model/open_recording.h"
#include "testing/opened.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

// What the test of call stacks is seen in; beside one another, and in this order or the other.
[[gnu::noinline]] int compareNumbers(const void* a, const void* b) {
    return *static_cast<const int*>(a) - *static_cast<const int*>(b);
}
[[gnu::noinline]] void sortFor(int ms) {
    std::vector<int> numbers(200'000);
    const auto ran = [] {  // however busy the machine is
        timespec time{};
        clock_gettime(CLOCK_THREAD_CPUTIME_ID, &time);
        return time.tv_sec * 1000 + time.tv_nsec / 1'000'000;
    };
    for (const auto until = ran() + ms; ran() < until;) {
        for (size_t i = 0; i < numbers.size(); ++i) numbers[i] = static_cast<int>(i * 7919 % 100'003);
        std::qsort(numbers.data(), numbers.size(), sizeof(int), compareNumbers);
    }
}
[[gnu::noinline]] int readFour(int from) {
    int got = 0;
    for (char byte; got < 4 && read(from, &byte, 1) == 1;) ++got;
    return got;
}

}  // namespace

class OsActivityTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    std::string path(const char* name) const { return folder_.filePath(name).toStdString(); }

    /// A thread that computes and sleeps in turns, one that waits for its orders, and one that soon ends.
    static void beBusyAndSleep() {
        fug_name_thread("busy", "", FUG_LANE_THREAD);
        std::thread([] {  // has no lane of its own, and ends long before the recording
            sortFor(3);
            pthread_setname_np(pthread_self(), "short task");
            sortFor(3);
        })
            .join();
        std::mutex lock;
        std::condition_variable given;
        int orders = 0;
        std::thread waiter([&] {
            fug_name_thread("waiter", "", FUG_LANE_THREAD);
            for (int i = 1; i <= 8; ++i) {
                std::unique_lock held(lock);
                given.wait(held, [&] { return orders >= i; });
                FUG_MARK("Order");
            }
        });
        for (int i = 0; i < 8; ++i) {
            {
                FUG_MARK("Busy");
                const auto until = std::chrono::steady_clock::now() + std::chrono::milliseconds(40);
                while (std::chrono::steady_clock::now() < until) {
                }
            }
            {
                const std::lock_guard held(lock);
                ++orders;
            }
            given.notify_one();
            FUG_MARK("Asleep");
            std::this_thread::sleep_for(std::chrono::milliseconds(40));
        }
        waiter.join();
        fug_stop();
    }
    static void wakersAreTold(const Recording& r) {
        if (r.context.at("os wake-ups") == "all programs") {
            size_t woken = 0;
            for (const WakeUp& wakeUp : r.lanes.at(laneNamed(r, "waiter")).wakeUps)
                woken += wakeUp.lane == laneNamed(r, "busy");
            QVERIFY2(woken >= 6, qPrintable(QString::number(woken)));  // of 8; one may come before it waits again
            // A sleep ends by a timer, whichever thread that interrupts. (Not every system tells it of an idle core.)
            for (const WakeUp& wakeUp : r.lanes.at(laneNamed(r, "busy")).wakeUps) {
                const MarkerRef in = r.innermostBefore(laneNamed(r, "busy"), wakeUp.time);
                if (in.valid() && r.nameOf(r.pathOf(in)) == "Asleep") QCOMPARE(wakeUp.by, 0u);
            }
        } else {
            QVERIFY(QString::fromStdString(r.context.at("os wake-ups")).startsWith("not recorded"));
            QVERIFY(!r.wakeUps);
        }
    }
    static void samplesLieInModules(const Recording& r) {
        QVERIFY(r.samples.size() > 50);
        uint64_t inModules = 0;
        for (const StackSample& sample : r.samples) {
            if (!sample.count) continue;  // in the system, on behalf of nothing
            const uint64_t address = r.stackAddresses[sample.first];
            for (const Module& module : r.modules)
                inModules += address >= module.address && address < module.address + module.bytes;
        }
        QVERIFY(inModules * 10 > r.samples.size() * 9);
        QVERIFY(!r.modules.at(0).buildId.empty());
    }

private slots:
    void cleanup() { fug_stop(); }

    void theOperatingSystemTellsWhoRanWhere() {
        const std::string file = path("os.fugato");
        fug_options options{};
        options.os = FUG_OS_SWITCHES | FUG_OS_SAMPLES | FUG_OS_LOAD;
        options.sample_us = 500;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        beBusyAndSleep();
        const auto r = opened(file);
        QVERIFY(r);
        for (const char* part : {"os switches", "os samples", "os load"}) {
            QVERIFY(r->context.count(part));
            if (QString::fromStdString(r->context.at(part)).startsWith("not recorded"))
                QSKIP(r->context.at(part).c_str());
        }
        const Lane& lane = r->lanes.at(laneNamed(*r, "busy"));
        int64_t asleep = 0, blocked = 0, busy = 0, running = 0;
        for (size_t i = 0; i < lane.rows[0].size(); ++i) {
            const bool sleeps = r->nameOf(lane.rows[0].path(i)) == "Asleep";
            (sleeps ? asleep : busy) += lane.rows[0].end(i) - lane.rows[0].begin(i);
            for (const ScheduleSpan& span : lane.schedule) {
                const int64_t part =
                    std::min(span.end, lane.rows[0].end(i)) - std::max(span.begin, lane.rows[0].begin(i));
                if (part <= 0) continue;
                if (sleeps && span.state == ThreadState::Blocked) blocked += part;
                if (!sleeps && span.state != ThreadState::Blocked) running += part;
            }
        }
        QVERIFY2(blocked > asleep * 8 / 10, qPrintable(QString("%1 of %2").arg(blocked).arg(asleep)));
        QVERIFY2(running > busy * 8 / 10, qPrintable(QString("%1 of %2").arg(running).arg(busy)));
        const Lane& ended = r->lanes.at(laneNamed(*r, "short task"));
        QVERIFY(ended.fromSystem && ended.splitBetween(r->begin, r->end).ran > 2'000'000);
        QVERIFY(ended.schedule.back().end < r->end - 300'000'000);
        wakersAreTold(*r);
        samplesLieInModules(*r);
        bool memory = false;
        for (const Counter& counter : r->counters)
            memory |= counter.name == "memory in use" && !counter.values.empty() && counter.values.back() > 1;
        QVERIFY(memory);
        for (const uint32_t shown : lanesInOrder(*r)) QVERIFY(r->lanes[shown].name != "system");
        QVERIFY(r->context.count("system"));
        const QRegularExpression uuid("^[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$");
        QVERIFY(uuid.match(QString::fromStdString(r->context.at("recording id"))).hasMatch());
    }

    void callStacksAreWholeByCopiesAndToldWhereThreadsBlock() {
        const std::string file = path("stacks.fugato");
        fug_options options{};
        options.os = FUG_OS_SWITCHES | FUG_OS_SAMPLES | FUG_OS_BLOCKING | FUG_OS_STACK_COPIES;
        options.sample_us = 500;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        fug_name_thread("busy", "", FUG_LANE_THREAD);
        int pipe[2];
        QCOMPARE(::pipe(pipe), 0);
        {
            FUG_MARK("Sort");
            sortFor(400);
        }
        std::thread writer([&] {
            for (int i = 0; i < 4; ++i) {
                std::this_thread::sleep_for(std::chrono::milliseconds(20));
                if (write(pipe[1], "x", 1) != 1) break;
            }
        });
        {
            FUG_MARK("Read");
            QCOMPARE(readFour(pipe[0]), 4);
        }
        writer.join();
        fug_stop();
        ::close(pipe[0]);
        ::close(pipe[1]);
        const auto r = opened(file);
        QVERIFY(r);
        for (const char* part : {"os switches", "os samples", "os blocking"}) {
            QVERIFY(r->context.count(part));
            if (QString::fromStdString(r->context.at(part)).startsWith("not recorded"))
                QSKIP(r->context.at(part).c_str());
        }
        const Lane& lane = r->lanes.at(laneNamed(*r, "busy"));
        const auto isCalledFrom = [&](const StackSample& stack, uint64_t begin) {
            constexpr uint64_t kAtMost = 4096;  // so long are these functions at most
            for (uint32_t i = 1; i < stack.count; ++i)
                if (r->stackAddresses[stack.first + i] - begin < kAtMost) return true;
            return false;
        };
        // The C library has no frame pointers, and calls back.
        size_t comparing = 0, calledFrom = 0;
        for (const StackSample& sample : r->samples) {
            if (sample.thread != lane.osId || !sample.count) continue;
            const uint64_t in = r->stackAddresses[sample.first] - reinterpret_cast<uint64_t>(&compareNumbers);
            if (in >= 64) continue;
            ++comparing;
            calledFrom += isCalledFrom(sample, reinterpret_cast<uint64_t>(&sortFor));
        }
        QVERIFY2(comparing > 10 && calledFrom * 10 > comparing * 9,
                 qPrintable(QString("%1 of %2").arg(calledFrom).arg(comparing)));
        // Each time it was blocked while reading, it says so.
        size_t blocked = 0, toldThere = 0;
        for (const ScheduleSpan& span : lane.schedule) {
            const MarkerRef in = r->innermostBefore(laneNamed(*r, "busy"), span.begin + 1);
            if (span.state != ThreadState::Blocked || !in.valid() || r->nameOf(r->pathOf(in)) != "Read") continue;
            ++blocked;
            for (const StackSample& stop : r->stops)
                toldThere += stop.time == span.begin && stop.thread == lane.osId &&
                             isCalledFrom(stop, reinterpret_cast<uint64_t>(&readFour));
        }
        QVERIFY2(blocked >= 3 && toldThere + 1 >= blocked, qPrintable(QString("%1 of %2").arg(toldThere).arg(blocked)));
    }
};

QTEST_GUILESS_MAIN(OsActivityTest)
#include "os_activity_test.moc"
