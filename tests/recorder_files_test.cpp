// SPDX-License-Identifier: GPL-3.0-or-later
//
// Into which files is recorded, which are refused, and what is told where one cannot be written any more.
#include <sys/mman.h>
#include <sys/mount.h>
#include <unistd.h>

#include <QDir>
#include <QTemporaryDir>
#include <QtTest>
#include <csignal>
#include <fugato/fugato.hpp>

#include "core/model/open_recording.h"
#include "format/opening.h"
#include "testing/children.h"
#include "testing/files.h"
#include "testing/left_buffers.h"
#include "testing/opened.h"
#include "testing/patience.h"
#include "testing/recording_children.h"

using namespace fugato;

class RecorderFilesTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    std::string path(const char* name) const { return folder_.filePath(name).toStdString(); }

private slots:
    void cleanup() { fug_stop(); }

    void aPlaceThatCannotBeWrittenIsToldAndTheProgramGoesOn() {
        QCOMPARE(fug_start("/nowhere/at/all.fugato", nullptr), ENOENT);
        QVERIFY(QString(fug_status()).contains("/nowhere/at/all.fugato"));
        QCOMPARE(fug_recording(), 0);
        { FUG_MARK("Unrecorded"); }
        for (const char* device : {"/dev/full", "/dev/null", "/dev/tty"}) {
            QCOMPARE(fug_start(device, nullptr), ENOTSUP);
            QVERIFY2(QString(fug_status()).contains("no ordinary file"), fug_status());
        }
        QCOMPARE(fug_start(folder_.path().toUtf8(), nullptr), EISDIR);
    }

    void afterAFailureRecordingGoesOnInMemoryWhereWanted() {
        fug_options options{};
        options.on_failure = FUG_GO_ON_IN_MEMORY;
        QCOMPARE(fug_start("/nowhere/at/all.fugato", &options), 0);
        QVERIFY(QString(fug_status()).contains("/nowhere/at/all.fugato"));
        { FUG_MARK("Kept in memory"); }
        const std::string file = path("saved.fugato");
        QCOMPARE(fug_save(file.c_str()), 0);
        { FUG_MARK("Later"); }
        fug_stop();
        const auto early = opened(file);
        QCOMPARE(early->markerCount(), size_t{1});
        QCOMPARE(fug_save(file.c_str()), 0);
        const auto r = opened(file);
        QCOMPARE(r->markerCount(), size_t{2});
        QVERIFY(!r->damage.any());
        QVERIFY(r->context.at("recording stopped").find("cannot create /nowhere") != std::string::npos);
        QCOMPARE(fug_start(path("fresh.fugato").c_str(), nullptr), 0);
        QCOMPARE(fug_save(file.c_str()), ENODATA);
    }

    void aRecordingInMemoryGoesOnInAFile() {
        fug_options options{};
        options.on_failure = FUG_GO_ON_IN_MEMORY;
        QCOMPARE(fug_start("", &options), 0);
        QCOMPARE(fug_status(), "");
        QCOMPARE(fug_path(), "");
        for (int i = 0; i < 1000; ++i) mark();
        QCOMPARE(fug_write_to("/nowhere/at/all.fugato"), ENOENT);
        const std::string file = path("late.fugato");
        QCOMPARE(fug_write_to(file.c_str()), 0);
        QCOMPARE(std::string(fug_path()), file);
        QCOMPARE(fug_write_to(path("again.fugato").c_str()), ENODATA);  // it is in a file already
        for (int i = 0; i < 1000; ++i) mark();
        { FUG_MARK("Only later"); }
        fug_stop();
        const auto r = opened(file);
        QVERIFY(r && !r->damage.any() && !r->repairs.any());
        QCOMPARE(r->markerCount(), size_t{2001});
        QVERIFY(r->context.find("recording stopped") == r->context.end());
        // One that never came to a file is gone with its program, and leaves nothing behind.
        const pid_t gone = fork();
        if (gone == 0) {
            fug_start("", &options);
            for (int i = 0; i < 1000; ++i) mark();
            kill(getpid(), SIGKILL);
        }
        QCOMPARE(waitpid(gone, nullptr, 0), gone);
        makeLeftRecordingsWhole();
        QVERIFY(buffersOf(gone).empty());
        // A kill loses nothing of either part.
        const std::string killed = path("killed.fugato");
        const pid_t child = fork();
        if (child == 0) {
            fug_start("", &options);
            for (int i = 0; i < 1000; ++i) mark();
            fug_write_to(killed.c_str());
            for (int i = 0; i < 500; ++i) mark();
            kill(getpid(), SIGKILL);
        }
        QCOMPARE(waitpid(child, nullptr, 0), child);
        const auto whole = opened(killed);
        QVERIFY(whole);
        QCOMPARE(whole->markerCount(), size_t{1500});
    }

    void aRemovedFileIsNoticedAndTold() {
        const std::string file = path("removed.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        { FUG_MARK("Before"); }
        QVERIFY(QFile::remove(QString::fromStdString(file)));
        EVENTUALLY(!fug_recording());
        QVERIFY(QString(fug_status()).contains("the file was removed"));
        { FUG_MARK("After"); }
        fug_stop();
    }

    void aDiskThatFillsUpKeepsARecordingThatSaysWhy() {
        const std::string folder = path("small"), file = folder + "/full.fugato";
        QVERIFY(QDir().mkpath(QString::fromStdString(folder)));
        if (mount("tmpfs", folder.c_str(), "tmpfs", 0, "size=2m") != 0) QSKIP("needs the right to mount");
        fug_options options{};
        options.buffer_events = 1 << 20;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        uint64_t told = 0;
        for (int i = 0; i < 20'000'000 && fug_recording(); ++i) {
            FUG_MARK("Filling");
            ++told;
        }
        QVERIFY(!fug_recording());
        QVERIFY2(QString(fug_status()).contains("No space"), fug_status());
        fug_stop();
        const auto r = opened(file);
        umount(folder.c_str());
        QVERIFY(r);
        QVERIFY(!r->damage.any());  // closed properly, with its index
        QVERIFY(r->markerCount() > 10'000);
        QVERIFY(r->context.at("recording stopped").find("No space") != std::string::npos);
        QCOMPARE(r->notes().front(), "Recording stopped: " + r->context.at("recording stopped") + ".");
    }

    void aFileWithoutANameIsRecordedInto() {
        const int fd = ::memfd_create("a recording", MFD_CLOEXEC);
        QVERIFY(fd >= 0);
        fug_options options{};
        options.descriptor = fd;
        QCOMPARE(fug_start("/nowhere/is/looked/at.fugato", &options), 0);
        QCOMPARE(fug_path(), "");
        for (int i = 0; i < 1000; ++i) mark();
        usleep(300'000);  // long enough for a look whether the file is still there
        fug_stop();
        QCOMPARE(fug_status(), "");
        std::string bytes(static_cast<size_t>(::lseek(fd, 0, SEEK_END)), '\0');
        QCOMPARE(::pread(fd, bytes.data(), bytes.size(), 0), ssize_t(bytes.size()));
        MemorySource source(bytes);
        const auto opened = openRecording(source, "memory");
        QVERIFY(opened.ok());
        QCOMPARE((*opened)->markerCount(), size_t{1000});
        QVERIFY((*opened)->damage.notes.empty());
        ::close(fd);
        // What is no file to record into.
        int ends[2];
        QCOMPARE(::pipe(ends), 0);
        options.descriptor = ends[1];
        QCOMPARE(fug_start(nullptr, &options), ENOTSUP);
        ::close(ends[0]);
        ::close(ends[1]);
        QCOMPARE(fug_start(nullptr, &options), EBADF);
        QVERIFY(QString(fug_status()).contains("not open"));
    }

    void theSecondProgramOnAPathIsRefused() {
        const std::string file = path("one-path.fugato");
        Shared told;
        const pid_t first = startRecording(file, told);
        for (const fug_existing existing : {FUG_KEEP_EXISTING, FUG_REPLACE_EXISTING, FUG_REFUSE_EXISTING}) {
            fug_options options{};
            options.existing = existing;
            QCOMPARE(fug_start(file.c_str(), &options), EBUSY);
            QVERIFY2(QString(fug_status()).contains("another program is recording to it"), fug_status());
            QCOMPARE(QString(fug_path()), QString());
        }
        kill(first, SIGKILL);
        endOf(first);
        makeRecordingWhole(file);
        QVERIFY(isCount(markersIn(file), told[0]));
    }

    void aRecordingThatIsThereIsKeptUnlessAskedOtherwise() {
        const std::string file = path("there.fugato");
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        mark(5);
        fug_stop();
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        QCOMPARE(std::string(fug_path()), path("there-2.fugato"));
        mark(6);
        fug_stop();
        QCOMPARE(markersIn(file), uint64_t{5});
        QCOMPARE(markersIn(path("there-2.fugato")), uint64_t{6});
        fug_options options{};
        options.existing = FUG_REFUSE_EXISTING;
        QCOMPARE(fug_start(file.c_str(), &options), EEXIST);
        QVERIFY2(QString(fug_status()).contains("there is a file already"), fug_status());
        options.existing = FUG_REPLACE_EXISTING;
        QCOMPARE(fug_start(file.c_str(), &options), 0);
        mark(7);
        fug_stop();
        QCOMPARE(markersIn(file), uint64_t{7});
        putBytes(file, "a letter");
        QCOMPARE(fug_start(file.c_str(), &options), EEXIST);
        QCOMPARE(bytesOf(file), QByteArray("a letter"));
        putBytes(file, "");  // an empty file is none
        QCOMPARE(fug_start(file.c_str(), nullptr), 0);
        QCOMPARE(std::string(fug_path()), file);
    }

    void patternsInThePathAreFilledIn() {
        const std::string pattern = path("run-%p-%n%%.fugato");
        for (int number = 1; number <= 3; ++number) {
            QCOMPARE(fug_start(pattern.c_str(), nullptr), 0);
            fug_stop();
            QCOMPARE(QString(fug_path()), folder_.filePath(QString("run-%1-%2%.fugato").arg(getpid()).arg(number)));
        }
        QCOMPARE(fug_start(path("at-%t.fugato").c_str(), nullptr), 0);
        static const QRegularExpression time("/at-\\d{8}-\\d{6}\\.fugato$");
        QVERIFY2(QString(fug_path()).contains(time), fug_path());
    }
};

QTEST_GUILESS_MAIN(RecorderFilesTest)
#include "recorder_files_test.moc"
