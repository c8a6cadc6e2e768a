// SPDX-License-Identifier: GPL-3.0-or-later
//
// Starting programs: what can be told before, names of recordings, amounts; without a recording.
#include <signal.h>
#include <sys/stat.h>

#include <QDir>
#include <QFile>
#include <QTemporaryDir>
#include <QtTest>

#include "session/launch.h"
#include "session/recordings_folder.h"

using namespace fugato;

class SessionTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    QString file(const char* name) const { return folder_.filePath(name); }

private slots:
    void recordingsHaveNamesOfTheirOwn() {
        QVERIFY(QDir().mkpath(file("here")));
        const std::string folder = file("here").toStdString();
        const std::string first = newRecordingPath(folder, "a game/with: odd name");
        QVERIFY2(QRegularExpression("/a_game_with__odd_name-\\d{8}-\\d{6}\\.fugato$")
                     .match(QString::fromStdString(first))
                     .hasMatch(),
                 first.c_str());
        QFile made(QString::fromStdString(first));
        QVERIFY(made.open(QIODevice::WriteOnly));
        QVERIFY(newRecordingPath(folder, "a game/with: odd name") != first);
        QCOMPARE(amountIn("300f")->frames, std::optional<uint64_t>(300));
        QCOMPARE(amountIn("2.5s")->seconds, std::optional<double>(2.5));
        QCOMPARE(amountIn("7")->seconds, std::optional<double>(7));
        for (const char* wrong : {"", "f", "s", "-1", "1.5f", "nan", "5m"}) QVERIFY2(!amountIn(wrong), wrong);
    }

    void programsAreFoundAsAShellDoes() {
        const auto shell = lookAtProgram("sh");
        QVERIFY(shell && shell->path.front() == '/' && shell->how == ProgramFile::How::Preloaded);
        const auto own = lookAtProgram(SKERRY_PROGRAM);
        QVERIFY(own && own->how == ProgramFile::How::Itself);
        QFile script(file("start"));
        QVERIFY(script.open(QIODevice::WriteOnly));
        script.write("#!/usr/bin/env sh\n");
        script.close();
        ::chmod(file("start").toUtf8().constData(), 0755);
        const auto run = lookAtProgram("./start", folder_.path().toStdString());
        QVERIFY2(run, run ? "" : run.failure().sentence.c_str());
        QCOMPARE(QString::fromStdString(run->script), file("start"));
        QCOMPARE(run->path, shell->path);
        QVERIFY(!lookAtProgram(""));
        QVERIFY(!lookAtProgram("no such program"));
        // What runs itself ends somewhere.
        QFile circle(file("circle"));
        QVERIFY(circle.open(QIODevice::WriteOnly));
        circle.write("#!" + file("circle").toUtf8() + "\n");
        circle.close();
        ::chmod(file("circle").toUtf8().constData(), 0755);
        QVERIFY(!lookAtProgram(file("circle").toStdString()));
    }

    void aProgramRunsInItsFolderWithItsEnvironment() {
        Launch launch;
        launch.program = "sh";
        launch.arguments = {
            "-c", "pwd > where; echo $BOAT:$FUGATO_COLLECT:$FUGATO_LEAVE_OUT:$FUGATO_RECORD_FOR >> where; exit 3"};
        launch.folder = folder_.path().toStdString();
        launch.environment = {{"BOAT", "Plover"}, {"LD_PRELOAD", ""}};
        launch.recording = file("run.fugato").toStdString();
        launch.collect = "load";
        launch.leaveOut = *amountIn("3f");
        launch.length = *amountIn("1.5s");
        auto program = LaunchedProgram::start(launch);
        if (!program) QSKIP(program.failure().sentence.c_str());  // built without the library (under sanitizers)
        QVERIFY(program->howItEnded().empty());
        QVERIFY(program->waitFor(30'000));
        QCOMPARE(program->howItEnded(), std::string("ended with exit code 3"));
        QFile where(file("where"));
        QVERIFY(where.open(QIODevice::ReadOnly));
        QCOMPARE(where.readAll(), QDir(folder_.path()).canonicalPath().toUtf8() + "\nPlover:load:3f:1.500s\n");
        launch.arguments = {"-c", "exec sleep 100"};
        auto slow = LaunchedProgram::start(launch);
        QVERIFY(slow && !slow->waitFor(10));
        slow->signal(SIGTERM);
        QVERIFY(slow->waitFor(30'000));
        QVERIFY(slow->howItEnded().find("signal 15") != std::string::npos);
        launch.folder = file("none").toStdString();
        QVERIFY(!LaunchedProgram::start(launch));
    }
};

QTEST_GUILESS_MAIN(SessionTest)
#include "session_test.moc"
