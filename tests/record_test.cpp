// SPDX-License-Identifier: GPL-3.0-or-later
//
// Real programs started by `fugato-cli record`: one that knows nothing of the recorder, one that carries it, and all
// that can go wrong with them.
#include <elf.h>
#include <signal.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <QDir>
#include <QFile>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>
#include <QtTest>
#include <nlohmann/json.hpp>

#include "core/model/open_recording.h"
#include "testing/patience.h"

using namespace fugato;
using nlohmann::json;

class RecordTest : public QObject {
    Q_OBJECT

    struct Ran {
        int code = -1;
        QString out, err;
        QString all() const { return QString("exit code %1\n%2\n%3").arg(code).arg(out, err); }
    };
    std::unique_ptr<QTemporaryDir> folder_;
    QProcess display_;

    QProcessEnvironment environment() const {
        QProcessEnvironment all = QProcessEnvironment::systemEnvironment();
        all.insert("XDG_DATA_HOME", folder_->filePath("data"));
        all.insert("SDL_VIDEODRIVER", "dummy");
        all.remove("DISPLAY");
        return all;
    }
    Ran run(const QStringList& words, const QProcessEnvironment& environment) const {
        QProcess cli;
        cli.setProcessEnvironment(environment);
        cli.start(FUGATO_CLI_PROGRAM, QStringList{"record"} + words);
        Ran ran;
        if (!cli.waitForFinished(kPatience)) return ran;
        ran.code = cli.exitCode();
        ran.out = cli.readAllStandardOutput();
        ran.err = cli.readAllStandardError();
        return ran;
    }
    Ran run(const QStringList& words) const { return run(words, environment()); }
    QString file(const char* name) const { return folder_->filePath(name); }
    QStringList recordings() const {
        QDir data(folder_->filePath("data/fugato/recordings"));
        QStringList out;
        for (const QString& name : data.entryList({"*.fugato"}, QDir::Files, QDir::Name)) out << data.filePath(name);
        return out;
    }
    static std::shared_ptr<const Recording> opened(const QString& path) {
        auto recording = openRecording(path.toStdString());
        return recording ? *recording : nullptr;
    }
    static QStringList lanesOf(const Recording& r) {
        QStringList names;
        for (const Lane& lane : r.lanes)
            if (lane.kind == LaneKind::Thread) names << QString::fromStdString(lane.name);
        return names;
    }
    static const Lane* laneOf(const Recording& r, const char* name) {
        for (const Lane& lane : r.lanes)
            if (lane.name == name) return &lane;
        return nullptr;
    }
    /// How many markers of a lane have that name, or one that begins so.
    static size_t timesOf(const Recording& r, const Lane& lane, const std::string& name) {
        size_t times = 0;
        for (const MarkerRow& row : lane.rows)
            for (uint32_t i = 0; i < row.size(); ++i) times += r.nameOf(row.path(i)).compare(0, name.size(), name) == 0;
        return times;
    }
    QProcessEnvironment screen() const {
        QProcessEnvironment all = environment();
        all.insert("DISPLAY", ":93");
        all.insert("SDL_VIDEODRIVER", "x11");
        return all;
    }
    QString write(const char* name, const QByteArray& bytes, mode_t mode) const {
        QFile out(file(name));
        if (out.open(QIODevice::WriteOnly)) out.write(bytes);
        out.close();
        ::chmod(file(name).toUtf8().constData(), mode);
        return file(name);
    }
    /// A screen without a display of its own; false where none can be had.
    bool haveScreen() {
        if (display_.state() == QProcess::Running) return true;
        display_.start("Xvfb", {":93", "-screen", "0", "640x480x24", "-nolisten", "tcp"});
        if (!display_.waitForStarted()) return false;
        return QTest::qWaitFor([] { return QFile::exists("/tmp/.X11-unix/X93"); }, kPatience);
    }

private slots:
    void init() { folder_ = std::make_unique<QTemporaryDir>(); }
    void cleanupTestCase() {
        display_.terminate();
        display_.waitForFinished(kPatience);
    }

    // ---- unmodified programs --------------------------------------------------------------------------

    void anUnmodifiedProgramIsRecordedWithWhatHeldItUp() {
        const Ran ran =
            run({"--json", "--to", file("run.fugato"), "--", PICTURES_PROGRAM, "renderer", "121", file("written")});
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        const auto r = opened(file("run.fugato"));
        QVERIFY(r && !r->damage.notes.size());
        QCOMPARE(r->series.size(), size_t{1});
        QCOMPARE(r->series[0].name, std::string("frames"));
        QCOMPARE(r->series[0].frames.size(), size_t{120});  // each from one picture to the next
        QVERIFY2(lanesOf(*r).contains("main") && lanesOf(*r).contains("helper"), qPrintable(lanesOf(*r).join(", ")));
        QCOMPARE(r->context.at("program"), std::string("pictures"));
        // In six frames main waited for the lock; who ended that is told.
        size_t waits = 0, paced = 0, written = 0;
        const Lane& main = *laneOf(*r, "main");
        for (const Wait& wait : main.waits) {
            waits += wait.kind == WaitKind::Lock && wait.end - wait.begin > 20'000'000;
            paced += wait.kind == WaitKind::Pacing;
            written += wait.kind == WaitKind::File;
            if (wait.kind != WaitKind::Lock) continue;
            QVERIFY(wait.link);
            const auto from = r->linkSource(wait.link);
            QVERIFY(from && r->lanes[from->lane].name == "helper");
        }
        QCOMPARE(waits, size_t{6});
        QVERIFY(paced >= 121);
        QVERIFY(written >= 1);  // at least the sync took long; how long depends on the disk
        // And the explanation names the helper's sleep.
        const json told = json::parse(ran.out.mid(ran.out.indexOf('[')).toStdString());
        QCOMPARE(told.size(), size_t{1});
        QStringList causes;
        for (const json& cause : told[0]["causes"])
            causes << QString::fromStdString(cause["path"].dump() + cause["lane"].dump());
        QVERIFY2(causes.join(" ").contains("Sleep") && causes.join(" ").contains("helper"),
                 qPrintable(causes.join("\n")));
    }

    void memoryIsChargedToMarkersWhereItIsWished() {
        const Ran ran = run({"--collect", "memory", "--to", file("run.fugato"), "--", PICTURES_PROGRAM, "renderer",
                             "60", file("written")});
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        const auto r = opened(file("run.fugato"));
        QVERIFY(r && !r->damage.any() && r->repairs.lostEvents == 0);
        size_t written = 0, left = 0;  // what the program wrote to the disk, in its 25th and 50th frame
        for (const Allocation& one : r->allocations) {
            written += one.bytes == 4 << 20;
            left += one.bytes == 4 << 20 && !one.isReleased();
        }
        QCOMPARE(written, size_t{2});
        QCOMPARE(left, size_t{0});
        QVERIFY(r->allocations.size() > 100);
        // Nothing of it otherwise.
        const Ran plain = run({"--to", file("plain.fugato"), "--", PICTURES_PROGRAM, "renderer", "60"});
        QVERIFY(plain.code == 0 && opened(file("plain.fugato"))->allocations.empty());
    }

    void whatIsLeftOutAndHowMuchIsCountedInFrames() {
        const Ran ran = run({"--leave-out", "30f", "--for", "40f", "--to", file("run.fugato"), "--", PICTURES_PROGRAM,
                             "renderer", "120"});
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        const auto r = opened(file("run.fugato"));
        QVERIFY(r);
        QCOMPARE(r->series[0].frames.size(), size_t{40});
        QVERIFY(r->context.find("ended") == r->context.end());  // it was closed, not made whole
        // The same for a program that carries the recorder.
        const Ran own = run({"--leave-out", "30f", "--for", "40f", "--to", file("own.fugato"), "--", SKERRY_PROGRAM,
                             "--seconds", "2", "--out", file("ignored.fugato")});
        QVERIFY2(own.code == 0, qPrintable(own.all()));
        const auto s = opened(file("own.fugato"));
        QVERIFY(s);
        QCOMPARE(s->series[0].frames.size(), size_t{40});
        QVERIFY(!QFile::exists(file("ignored.fugato")));
        QCOMPARE(s->context.at("program"), std::string("skerry-regatta"));
    }

    void secondsAreCountedAndTheProgramIsEndedWhereAsked() {
        QElapsedTimer clock;
        clock.start();
        const Ran ran =
            run({"--for", "1s", "--end", "--to", file("run.fugato"), "--", PICTURES_PROGRAM, "renderer", "1000000"});
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        const auto r = opened(file("run.fugato"));
        QVERIFY(r && r->end - r->begin >= 900'000'000);
        QVERIFY(!r->series[0].frames.empty());
    }

    void onlyTheProcessThatShowsPicturesIsRecorded() {
        const auto one = [&](const QStringList& words) {
            QDir(folder_->filePath("data")).removeRecursively();
            const Ran ran = run(QStringList{"--"} + words);
            QVERIFY2(ran.code == 0, qPrintable(ran.all()));
            QCOMPARE(recordings().size(), 1);
            const auto r = opened(recordings()[0]);
            QVERIFY(r);
            QCOMPARE(r->series[0].frames.size(), size_t{29});
        };
        one({"sh", "-c", QString("ls / > /dev/null; %1 renderer 30; true").arg(PICTURES_PROGRAM)});
        one({PICTURES_PROGRAM, "renderer", "30", "", "exec"});
        one({PICTURES_PROGRAM, "renderer", "30", "", "child"});
        one({write("start", QByteArray("#!/bin/sh\nexec ") + PICTURES_PROGRAM + " renderer 30\n", 0755)});
    }

    void functionsAreFoundByNameAsWithoutIt() {
        const Ran ran = run({"--to", file("run.fugato"), "--", PICTURES_PROGRAM, "renderer", "10"});
        QVERIFY2(ran.code == 0 && ran.out.startsWith("the next one is the second\n"), qPrintable(ran.all()));
    }

    void aThousandChildrenLeaveOneRecording() {
        const Ran ran = run({"--", "sh", "-c",
                             QString("i=0; while [ $i -lt 1000 ]; do (true) & i=$((i+1)); done; wait; %1 "
                                     "renderer 10")
                                 .arg(PICTURES_PROGRAM)});
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        QCOMPARE(recordings().size(), 1);
    }

    void aCrashLosesNothing() {
        const Ran ran = run({"--to", file("run.fugato"), "--", PICTURES_PROGRAM, "renderer", "60", "", "crash"});
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        QVERIFY2(ran.err.contains("was ended by signal 6"), qPrintable(ran.err));
        const auto r = opened(file("run.fugato"));
        QVERIFY(r && !r->growing);
        QVERIFY2(r->series[0].frames.size() >= 29 && r->series[0].frames.size() <= 31,
                 qPrintable(QString::number(r->series[0].frames.size())));
    }

    void aDiskThatFillsUpIsToldAndTheProgramGoesOn() {
        const QByteArray small = file("small").toUtf8();
        QVERIFY(QDir().mkpath(small));
        if (mount("tmpfs", small.constData(), "tmpfs", 0, "size=1m") != 0) QSKIP("needs the right to mount");
        const Ran ran = run({"--to", small + "/run.fugato", "--", SKERRY_PROGRAM, "--virtual", "--seconds", "120",
                             "--out", file("ignored.fugato")});
        const auto r = opened(small + "/run.fugato");
        umount(small.constData());
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        QVERIFY2(ran.err.contains(QRegularExpression("note: Recording stopped: .* No space left on device\\.")),
                 qPrintable(ran.err));
        QVERIFY(r && !r->damage.any() && !r->series[0].frames.empty());
    }

    void interruptingEndsBothCleanly() {
        QProcess cli;
        cli.setProcessEnvironment(environment());
        cli.start(FUGATO_CLI_PROGRAM,
                  {"record", "--to", file("run.fugato"), "--", PICTURES_PROGRAM, "renderer", "1000000"});
        QVERIFY(QTest::qWaitFor([&] { return QFileInfo(file("run.fugato")).size() > 20'000; }, kPatience));
        ::kill(static_cast<pid_t>(cli.processId()), SIGINT);
        QVERIFY(cli.waitForFinished(kPatience));
        QCOMPARE(cli.exitCode(), 0);
        QVERIFY2(cli.readAllStandardOutput().contains("run.fugato: "), "it tells what was recorded");
        QVERIFY(opened(file("run.fugato")));
    }

    void openGlAndVulkanAreSeenUnderARealScreen() {
        if (!haveScreen()) QSKIP("Xvfb is not installed.");
        const Ran gl = run({"--to", file("gl.fugato"), "--", PICTURES_PROGRAM, "gl", "40"}, screen());
        QVERIFY2(gl.code == 0, qPrintable(gl.all()));
        const auto r = opened(file("gl.fugato"));
        QVERIFY(r);
        QCOMPARE(r->series.size(), size_t{1});  // SDL's call and the one it makes itself are one picture
        QCOMPARE(r->series[0].frames.size(), size_t{39});
        QVERIFY(!laneOf(*r, "GPU"));  // nothing was drawn
        if (QStandardPaths::findExecutable("vkcube").isEmpty()) QSKIP("vkcube is not installed.");
        const Ran vulkan = run({"--to", file("vk.fugato"), "--", "vkcube", "--c", "30"}, screen());
        QVERIFY2(vulkan.code == 0, qPrintable(vulkan.all()));
        const auto v = opened(file("vk.fugato"));
        QVERIFY(v);
        QVERIFY2(v->series[0].frames.size() >= 29, qPrintable(QString::number(v->series[0].frames.size())));
        const Lane* const gpu = laneOf(*v, "GPU graphics");  // its command buffers are submitted again and again
        QVERIFY(gpu && gpu->kind == LaneKind::Queue);
        QVERIFY2(gpu->markerCount() >= 29, qPrintable(QString::number(gpu->markerCount())));
    }

    void whatTheDeviceDidInOpenGlIsNamedByTheProgramsGroups() {
        if (!haveScreen()) QSKIP("Xvfb is not installed.");
        const Ran ran =
            run({"--json", "--to", file("gl.fugato"), "--", PICTURES_PROGRAM, "gl", "100", "", "groups"}, screen());
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        const auto r = opened(file("gl.fugato"));
        const Lane* const gpu = r ? laneOf(*r, "GPU") : nullptr;
        QVERIFY(gpu && gpu->kind == LaneKind::Queue);
        QVERIFY(!r->repairs.endsWithoutBegin && !r->repairs.timesBackwards);
        // Also on the thread that asks for it; the last picture's may not have been told when the program ended.
        for (const char* name : {"Water", "Spray"}) {
            QVERIFY2(timesOf(*r, *gpu, name) >= 99, name);
            QCOMPARE(timesOf(*r, *laneOf(*r, "main"), name), size_t{100});
        }
        QVERIFY(timesOf(*r, *gpu, "Drawing") >= 99);
        // A frame in which there was much of it is late for what the device did. (The software driver draws a picture
        // in one go, so that its groups have no lengths that mean something.)
        QStringList onDevice;
        const json told = json::parse(ran.out.mid(ran.out.indexOf('[')).toStdString());
        for (const json& cause : told[0]["causes"])
            if (cause["lane"] == "GPU") onDevice << QString::fromStdString(cause["path"].dump());
        QVERIFY2(onDevice.join(" ").contains("Drawing"), qPrintable(ran.out));
    }

    void whatTheDeviceDidInVulkanIsNamedByTheProgramsLabels() {
        const Ran ran = run({"--json", "--to", file("vk.fugato"), "--", PICTURES_PROGRAM, "vulkan", "100"});
        if (ran.err.contains("no Vulkan")) QSKIP("Vulkan is not installed.");
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        const auto r = opened(file("vk.fugato"));
        const Lane* const gpu = r ? laneOf(*r, "GPU graphics") : nullptr;
        QVERIFY(gpu && gpu->kind == LaneKind::Queue);
        QVERIFY(!r->repairs.endsWithoutBegin && !r->repairs.timesBackwards);
        for (const char* name : {"Water", "Spray", "Commands"}) QVERIFY2(timesOf(*r, *gpu, name) >= 99, name);
        // On a busy machine other causes may come before it.
        const json causes = json::parse(ran.out.mid(ran.out.indexOf('[')).toStdString())[0]["causes"];
        QVERIFY2(std::any_of(causes.begin(), causes.end(),
                             [](const json& cause) {
                                 return cause["lane"] == "GPU graphics" && cause["path"] == json({"Commands", "Spray"});
                             }),
                 qPrintable(ran.out));
        // Waits for the fence name what they were ended by.
        size_t ended = 0;
        for (const Wait& wait : laneOf(*r, "main")->waits) {
            if (!wait.link) continue;
            const auto from = r->linkSource(wait.link);
            ended += from && &r->lanes[from->lane] == gpu;
        }
        QVERIFY2(ended >= 30, qPrintable(QString::number(ended)));
    }

    // ---- programs that carry the recorder -------------------------------------------------------------

    void aProgramThatCarriesTheRecorderIsRecordedOnce() {
        const Ran ran = run({"--", SKERRY_PROGRAM, "--seconds", "1", "--out", file("ignored.fugato")});
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        QCOMPARE(recordings().size(), 1);
        QVERIFY(!QFile::exists(file("ignored.fugato")));
        const auto r = opened(recordings()[0]);
        QVERIFY(r && r->series.size() >= 2);
        // By its own clock, if it has one.
        const Ran byItsClock = run({"--to", file("virtual.fugato"), "--", SKERRY_PROGRAM, "--virtual", "--seconds", "5",
                                    "--out", file("ignored.fugato")});
        QVERIFY2(byItsClock.code == 0, qPrintable(byItsClock.all()));
        const auto sailed = opened(file("virtual.fugato"));
        QVERIFY(sailed && !sailed->damage.notes.size() && !sailed->repairs.any());
        QVERIFY(sailed->end - sailed->begin > 4'500'000'000 && sailed->end - sailed->begin < 6'000'000'000);
        QCOMPARE(sailed->series[0].frames.size(), size_t{300});
        // Also below an unmodified launcher, with the library in it.
        QDir(folder_->filePath("data")).removeRecursively();
        const Ran below =
            run({"--", "sh", "-c", QString("%1 --seconds 1 --out %2").arg(SKERRY_PROGRAM, file("other.fugato"))});
        QVERIFY2(below.code == 0, qPrintable(below.all()));
        QCOMPARE(recordings().size(), 1);
    }

    // ---- what cannot be -------------------------------------------------------------------------------

    void whatShowsNoPictureIsSaidToBeSo() {
        const Ran ran = run({"--", "ls", "/"});
        QCOMPARE(ran.code, 5);
        QVERIFY2(ran.err.contains("ls showed no picture, so nothing was recorded."), qPrintable(ran.err));
        QVERIFY(recordings().isEmpty());
        const Ran code = run({"--", "sh", "-c", "exit 7"});
        QCOMPARE(code.code, 5);
        QVERIFY2(code.err.contains("sh ended with exit code 7."), qPrintable(code.err));
    }

    void whatCannotBeStartedIsToldInOneSentence_data() {
        QTest::addColumn<QByteArray>("bytes");
        QTest::addColumn<int>("mode");
        QTest::addColumn<QString>("sentence");
        Elf64_Ehdr header{};
        std::memcpy(header.e_ident, ELFMAG, SELFMAG);
        header.e_ident[EI_CLASS] = ELFCLASS32;
        const QByteArray small(reinterpret_cast<const char*>(&header), sizeof header);
        header.e_ident[EI_CLASS] = ELFCLASS64;
        header.e_machine = EM_S390;
        const QByteArray other(reinterpret_cast<const char*>(&header), sizeof header);
        QFile self(PICTURES_PROGRAM), still(STATIC_PROGRAM);
        QVERIFY(self.open(QIODevice::ReadOnly) && still.open(QIODevice::ReadOnly));
        QTest::addRow("missing") << QByteArray() << 0 << "was not found.";
        QTest::addRow("not executable") << QByteArray("#!/bin/sh\n") << 0644
                                        << "may not be run. Make it executable: chmod +x ";
        QTest::addRow("32 bits") << small << 0755 << "is for another processor than Fugato (32 bits).";
        QTest::addRow("another machine") << other << 0755 << "is for another processor than Fugato (another machine).";
        QTest::addRow("no program") << QByteArray("hello") << 0755
                                    << "is neither a program of this system nor a script";
        QTest::addRow("empty") << QByteArray("") << 0755 << "is neither a program of this system nor a script";
        QTest::addRow("no interpreter") << QByteArray("#!/nowhere/run\n") << 0755
                                        << "is a script for /nowhere/run, which is not there.";
        QTest::addRow("other rights") << self.readAll() << 04755 << "runs with the rights of another user";
        QTest::addRow("static") << still.readAll() << 0755
                                << "is linked statically, so that no library can be loaded before it.";
    }
    void whatCannotBeStartedIsToldInOneSentence() {
        QFETCH(QByteArray, bytes);
        QFETCH(int, mode);
        QFETCH(QString, sentence);
        const QString program = mode ? write("program", bytes, static_cast<mode_t>(mode)) : file("program");
        const Ran ran = run({"--", program});
        QCOMPARE(ran.code, 2);
        QVERIFY2(ran.err.contains(sentence), qPrintable(ran.err));
        QCOMPARE(ran.err.count('\n'), 1);
        QVERIFY(recordings().isEmpty());
    }

    void wrongOptionsAreTold() {
        for (const auto& [words, sentence] : QList<std::pair<QStringList, QString>>{
                 {{}, "No program was named."},
                 {{"--for", "ten", "--", "ls"}, "\"ten\" behind --for is neither frames (300f) nor seconds (5s)."},
                 {{"--leave-out", "-3s", "--", "ls"}, "\"-3s\" behind --leave-out is neither"},
                 {{"--env", "A", "--", "ls"}, "\"A\" behind --env is not NAME=VALUE."},
                 {{"--to", "run.txt", "--", "ls"}, "does not end in .fugato."},
                 {{"--to", PICTURES_PROGRAM, "--", "ls"}, "is there already; recordings are never replaced."},
                 {{"--in", "/nowhere", "--", "ls"}, "The folder /nowhere is not there."},
                 {{"--", "/"}, "/ is a folder, not a program."}}) {
            const Ran ran = run(words);
            QVERIFY2(ran.code != 0 && ran.err.contains(sentence), qPrintable(ran.all()));
        }
    }

    void whatCanBeCollectedIsToldBefore() {
        const Ran ran = run({"--check", "--", PICTURES_PROGRAM});
        QVERIFY2(ran.code == 0, qPrintable(ran.all()));
        QVERIFY(ran.out.contains("carries no recorder"));
        for (const char* word : {"switches", "samples", "blocking", "load"}) QVERIFY(ran.out.contains(word));
        QVERIFY(run({"--check", "--", SKERRY_PROGRAM}).out.contains("carries the recorder"));
        QVERIFY(recordings().isEmpty());
    }
};

QTEST_GUILESS_MAIN(RecordTest)
#include "record_test.moc"
