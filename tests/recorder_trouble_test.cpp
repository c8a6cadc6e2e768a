// SPDX-License-Identifier: GPL-3.0-or-later
//
// What stays of a recording where something goes wrong: full buffers, kills, forks, no room.
#include <unistd.h>

#include <QTemporaryDir>
#include <QtTest>
#include <csignal>
#include <fugato/fugato.hpp>
#include <random>
#include <thread>

#include "core/model/open_recording.h"
#include "testing/children.h"
#include "testing/kill_rounds.h"
#include "testing/opened.h"
#include "testing/patience.h"

using namespace fugato;

namespace {

uint64_t givenTime = 0;
uint64_t givenNow() { return givenTime; }

}  // namespace

class RecorderTroubleTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    std::string path(const char* name) const { return folder_.filePath(name).toStdString(); }

private slots:
    void cleanup() { fug_stop(); }

    void aFullBufferLosesWholeMarkersAndCountsThem() {
        const std::string file = path("full.fugato");
        fug_options options{};
        options.buffer_events = 64;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        constexpr uint64_t kPairs = 200'000;  // far quicker than the background thread empties 64 events
        std::thread([] {                      // a new one: a thread keeps the buffer it once has
            for (uint64_t i = 0; i < kPairs; ++i) {
                FUG_MARK("A");
                FUG_MARK("B");
            }
        })
            .join();
        fug_stop();
        const uint64_t lost = fug_lost();
        QVERIFY(lost > 0);
        const auto r = opened(file);
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
        const auto r = opened(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{10'000});
        QCOMPARE(r->points.size(), size_t{10'000});
    }

    void aKilledProgramLosesNothingItHadPublished() {
        NEEDS_THREADS_IN_A_CHILD();
        std::mt19937 random(5);
        const std::string file = path("killed.fugato");
        for (int round = 0; round < 200; ++round) {
            const int number = round % 3 == 0 ? SIGSEGV : round % 3 == 1 ? SIGABRT : SIGKILL;
            const std::string wrong = killWhileRecording(file, unsigned(random() % 30'000), number);
            QVERIFY2(wrong.empty(), wrong.c_str());
        }
        // The file is whole now, and says how it ended.
        const auto r = opened(file);
        QVERIFY(!r->damage.any());
        QVERIFY(r->context.at("ended").find("rescued") != std::string::npos);
    }

    void whatWasRescuedIsToldWhenTheFileIsOpened() {
        NEEDS_THREADS_IN_A_CHILD();
        const std::string file = path("told.fugato");
        const auto work = [&] {
            fug_start(file.c_str(), nullptr);
            { FUG_MARK("Last words"); }
            kill(getpid(), SIGKILL);
        };
        QCOMPARE(ran(work), -SIGKILL);
        QFile bytes(QString::fromStdString(file));
        QVERIFY(bytes.open(QIODevice::ReadOnly));
        const QByteArray before = bytes.readAll();
        const auto read = opened(file);  // reading tells everything and writes nothing
        QCOMPARE(read->markerCount(), size_t{1});
        QVERIFY(QString::fromStdString(read->damage.notes.at(0)).contains("were found in its buffers. They could not"));
        bytes.seek(0);
        QCOMPARE(bytes.readAll(), before);
        QVERIFY(QString::fromStdString(makeRecordingWhole(file)).contains("found in its buffers and saved"));
        QCOMPARE(makeRecordingWhole(file), std::string());  // nothing more to do
        const auto r = opened(file);
        QCOMPARE(r->markerCount(), size_t{1});
        QVERIFY(!r->damage.any());
    }

    void damagedOrForeignBuffersAreNotBelieved() {
        NEEDS_THREADS_IN_A_CHILD();
        const std::string file = path("foreign.fugato");
        std::mt19937 random(9);
        for (int round = 0; round < 12; ++round) {
            const auto work = [&] {
                fug_options options{};
                options.buffer_events = 1024;
                options.memory_bytes = 1 << 20;
                options.existing = FUG_REPLACE_EXISTING;
                const std::string folder = QFileInfo(QString::fromStdString(file)).path().toStdString();
                options.buffer_folder = folder.c_str();
                fug_start(file.c_str(), &options);
                for (int i = 0; i < 100; ++i) {
                    FUG_MARK("Step");
                }
                kill(getpid(), SIGKILL);
            };
            QCOMPARE(ran(work), -SIGKILL);
            const QDir folder(QFileInfo(QString::fromStdString(file)).path());
            const QStringList buffers = folder.entryList({"fugato-*.buffers"});
            QCOMPARE(buffers.size(), 1);
            QFile bytes(folder.filePath(buffers[0]));
            QVERIFY(bytes.open(QIODevice::ReadWrite));
            if (round == 0) {  // of another recording: left alone
                bytes.seek(24);
                bytes.write("another!", 8);
            } else {  // anything at all in the table and the rings
                for (int i = 0; i < 400; ++i) {
                    bytes.seek(4096 + (i % 2 ? qint64(random() % 512) : 524'288 + qint64(random() % 16'384)));
                    bytes.putChar(char(random()));
                }
            }
            bytes.close();
            makeRecordingWhole(file);
            const auto r = opened(file);
            QVERIFY(r);
            QCOMPARE(r->damage.indexMissing, round == 0);
            if (round == 0) QVERIFY(folder.exists(buffers[0]));
            QFile::remove(folder.filePath(buffers[0]));
        }
    }

    void buffersOfTheVersionBeforeAreReadToo() {
        NEEDS_THREADS_IN_A_CHILD();
        const QTemporaryDir own;
        const std::string file = own.filePath("before.fugato").toStdString(), folder = own.path().toStdString();
        const auto work = [&] {
            fug_options options{};
            options.buffer_events = 1024;
            options.buffer_folder = folder.c_str();
            fug_start(file.c_str(), &options);
            { FUG_MARK("Named in the buffer", "rescued"); }
            kill(getpid(), SIGKILL);
        };
        QCOMPARE(ran(work), -SIGKILL);
        // In version 2 the kinds of definitions began at 64, now at 192.
        QFile bytes(own.filePath(QDir(own.path()).entryList({"fugato-*.buffers"}).value(0)));
        QVERIFY(bytes.open(QIODevice::ReadWrite));
        auto* const at = bytes.map(0, bytes.size());
        QVERIFY(at);
        reinterpret_cast<layout::BuffersHeader*>(at)->version = layout::kBuffersVersionBefore;
        int changed = 0;
        for (uint32_t i = 0; i < layout::kBufferEntries; ++i) {
            const auto& entry = reinterpret_cast<layout::BufferEntry*>(at + layout::kBufferTableAt)[i];
            if (!entry.lane) continue;
            auto* const ring = reinterpret_cast<layout::BufferSlot*>(at + entry.offset);
            for (uint64_t slot = 0; slot < entry.head; ++changed) {
                uint64_t& word = ring[slot & entry.mask].word;
                slot += 1 + (word >> 8 & 0xff);
                if ((word & 0xff) >= layout::kSlotDefinition)
                    word -= layout::kSlotDefinition - layout::kSlotDefinitionBefore;
            }
        }
        QVERIFY(changed >= 3);
        bytes.close();
        QVERIFY(!makeRecordingWhole(file).empty());
        const auto r = opened(file);
        QCOMPARE(r->markerCount(), size_t{1});
        QCOMPARE(r->siteOf(r->lanes[0].rows[0].path(0)).name, std::string("Named in the buffer"));
    }

    void aRecordingStillBeingMadeOpensAsFarAsItIs() {
        NEEDS_THREADS_IN_A_CHILD();
        const std::string file = path("growing.fugato");
        const pid_t child = inChild([&] {
            fug_start(file.c_str(), nullptr);
            for (;;) {
                FUG_MARK("On and on");
                usleep(1000);
            }
        });
        const auto sizeNow = [&] { return QFileInfo(QString::fromStdString(file)).size(); };
        EVENTUALLY(sizeNow() > 5000);
        const auto r = opened(file);
        const qint64 size = sizeNow();
        EVENTUALLY(sizeNow() > size);
        kill(child, SIGKILL);
        QCOMPARE(endOf(child), -SIGKILL);
        QVERIFY(r);
        QVERIFY(QString::fromStdString(r->damage.notes.at(0)).contains("still being made"));
        QVERIFY(r->markerCount() > 0);
        QVERIFY(!r->damage.indexMissing);
        const auto after = opened(file);
        QVERIFY(after->markerCount() > r->markerCount());
    }

    void aChildAfterForkDoesNotRecordAndTheParentGoesOn() {
        const std::string file = path("fork.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        { FUG_MARK("Before"); }
        const auto work = [] {
            for (int i = 0; i < 1000; ++i) {
                FUG_MARK("In the child");
            }
            _exit(fug_recording());
        };
        QCOMPARE(ran(work), 0);
        { FUG_MARK("After"); }
        fug_stop();
        const auto r = opened(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{2});
    }

    void aChildAfterForkMayRecordOnItsOwn() {
        NEEDS_THREADS_IN_A_CHILD();
        const std::string file = path("parent.fugato"), childFile = path("child.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        const auto work = [] { FUG_MARK("Shared site"); };
        work();
        const auto child = [&] {
            fug_start(childFile.c_str(), nullptr);
            for (int i = 0; i < 10; ++i) work();
            fug_stop();
        };
        QCOMPARE(ran(child), 0);
        work();
        fug_stop();
        const auto parents = opened(file), childs = opened(childFile);
        QVERIFY(parents && childs);
        QCOMPARE(parents->markerCount(), size_t{2});
        QCOMPARE(childs->markerCount(), size_t{10});
        QCOMPARE(childs->siteOf(childs->lanes[0].rows[0].path(0)).name, std::string("Shared site"));
    }

    void withoutRoomLanesHaveNoBufferAndTheirEventsAreCounted() {
        NEEDS_THREADS_IN_A_CHILD();
        const std::string file = path("bounded.fugato");
        const auto work = [&] {  // the memory is set once in a program's life
            fug_options options{};
            options.memory_bytes = 3 * 1024 * 16;
            options.buffer_events = 1024;
            fug_start(file.c_str(), &options);
            std::vector<std::thread> threads;
            std::atomic<int> ready{0};
            for (int i = 0; i < 6; ++i)
                threads.emplace_back([&] {
                    { FUG_MARK("One"); }
                    ++ready;
                    while (ready < 6) usleep(100);
                });
            for (auto& thread : threads) thread.join();
            fug_stop();
            _exit(fug_lost() == 6 && *fug_status() ? 0 : 1);  // three threads, a begin and its end each
        };
        QCOMPARE(ran(work), 0);
        const auto r = opened(file);
        QVERIFY(r);
        QCOMPARE(r->markerCount(), size_t{3});
        size_t lanesWithLoss = 0;
        for (const Lane& lane : r->lanes) lanesWithLoss += !lane.lost.empty();
        QCOMPARE(lanesWithLoss, size_t{3});
        QCOMPARE(r->repairs.lostEvents, uint64_t{6});
    }
};

QTEST_GUILESS_MAIN(RecorderTroubleTest)
#include "recorder_trouble_test.moc"
