// SPDX-License-Identifier: GPL-3.0-or-later
//
// The recorder in programs that do what programs do: copy files, fork, exec, exit from handlers, run out of room,
// share folders with others. Each case runs in a child, so that what it does to itself ends with it.
#include <fcntl.h>
#include <malloc.h>
#include <sched.h>
#include <sys/mman.h>
#include <sys/mount.h>
#include <sys/resource.h>
#include <sys/signalfd.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <QDir>
#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>
#include <atomic>
#include <clocale>
#include <csignal>
#include <fugato/fugato.hpp>
#include <own_files.hpp>
#include <random>
#include <thread>
#include <unclosed_recording.hpp>

#include "core/explain/walk/measuring.h"
#include "core/explain/words/sentences.h"
#include "core/model/open_recording.h"
#include "format/opening.h"
#include "testing/children.h"
#include "testing/files.h"
#include "testing/left_buffers.h"
#include "testing/patience.h"
#include "testing/recording_children.h"

using namespace fugato;

// Every allocation of this program comes through here, so that a test can tell whether there was one. (A sanitizer has
// an allocator of its own, and addresses without end.)
namespace {
thread_local bool watched = false;
std::atomic<uint64_t> allocationsWatched{0};
}  // namespace
#if defined(ADDRESS_SANITIZER) || defined(THREAD_SANITIZER)
extern "C" const char* __asan_default_options() { return "detect_leaks=0"; }  // children end as they like
#else
extern "C" {
void* __libc_malloc(size_t size);
void* malloc(size_t size) {
    if (watched) ++allocationsWatched;
    return __libc_malloc(size);
}
}
#endif

namespace {

constexpr unsigned kNobody = 65534;

QStringList buffersIn(const QString& folder) {
    return QDir(folder).entryList({"fugato-*"}, QDir::AllEntries | QDir::System);
}

bool inOwnMounts() {
    return unshare(CLONE_NEWNS) == 0 && mount("none", "/", nullptr, MS_REC | MS_PRIVATE, nullptr) == 0;
}

constexpr int kCannotMount = 77;

}  // namespace

class HostileHostTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    std::string path(const char* name) const { return folder_.filePath(name).toStdString(); }
    /// A recording of a program that was killed, its buffers still there. Returns how many markers it had told.
    uint64_t killed(const std::string& file, fug_options options = {}, uint64_t atLeast = 20'000) {
        Shared told;
        const pid_t child = startRecording(file, told, atLeast, options);
        kill(child, SIGKILL);
        endOf(child);
        lastKilled_ = child;
        return told[0];
    }
    pid_t lastKilled_ = 0;

private slots:
    void cleanup() { fug_stop(); }

    /// A file that this process made is recorded into by another one, which is killed.
    void aFileThatWasHandedOverIsRecordedInto() {
        NEEDS_THREADS_IN_A_CHILD();
        const std::string file = path("handed-over.fugato");
        const int fd = ::open(file.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
        QVERIFY(fd >= 0);
        Shared told;
        const pid_t child = inChild([&] {
            fug_options options{};
            options.descriptor = fd;
            if (fug_start(nullptr, &options) != 0) _exit(1);
            ::close(fd);  // the recorder has one of its own
            for (;;) {
                mark();
                ++told[0];
                usleep(20);
            }
        });
        for (int i = 0; i < 20'000 && told[0] < 2000; ++i) usleep(1000);
        const auto source = openFile(file);
        QVERIFY(source && (*source)->beingWritten());
        fug_options again{};
        again.descriptor = fd;
        QCOMPARE(fug_start(nullptr, &again), EBUSY);
        kill(child, SIGKILL);
        endOf(child);
        QVERIFY(!(*source)->beingWritten());  // though it is open here still
        QVERIFY(!makeRecordingWhole(file).empty());
        QVERIFY2(isCount(markersIn(file), told[0]), qPrintable(QString::number(markersIn(file))));
        QCOMPARE(fug_start(nullptr, &again), EEXIST);  // something is in it now
        QVERIFY(QString(fug_status()).contains("not empty"));
        QVERIFY2(isCount(markersIn(file), told[0]), "it was changed");
        ::close(fd);
    }

    void aHostThatClosesItsOwnRecordingStillWritesIt() {
        const std::string file = path("closed-by-host.fugato");
        Shared told;
        const pid_t child = inChild([&] {
            fug_start(file.c_str(), nullptr);
            for (;;) {
                mark();
                ++told[0];
                if (told[0] % 1000 == 0) ::close(::open(file.c_str(), O_RDONLY));  // its process locks would be gone
                usleep(20);
            }
        });
        for (int i = 0; i < 20'000 && told[0] < 2000; ++i) usleep(1000);
        QCOMPARE(buffersOf(child).size(), size_t{1});
        for (int i = 0; i < 20; ++i) {
            QVERIFY((*openFile(file))->beingWritten());
            QCOMPARE(makeRecordingWhole(file), std::string());
            makeLeftRecordingsWhole();
            const auto seen = openRecording(file);
            QVERIFY(seen.ok());
            QVERIFY((*seen)->growing);
        }
        QCOMPARE(buffersOf(child).size(), size_t{1});
        kill(child, SIGKILL);
        endOf(child);
        QVERIFY(!makeRecordingWhole(file).empty());
        const uint64_t markers = markersIn(file);
        QVERIFY2(isCount(markers, told[0]), qPrintable(QString("%1 of %2").arg(markers).arg(told[0])));
    }

    void aCopyOfARunningRecordingTakesNothingFromIt() {
        const std::string file = path("copied.fugato"), copy = path("copy.fugato");
        Shared told;
        const pid_t child = startRecording(file, told, 50'000);
        EVENTUALLY(QFileInfo(QString::fromStdString(file)).size() > 20'000);
        putBytes(copy, bytesOf(file));
        const QByteArray before = bytesOf(copy);
        QCOMPARE(makeRecordingWhole(copy), std::string());
        const auto seen = openRecording(copy);
        QVERIFY(seen.ok());
        QVERIFY(!(*seen)->growing);
        QVERIFY(QString::fromStdString((*seen)->damage.notes.at(0)).contains("copy of a recording that is still"));
        QCOMPARE(bytesOf(copy), before);
        // It has written more by now, and still more, so that its buffers have no longer what it wrote first.
        const auto sizeNow = [&] { return QFileInfo(QString::fromStdString(file)).size(); };
        EVENTUALLY(sizeNow() > before.size());
        EVENTUALLY(sizeNow() > 2 * before.size());
        kill(child, SIGKILL);
        endOf(child);
        // Now the copy may be made whole; the buffers stay for the original. What was written in between is missing.
        QVERIFY(!makeRecordingWhole(copy).empty());
        const auto whole = openRecording(copy);
        QVERIFY(whole.ok());
        QVERIFY((*whole)->repairs.lostEvents > 0);
        QVERIFY((*whole)->markerCount() < told[0]);
        QVERIFY(!makeRecordingWhole(file).empty());
        QVERIFY(isCount(markersIn(file), told[0]));
    }

    void recordingsByTheSameVirtualClockAreNotTakenForEachOther() {
        fug_options options{};
        options.now = [] { return uint64_t{1}; };  // so they all begin alike
        const std::string dead = path("dead.fugato"), live = path("live.fugato");
        Shared told;
        const pid_t child = startRecording(live, told, 20'000, options);
        const uint64_t written = killed(dead, options);
        const auto seen = openRecording(live);
        QVERIFY(seen.ok());
        QVERIFY((*seen)->growing);
        const auto before = openRecording(dead);
        QVERIFY(before.ok());
        QVERIFY2(QString::fromStdString((*before)->damage.notes.at(0)).contains("ended without closing"),
                 (*before)->damage.notes.at(0).c_str());
        QVERIFY(!makeRecordingWhole(dead).empty());
        QVERIFY(isCount(markersIn(dead), written));
        kill(child, SIGKILL);
        endOf(child);
        QVERIFY(!makeRecordingWhole(live).empty());
        QVERIFY(isCount(markersIn(live), told[0]));
    }

    void aChildThatInheritedTheLockDoesNotKeepADeadRecordingAlive() {
        const std::string file = path("inherited.fugato");
        Shared told;
        const pid_t child = inChild([&] {
            fug_start(file.c_str(), nullptr);
            mark(1000);
            const long own = syscall(SYS_fork);  // no handler of fork's runs
            if (own == 0)
                for (;;) pause();
            told[1] = static_cast<uint64_t>(own);
            told[0] = 1;
            for (;;) pause();
        });
        for (int i = 0; i < 20'000 && !told[0]; ++i) usleep(1000);
        const auto grandchild = static_cast<pid_t>(told[1].load());
        kill(child, SIGKILL);
        endOf(child);
        QCOMPARE(markersIn(file), uint64_t{1000});
        kill(grandchild, SIGKILL);
        EVENTUALLY(!(*openFile(file))->beingWritten());
        QVERIFY(!makeRecordingWhole(file).empty());
        QCOMPARE(markersIn(file), uint64_t{1000});
    }

    void makingWholeOnAFullDiskChangesNothing() {
        const std::string folder = path("small"), file = folder + "/full.fugato", filler = folder + "/filler";
        QVERIFY(QDir().mkpath(QString::fromStdString(folder)));
        if (mount("tmpfs", folder.c_str(), "tmpfs", 0, "size=6m") != 0) QSKIP("needs the right to mount");
        const auto unmount = qScopeGuard([&] { umount(folder.c_str()); });
        fug_options options{};
        options.buffer_events = 1 << 20;  // all of it lies in the buffer, more than was claimed of the disk
        options.no_background = 1;
        const uint64_t told = killed(file, options, 300'000);
        QVERIFY(isCount(markersIn(file), told));
        {
            QFile fill(QString::fromStdString(filler));
            QVERIFY(fill.open(QIODevice::WriteOnly | QIODevice::Unbuffered));
            while (fill.write(QByteArray(4096, 'x')) == 4096) {
            }
        }
        const QByteArray before = bytesOf(file);
        for (int i = 0; i < 3; ++i) {
            QCOMPARE(makeRecordingWhole(file), std::string());
            QVERIFY(isCount(markersIn(file), told));
            QCOMPARE(bytesOf(file), before);
        }
        ::unlink(filler.c_str());
        QVERIFY(!makeRecordingWhole(file).empty());
        QVERIFY(isCount(markersIn(file), told));
        QVERIFY(!(*openRecording(file))->damage.any());
    }

    void makingWholeUnderALimitOfFileSizesChangesNothingThatCounts() {
        const std::string file = path("limited.fugato");
        const uint64_t told = killed(file);
        const int end = ran([&] {
            signal(SIGXFSZ, SIG_IGN);
            struct stat status {};
            ::stat(file.c_str(), &status);
            const rlimit most{static_cast<rlim_t>(status.st_size) + 100, RLIM_INFINITY};
            setrlimit(RLIMIT_FSIZE, &most);  // writing fails in the middle, whatever room there is
            _exit(makeWhole(file).outcome == MadeWhole::Outcome::Failed ? 0 : 1);
        });
        QCOMPARE(end, 0);
        QVERIFY(isCount(markersIn(file), told));
        QVERIFY(!makeRecordingWhole(file).empty());
        QVERIFY(isCount(markersIn(file), told));
    }

    void makingWholeThatWasCutAnywhereIsDoneAgain() {
        const std::string file = path("cut.fugato"), kept = path("kept.buffers");
        fug_options options{};
        options.buffer_events = 1 << 16;
        const std::string folder = folder_.path().toStdString();
        options.buffer_folder = folder.c_str();
        const uint64_t told = killed(file, options);
        const QStringList names = buffersIn(folder_.path());
        QCOMPARE(names.size(), 1);
        const std::string buffers = folder + "/" + names[0].toStdString();
        const QByteArray ofBuffers = bytesOf(buffers), unclosed = bytesOf(file);
        const uint64_t expected = markersIn(file);
        QVERIFY(isCount(expected, told));
        QVERIFY(!makeRecordingWhole(file).empty());
        QVERIFY(!QFile::exists(QString::fromStdString(buffers)));
        const QByteArray whole = bytesOf(file);
        std::mt19937 random(3);
        for (int round = 0; round < 40; ++round) {
            const qsizetype cut = round == 0 ? whole.size() - 1
                                             : unclosed.size() + qsizetype(random()) % (whole.size() - unclosed.size());
            // In place, so that the inode stays.
            QFile again(QString::fromStdString(file));
            QVERIFY(again.open(QIODevice::ReadWrite));
            again.write(whole.left(cut));
            again.resize(cut);
            again.close();
            putBytes(buffers, ofBuffers);
            QCOMPARE(markersIn(file), expected);
            QVERIFY(!makeRecordingWhole(file).empty());
            QCOMPARE(markersIn(file), expected);
            QCOMPARE(bytesOf(file), whole);
        }
    }

    void severalReadersAtOnceMakeItWholeOnce() {
        const std::string file = path("several.fugato");
        const uint64_t told = killed(file);
        const uint64_t expected = markersIn(file);
        QVERIFY(isCount(expected, told));
        std::vector<pid_t> readers;
        for (int i = 0; i < 6; ++i)
            readers.push_back(inChild([&] {
                makeRecordingWhole(file);
                _exit(markersIn(file) == expected ? 0 : 1);
            }));
        for (const pid_t reader : readers) QCOMPARE(endOf(reader), 0);
        QCOMPARE(markersIn(file), expected);
        QVERIFY(!(*openRecording(file))->damage.any());
    }

    void whatOthersPutIntoTheFolderOfBuffersHoldsNobodyUp() {
        const std::string folder = path("shared");
        QVERIFY(QDir().mkpath(QString::fromStdString(folder)));
        ::chmod(folder.c_str(), 0777);
        ::chmod(folder_.path().toUtf8(), 0755);
        const auto at = [&](const char* name) { return folder + "/" + name; };
        const std::string victim = path("victim");
        putBytes(victim, "mine");
        QCOMPARE(ran([&] {
                     if (getuid() == 0 && setuid(kNobody) != 0) _exit(1);
                     umask(0);
                     if (mkfifo(at("fugato-1-0.buffers").c_str(), 0666) != 0) _exit(2);
                     if (symlink(victim.c_str(), at("fugato-2-0.buffers").c_str()) != 0) _exit(3);
                     if (symlink("/dev/zero", at("fugato-3-0.buffers").c_str()) != 0) _exit(4);
                     const int fd = ::open(at("fugato-4-0.buffers").c_str(), O_CREAT | O_WRONLY, 0666);
                     if (fd < 0 || ::write(fd, layout::kBuffersMagic, 8) != 8) _exit(5);
                     if (mkdir(at("fugato-5-0.buffers").c_str(), 0777) != 0) _exit(6);
                 }),
                 0);
        const QStringList before = buffersIn(QString::fromStdString(folder));
        QCOMPARE(before.size(), 5);
        fug_options options{};
        options.buffer_folder = folder.c_str();
        const std::string file = path("beside-others.fugato");
        QCOMPARE(
            ran([&] {
                if (fug_start(file.c_str(), &options) != 0) _exit(1);
                mark(10);
                usleep(50'000);  // its look at what is left
                struct stat status {};
                for (const QString& name : buffersIn(QString::fromStdString(folder)))
                    if (!before.contains(name) && (::stat((folder + "/" + name.toStdString()).c_str(), &status) != 0 ||
                                                   (status.st_mode & 0777) != 0600))
                        _exit(2);
                exit(0);
            }),
            0);
        QCOMPARE(markersIn(file), uint64_t{10});
        clearLeftBuffers(folder);
        if (getuid() == 0) QCOMPARE(buffersIn(QString::fromStdString(folder)), before);
        QCOMPARE(bytesOf(victim), QByteArray("mine"));
        // A recording that names them as its own buffers waits for none of them.
        for (const QString& name : before) {
            killed(path("names.fugato"));
            QFile whole(QString::fromStdString(path("names.fugato")));
            QVERIFY(whole.open(QIODevice::ReadWrite));
            std::string record, image;
            layout::appendFact(record, "buffers", folder + "/" + name.toStdString());
            layout::BlockFile block([&](std::string_view part) { return image += part, true; });
            block.writeBlock(layout::BlockType::Definitions, 0, 1, 0, 0, record);
            whole.seek(whole.size() / 8 * 8);
            whole.write(image.data(), qint64(image.size()));
            whole.close();
            QVERIFY(markersIn(path("names.fugato")) > 0);
            makeRecordingWhole(path("names.fugato"));
            ::unlink(path("names.fugato").c_str());
        }
        clearLeftBuffers("/dev/shm");
        if (getuid() == 0) QCOMPARE(buffersIn(QString::fromStdString(folder)), before);
    }

    void signalsMeantForTheHostNeverReachTheRecordersThreads() {
        const std::string file = path("signals.fugato");
        QCOMPARE(ran([&] {
                     sigset_t term;
                     sigemptyset(&term);
                     sigaddset(&term, SIGTERM);
                     fug_start(file.c_str(), nullptr);  // before the host blocks it
                     sigprocmask(SIG_BLOCK, &term, nullptr);
                     const int fd = signalfd(-1, &term, SFD_CLOEXEC);
                     for (int i = 0; i < 50; ++i) {
                         kill(getpid(), SIGTERM);
                         signalfd_siginfo got{};
                         if (::read(fd, &got, sizeof got) != ssize_t{sizeof got}) _exit(1);
                         usleep(1000);
                     }
                     fug_stop();
                 }),
                 0);
        static std::atomic<int> elsewhere{0}, handled{0};
        static pid_t mainThread = 0;
        QCOMPARE(ran([&] {
                     fug_start(path("handlers.fugato").c_str(), nullptr);
                     mainThread = gettid();
                     signal(SIGUSR2, [](int) {
                         ++handled;
                         if (gettid() != mainThread) ++elsewhere;
                     });
                     for (int i = 0; i < 99; ++i) {
                         kill(getpid(), SIGUSR2);
                         usleep(500);
                     }
                     _exit(handled > 0 && elsewhere == 0 ? 0 : 1);
                 }),
                 0);
    }

    void theLimitOfFileSizesCountsAsAFullDisk() {
        const std::string file = path("size-limit.fugato");
        const auto limit = [](rlim_t bytes) {
            const rlimit most{bytes, RLIM_INFINITY};
            setrlimit(RLIMIT_FSIZE, &most);
        };
        QCOMPARE(ran([&] {
                     limit(3 << 20);
                     fug_options options{};
                     if (fug_start(file.c_str(), &options) != 0) _exit(1);
                     for (int i = 0; i < 20'000'000 && fug_recording(); ++i) mark();
                     fug_stop();
                     _exit(QString(fug_status()).contains("limit on the size of files") ? 0 : 2);
                 }),
                 0);
        const auto r = openRecording(file);
        QVERIFY(r.ok());
        QVERIFY(!(*r)->damage.any());
        QVERIFY((*r)->markerCount() > 10'000);
        QVERIFY((*r)->context.at("recording stopped").find("limit on the size") != std::string::npos);
        const std::string none = path("no-room-by-limit.fugato");
        QCOMPARE(ran([&] {
                     limit(100'000);
                     _exit(fug_start(none.c_str(), nullptr) == EFBIG ? 0 : 1);
                 }),
                 0);
        QVERIFY(!QFile::exists(QString::fromStdString(none)));
    }

    void exitFromAHandlerInASetUpCallNeitherHangsNorLosesTheRecording() {
        std::mt19937 random(11);
        for (int round = 0; round < 60; ++round) {
            const std::string file = path("exit.fugato");
            ::unlink(file.c_str());
            const unsigned after = 1 + unsigned(random() % 20'000);
            const int end = ran([&] {
                alarm(0);
                signal(SIGALRM, [](int) { exit(7); });
                const itimerval timer{{0, 0}, {0, suseconds_t(after)}};
                if (fug_start(file.c_str(), nullptr) != 0) {
                    std::fprintf(stderr, "%s\n", fug_status());
                    _exit(1);
                }
                setitimer(ITIMER_REAL, &timer, nullptr);
                fug_options options{};
                options.existing = FUG_REPLACE_EXISTING;
                for (;;) {
                    mark(10);
                    fug_context("key", "value");
                    fug_detail("other", 1);
                    fug_lane_end(fug_lane_make("lane", "role", FUG_LANE_THREAD, 0));
                    (void)fug_status();
                    std::thread([] { mark(); }).join();
                    fug_stop();
                    fug_start(file.c_str(), &options);
                }
            });
            QCOMPARE(end, 7);
            makeRecordingWhole(file);
            const auto r = openRecording(file);
            QVERIFY2(r.ok(), r.ok() ? "" : r.failure().sentence.c_str());
            QCOMPARE((*r)->damage.lostBlocks, uint64_t{0});
            QCOMPARE((*r)->repairs.unknownNames, uint64_t{0});
        }
        clearLeftBuffers("/dev/shm");
    }

    void aSiteFirstUsedInAHandlerTakesNeitherMemoryNorLocks() {
        const std::string file = path("first-use.fugato");
        static constexpr int kSites = 4000;
        static fug_site sites[kSites];
        static std::atomic<int> next{0};
        static std::atomic<bool> sent{false};
        for (fug_site& site : sites) site = FUG_SITE("In a handler", "hostile", "used once");
        const int end = ran([&] {
            fug_options options{};
            options.buffer_events = 1024;  // often full
            fug_start(file.c_str(), &options);
            std::thread other([] {
                for (;;) fug_context("busy", "with the locks");
            });
            other.detach();
            signal(SIGUSR1, [](int) {
                watched = true;
                const int i = next++;
                if (i < kSites) fug_end(fug_begin(&sites[i]));
                watched = false;
            });
            mark();
            std::thread sender([thread = pthread_self()] {
                for (int i = 0; i < kSites; ++i) {
                    pthread_kill(thread, SIGUSR1);
                    usleep(50);
                }
                sent = true;
            });
            while (!sent) {
                mark(20);
                fug_point(FUG_INFO, "a text that takes more than one slot of the buffer");
                ::free(::malloc(100));
            }
            sender.join();
            const bool good = allocationsWatched == 0 && next > 100;
            fug_stop();
            _exit(good ? 0 : 1);
        });
        QCOMPARE(end, 0);
        const auto r = openRecording(file);
        QVERIFY(r.ok());
        QCOMPARE((*r)->repairs.unknownNames, uint64_t{0});
    }

    void withASmallSharedMemoryBuffersLieElsewhere_data() {
        QTest::addColumn<QString>("size");
        QTest::newRow("nothing") << "4k";
        QTest::newRow("the table") << "64k";
        QTest::newRow("one ring") << "1300k";
    }
    void withASmallSharedMemoryBuffersLieElsewhere() {
        QFETCH(QString, size);
        const std::string file = path("small-shm.fugato");
        ::unlink(file.c_str());
        Shared told;
        for (const bool killIt : {false, true}) {
            ::unlink(file.c_str());
            const int end = ran([&] {
                if (!inOwnMounts() ||
                    mount("tmpfs", "/dev/shm", "tmpfs", 0, ("size=" + size.toStdString()).c_str()) != 0)
                    _exit(kCannotMount);
                if (fug_start(file.c_str(), nullptr) != 0) _exit(1);
                std::vector<std::thread> threads;
                std::atomic<int> ready{0};
                for (int t = 0; t < 4; ++t)
                    threads.emplace_back([&] {
                        mark(1000);
                        ++ready;
                        while (ready < 4) usleep(100);
                    });
                for (std::thread& thread : threads) thread.join();
                if (!QString(fug_status()).contains("/dev/shm")) _exit(2);
                if (fug_lost()) _exit(3);
                if (killIt) kill(getpid(), SIGKILL);
                exit(0);
            });
            if (end == kCannotMount) QSKIP("needs the right to mount");
            QCOMPARE(end, killIt ? -SIGKILL : 0);
            makeRecordingWhole(file);
            const auto r = openRecording(file);
            QVERIFY(r.ok());
            if (!killIt || size == "4k") QCOMPARE((*r)->markerCount(), size_t{4000});
            // The reason may not have come into the file before the kill, but where it was known at the start.
            if (!killIt || size == "4k")
                QVERIFY((*r)->context.at("room for buffers").find("/dev/shm") != std::string::npos);
        }
        QCOMPARE(buffersIn(folder_.path()), QStringList());
    }

    void withFewAddressesEverythingIsRecordedAllTheSame() {
        if (kAddressSanitizer || kThreadSanitizer) QSKIP("a sanitizer takes addresses without end");
        const std::string file = path("few-addresses.fugato");
        QCOMPARE(ran([&] {
                     unsigned long long pages = 0;
                     if (std::FILE* statm = std::fopen("/proc/self/statm", "re")) {
                         if (std::fscanf(statm, "%llu", &pages) != 1) _exit(4);
                         std::fclose(statm);
                     }
                     const rlimit most{static_cast<rlim_t>(pages * 4096 + (64u << 20)), RLIM_INFINITY};
                     setrlimit(RLIMIT_AS, &most);
                     fug_options options{};
                     options.buffer_events = 1 << 18;  // all of them fit
                     if (fug_start(file.c_str(), &options) != 0) _exit(1);
                     mark(100'000);
                     fug_stop();
                     _exit(fug_lost() ? 2 : 0);
                 }),
                 0);
        QCOMPARE(markersIn(file), uint64_t{100'000});
    }

    void withLessThanAMegabyteOfRoomNothingIsBegun() {
        const std::string folder = path("tiny"), file = folder + "/none.fugato";
        QVERIFY(QDir().mkpath(QString::fromStdString(folder)));
        if (mount("tmpfs", folder.c_str(), "tmpfs", 0, "size=900k") != 0) QSKIP("needs the right to mount");
        const auto unmount = qScopeGuard([&] { umount(folder.c_str()); });
        QCOMPARE(fug_start(file.c_str(), nullptr), ENOSPC);
        QVERIFY2(QString(fug_status()).contains("No space"), fug_status());
        QVERIFY(!QFile::exists(QString::fromStdString(file)));
    }

    void numbersAreTheSameInEveryLocale() {
        const QString locales = folder_.filePath("locales");
        QVERIFY(QDir().mkpath(locales));
        QCOMPARE(QProcess::execute("localedef", {"-i", "de_DE", "-f", "UTF-8", locales + "/de_DE.UTF-8"}), 0);
        const std::string file = path("locale.fugato");
        QCOMPARE(
            ran([&] {
                setenv("LOCPATH", qPrintable(locales), 1);
                if (!setlocale(LC_ALL, "de_DE.UTF-8") || *localeconv()->decimal_point != ',') _exit(1);
                fug_options options{};
                options.os = FUG_OS_LOAD;
                if (fug_start(file.c_str(), &options) != 0) _exit(2);
                const fug::Series loop("loop");
                loop.begin();
                mark(10);
                loop.end();
                fug_stop();
                // And read, by a program that has set its locale too.
                const auto r = openRecording(file);
                const std::string cost = r ? (*r)->context.at("marker cost ns") : "";
                if (cost.find('.') == std::string::npos || cost.find(',') != std::string::npos) _exit(3);
                if (measuringOf(**r, 0).markerCostNs != std::stod(std::string(cost).replace(cost.find('.'), 1, ",")))
                    _exit(4);
                if (durationText(1'234'567'890) != "1.23 s" || msText(16'666'667, 2) != "16.67") _exit(5);
            }),
            0);
    }

    void pipesAreRefusedAtOnce() {
        const std::string pipe = path("pipe.fugato");
        QCOMPARE(mkfifo(pipe.c_str(), 0600), 0);
        QCOMPARE(fug_start(pipe.c_str(), nullptr), ENOTSUP);
        const auto opened = openRecording(pipe);
        QVERIFY(!opened.ok());
        QVERIFY2(QString::fromStdString(opened.failure().sentence).contains("no ordinary file"),
                 opened.failure().sentence.c_str());
    }

    void nothingOfKilledProgramsStaysBehind() {
        std::vector<pid_t> processes;
        const std::string file = path("again.fugato"), never = path("never-opened.fugato");
        fug_options options{};
        options.existing = FUG_REPLACE_EXISTING;
        for (int i = 0; i < 10; ++i) {
            killed(file, options);
            processes.push_back(lastKilled_);
        }
        const uint64_t told = killed(never);
        processes.push_back(lastKilled_);
        // A program that calls exec leaves its buffers too.
        const pid_t execs = inChild([&] {
            fug_start(path("exec.fugato").c_str(), nullptr);
            mark(100);
            execl("/bin/true", "true", nullptr);
        });
        QCOMPARE(endOf(execs), 0);
        processes.push_back(execs);
        const auto left = [&] {
            return std::count_if(processes.begin(), processes.end(), [](pid_t p) { return !buffersOf(p).empty(); });
        };
        QVERIFY(left() > 0);
        QCOMPARE(ran([&] {  // the next start of any program looks for them
                     fug_start(path("next.fugato").c_str(), nullptr);
                     for (int i = 0; i < 10'000 && left() > 0; ++i) usleep(1000);
                     exit(0);
                 }),
                 0);
        QCOMPARE(left(), 0);
        QVERIFY(isCount(markersIn(never), told));
        QVERIFY(!(*openRecording(never))->damage.any());
        QCOMPARE(markersIn(path("exec.fugato")), uint64_t{100});
    }

    void aLaneWithoutABufferGetsOneWhenThereIsRoom() {
        const std::string file = path("later.fugato");
        QCOMPARE(ran([&] {
                     fug_options options{};
                     options.buffer_events = 1024;
                     options.memory_bytes = 1024 * 16;
                     fug_start(file.c_str(), &options);
                     std::atomic<int> step{0};
                     std::thread first([&] {
                         mark();
                         step = 1;
                         while (step < 2) usleep(100);
                     });
                     std::thread second([&] {
                         while (step < 1) usleep(100);
                         mark(3);  // no room
                         step = 2;
                         first.join();
                         for (uint64_t before = fug_lost() - 1; fug_lost() != before;) {  // until one is recorded
                             before = fug_lost();
                             usleep(1000);
                             mark();
                         }
                         const uint64_t lost = fug_lost();
                         mark(100);
                         step = fug_lost() == lost ? 3 : 4;
                     });
                     second.join();
                     fug_stop();
                     _exit(step == 3 ? 0 : 1);
                 }),
                 0);
        const auto r = openRecording(file);
        QVERIFY(r.ok());
        QVERIFY((*r)->markerCount() >= 102);
        QVERIFY((*r)->repairs.lostEvents >= 6);
    }
};

QTEST_GUILESS_MAIN(HostileHostTest)
#include "hostile_host_test.moc"
