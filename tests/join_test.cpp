// SPDX-License-Identifier: GPL-3.0-or-later
//
// Real programs that run already: listed, joined, left, joined again, killed; and peers that mean no good.
#include <fcntl.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <QDir>
#include <QFile>
#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>
#include <chrono>
#include <thread>

#include "core/model/open_recording.h"
#include "session/joined_program.h"
#include "session/recordings_folder.h"
#include "session/running_programs.h"
#include "testing/children.h"
#include "testing/left_buffers.h"
#include "testing/patience.h"

using namespace fugato;
using control::Message;

class JoinTest : public QObject {
    Q_OBJECT

    std::unique_ptr<QTemporaryDir> folder_;
    std::vector<std::unique_ptr<QProcess>> started_;
    std::vector<pid_t> numbers_;  // of these

    QString file(const char* name) const { return folder_->filePath(name); }
    std::string path(const char* name) const { return file(name).toStdString(); }
    std::string sockets() const { return control::socketFolder(); }

    QProcess& start(const QStringList& arguments, const QString& program = OFFERED_PROGRAM) {
        started_.push_back(std::make_unique<QProcess>());
        QProcess& process = *started_.back();
        process.start(program, arguments);
        numbers_.push_back(static_cast<pid_t>(process.processId()));
        return process;
    }
    /// Started, and its first line has come.
    QProcess& started(const QStringList& arguments) {
        QProcess& process = start(arguments);
        if (!QTest::qWaitFor([&] { return process.canReadLine(); }, kPatience)) qWarning("it does not become ready");
        process.readLine();
        return process;
    }
    static std::vector<RunningProgram> listed() {
        RunningPrograms running;
        const auto programs = running.look();
        return programs ? *programs : std::vector<RunningProgram>();
    }
    /// The one that is listed.
    static RunningProgram only() {
        const auto all = listed();
        return all.size() == 1 ? all[0] : RunningProgram{};
    }
    static std::shared_ptr<const Recording> opened(const std::string& path) {
        const auto recording = openRecording(path);
        return recording ? *recording : nullptr;
    }
    static const Lane* lane(const Recording& r, const std::string& name) {
        for (const Lane& one : r.lanes)
            if (one.name == name) return &one;
        return nullptr;
    }
    static size_t markersOf(const Recording& r, const std::string& name) {
        size_t count = 0;
        for (const Lane& one : r.lanes)
            for (const MarkerRow& row : one.rows)
                for (uint32_t i = 0; i < row.size(); ++i) count += r.nameOf(row.path(i)) == name;
        return count;
    }
    static bool halt(QProcess& process) {
        ::kill(static_cast<pid_t>(process.processId()), SIGSTOP);
        return QTest::qWaitFor(
            [&] {
                QFile told(QString("/proc/%1/stat").arg(process.processId()));
                return told.open(QIODevice::ReadOnly) && told.readAll().contains(") T ");
            },
            kPatience);
    }
    static bool end(QProcess& process) {
        process.terminate();
        return process.waitForFinished(kPatience);
    }

private slots:
    void init() {
        folder_ = std::make_unique<QTemporaryDir>();
        qputenv("XDG_RUNTIME_DIR", folder_->path().toUtf8());
    }
    void cleanup() {
        for (auto& process : started_) {
            process->kill();
            process->waitForFinished(kPatience);
        }
        started_.clear();
        for (const pid_t number : numbers_) removeBuffersOf(number);  // of those that were killed
        numbers_.clear();
    }

    // ---- listing ---------------------------------------------------------------------------------------------

    void programsAreListedAsTheyComeAndGo() {
        QVERIFY(listed().empty());
        QProcess& ferry = started({"ferry"});
        RunningPrograms running;
        QVERIFY(running.look());
        QTest::qWait(500);
        const auto programs = running.look();
        QVERIFY(programs);
        QCOMPARE(programs->size(), size_t{1});
        const RunningProgram& program = programs->front();
        QCOMPARE(program.name, std::string("ferry"));
        QCOMPARE(program.build, std::string("7"));
        QCOMPARE(program.process, static_cast<pid_t>(ferry.processId()));
        QCOMPARE(program.executable, QFileInfo(OFFERED_PROGRAM).canonicalFilePath().toStdString());
        QVERIFY(program.trouble.empty());
        QVERIFY(program.recorded == RunningProgram::Recorded::No);
        const int64_t now = std::chrono::nanoseconds(std::chrono::system_clock::now().time_since_epoch()).count();
        QVERIFY(program.sinceUnixNs && now - *program.sinceUnixNs > -2'000'000'000 &&
                now - *program.sinceUnixNs < 60'000'000'000);
        QVERIFY2(program.framesPerSecond && *program.framesPerSecond > 5 && *program.framesPerSecond < 130,
                 qPrintable(QString::number(program.framesPerSecond.value_or(-1))));
        started({"another"});
        QCOMPARE(running.look()->size(), size_t{2});
        QCOMPARE(running.look()->front().name, std::string("another"));
        QVERIFY(end(ferry));
        QCOMPARE(running.look()->size(), size_t{1});
        const QString counted = ferry.readAllStandardOutput();
        QVERIFY2(QRegularExpression("^[1-9]\\d* frames\n$").match(counted).hasMatch(), qPrintable(counted));
    }

    void whatWasKilledLeavesTheList() {
        QProcess& ferry = started({"ferry"});
        QCOMPARE(listed().size(), size_t{1});
        ferry.kill();
        ferry.waitForFinished(kPatience);
        QCOMPARE(QDir(QString::fromStdString(sockets())).entryList({"*.sock"}, QDir::System).size(), 1);
        QVERIFY(listed().empty());
        QVERIFY(QDir(QString::fromStdString(sockets())).entryList({"*.sock"}, QDir::System).isEmpty());
    }

    void oneThatDoesNotListenYetIsLeftAlone() {
        started({"ferry"});  // makes the folder
        // As a program does, between having a socket and listening.
        const QString unready = QString::fromStdString(sockets()) + "/1-boat.sock.new";
        const int socket = ::socket(AF_UNIX, SOCK_SEQPACKET, 0);
        const auto address = control::addressOf(unready.toStdString());
        QVERIFY(address);
        QCOMPARE(::bind(socket, reinterpret_cast<const sockaddr*>(&*address), sizeof *address), 0);
        QCOMPARE(listed().size(), size_t{1});
        QVERIFY(QFileInfo(unready).exists());
        // Of one that was killed there nothing stays.
        const timespec longAgo[2] = {{::time(nullptr) - 120, 0}, {::time(nullptr) - 120, 0}};
        QCOMPARE(::utimensat(AT_FDCWD, unready.toUtf8().constData(), longAgo, 0), 0);
        QCOMPARE(listed().size(), size_t{1});
        QVERIFY(!QFileInfo(unready).exists());
        ::close(socket);
    }

    void oneThatIsStoppedDoesNotHoldUpTheOthers() {
        QProcess& ferry = started({"ferry"});
        started({"another"});
        RunningPrograms running;
        QCOMPARE(running.look()->size(), size_t{2});
        QVERIFY(halt(ferry));
        const auto programs = running.look();
        QCOMPARE(programs->size(), size_t{2});
        QVERIFY((*programs)[0].trouble.empty());
        QVERIFY(!(*programs)[1].trouble.empty());
        ::kill(static_cast<pid_t>(ferry.processId()), SIGCONT);
        QVERIFY(QTest::qWaitFor([&] { return running.look()->back().trouble.empty(); }, kPatience));
    }

    /// As one on another device, at the end of a slow line.
    void oneThatAnswersLateIsFoundAllTheSame() {
        QProcess& ferry = started({"ferry"});
        const auto process = static_cast<pid_t>(ferry.processId());
        QVERIFY(halt(ferry));
        QVERIFY(RunningPrograms().look()->empty());
        std::thread goesOn([process] {
            std::this_thread::sleep_for(std::chrono::milliseconds(2 * RunningPrograms::kPatienceMs));
            ::kill(process, SIGCONT);
        });
        const auto found = runningProgram("ferry");
        goesOn.join();
        QVERIFY2(found, found ? "" : found.failure().sentence.c_str());
        QCOMPARE(found->process, process);
    }

    void aFolderThatOthersMayEnterIsNotUsed() {
        QVERIFY(QDir().mkpath(QString::fromStdString(sockets())));
        ::chmod(sockets().c_str(), 0755);
        QProcess& refused = start({"ferry"});
        QVERIFY(refused.waitForFinished(kPatience));
        QVERIFY2(refused.readAllStandardError().contains("not permitted"), "the program is told why");
        RunningPrograms running;
        const auto programs = running.look();
        QVERIFY(!programs);
        QVERIFY2(programs.failure().sentence.find("is not yours alone") != std::string::npos,
                 programs.failure().sentence.c_str());
    }

    void sixtyFourProgramsAtOnce() {
        // Under the thread sanitizer each takes a core for many times as long.
        const size_t count = kThreadSanitizer ? 16 : 64;
        for (size_t i = 0; i < count; ++i) start({QString("boat %1").arg(i, 2, 10, QChar('0'))});
        RunningPrograms running;
        QVERIFY(QTest::qWaitFor([&] { return running.look()->size() == count; }, kPatience));
        QVERIFY(QTest::qWaitFor(
            [&] {
                const auto programs = running.look();
                return std::all_of(programs->begin(), programs->end(), [](auto& one) { return one.trouble.empty(); });
            },
            kPatience));
        QCOMPARE(running.look()->back().name, "boat " + std::to_string(count - 1));
    }

    // ---- joining ---------------------------------------------------------------------------------------------

    void joinedLeftAndJoinedAgain() {
        QProcess& ferry = started({"ferry"});
        for (const char* name : {"first.fugato", "second.fugato"}) {
            auto joined = JoinedProgram::join(only().socket, path(name), {});
            QVERIFY2(joined, joined ? "" : joined.failure().sentence.c_str());
            QVERIFY(only().recorded == RunningProgram::Recorded::Joined);
            QCOMPARE(only().recording, path(name));
            const uint64_t before = joined->look()->frames;
            QVERIFY(QTest::qWaitFor([&] { return joined->look()->frames > before + 30; }, kPatience));
            QVERIFY(joined->leave());
            QVERIFY(only().recorded == RunningProgram::Recorded::No);
            const auto r = opened(path(name));
            QVERIFY(r);
            QVERIFY2(r->series.size() == 1 && r->series[0].frames.size() >= 20, "its frames are there");
            // Threads have the names they got before.
            QVERIFY(lane(*r, "game") && lane(*r, "helper"));
            QVERIFY(markersOf(*r, "Step") >= 20 && markersOf(*r, "Help") >= 5);
            QCOMPARE(r->context.at("program"), std::string("ferry"));
            QVERIFY(r->end - r->begin < 20'000'000'000);  // not from when it was started
            QVERIFY(r->context.find("ended") == r->context.end());
        }
        QVERIFY(opened(path("first.fugato"))->context.at("recording id") !=
                opened(path("second.fugato"))->context.at("recording id"));
        QVERIFY(end(ferry));
        QCOMPARE(ferry.exitCode(), 0);
    }

    void whatRecordsGoesAwayAndTheRecordingIsWhole() {
        QProcess& ferry = started({"ferry"});
        {
            auto joined = JoinedProgram::join(only().socket, path("run.fugato"), {});
            QVERIFY(joined);
            QTest::qWait(300);
        }  // the connection ends, as when Fugato is killed
        QVERIFY(QTest::qWaitFor([] { return only().recorded == RunningProgram::Recorded::No; }, kPatience));
        const auto r = opened(path("run.fugato"));
        QVERIFY(r && !r->series[0].frames.empty());
        QVERIFY(end(ferry));
    }

    void whatIsRecordedIsKilledAndTheRecordingIsKept() {
        QProcess& ferry = started({"ferry"});
        auto joined = JoinedProgram::join(only().socket, path("run.fugato"), {});
        QVERIFY(joined);
        const uint64_t before = joined->look()->frames;
        QVERIFY(QTest::qWaitFor([&] { return joined->look()->frames > before + 20; }, kPatience));
        ferry.kill();
        ferry.waitForFinished(kPatience);
        const auto state = joined->look();
        QVERIFY(!state);
        QCOMPARE(state.failure().sentence, std::string("The program has ended."));
        const auto r = opened(path("run.fugato"));
        QVERIFY(r && r->series[0].frames.size() > 10);
    }

    void onlyOneCanRecordAtATime() {
        started({"ferry"});
        auto first = JoinedProgram::join(only().socket, path("first.fugato"), {});
        QVERIFY(first);
        const auto second = JoinedProgram::join(only().socket, path("second.fugato"), {});
        QVERIFY(!second);
        QCOMPARE(second.failure().sentence, std::string("The program says: it is being recorded already."));
        QVERIFY(!QFile::exists(file("second.fugato")));
        QVERIFY(first->look()->recording);
        QCOMPARE(only().recording, path("first.fugato"));
    }

    void aProgramsOwnRecordingIsLeftAlone() {
        QProcess& ferry = started({"ferry", "own", file("own.fugato")});
        QVERIFY(only().recorded == RunningProgram::Recorded::Own);
        QCOMPARE(only().recording, path("own.fugato"));
        QVERIFY(!JoinedProgram::join(only().socket, path("mine.fugato"), {}));
        {
            auto beside = JoinedProgram::accompany(only().socket);
            QVERIFY(beside && beside->leave());  // of what it does not record
        }
        QVERIFY(only().recorded == RunningProgram::Recorded::Own);
        QVERIFY(end(ferry));
        QVERIFY(opened(path("own.fugato")));
    }

    void detailIsSwitchedWhileItRuns() {
        started({"ferry"});
        auto joined = JoinedProgram::join(only().socket, path("run.fugato"), {});
        QVERIFY(joined);
        const auto names = [&] {
            std::vector<std::pair<std::string, int>> all;
            if (const auto told = joined->categories()) all = *told;
            return all;
        };
        QVERIFY(QTest::qWaitFor([&] { return names().size() == 3; }, kPatience));
        QCOMPARE(names()[0], std::pair(std::string("drawing"), 2));
        QVERIFY(joined->setDetail("drawing", -1));
        QCOMPARE(names()[0], std::pair(std::string("drawing"), -1));
        const uint64_t before = joined->look()->frames;
        QVERIFY(QTest::qWaitFor([&] { return joined->look()->frames > before + 40; }, kPatience));
        const auto wrong = joined->setDetail("drawing", 9);
        QVERIFY(!wrong);
        QVERIFY(joined->leave());
        const auto r = opened(path("run.fugato"));
        QVERIFY2(markersOf(*r, "Draw") + 35 < markersOf(*r, "Step"), "none were drawn in the last frames");
        // Afterwards all is as before.
        auto again = JoinedProgram::join(only().socket, path("again.fugato"), {});
        QVERIFY(again);
        QTest::qWait(400);
        QVERIFY(again->leave());
        QVERIFY(markersOf(*opened(path("again.fugato")), "Draw") > 3);
    }

    // ---- moments ---------------------------------------------------------------------------------------------

    void theLastSecondsAreSavedAroundWhatHappens() {
        started({"ferry"});
        JoinOptions options;
        options.moments = momentPlanIn("before=1s,after=200ms,pause=100ms,saves=2,frame=50ms");
        QVERIFY(options.moments);
        auto joined = JoinedProgram::join(only().socket, path("run.fugato"), options);
        QVERIFY2(joined, joined ? "" : joined.failure().sentence.c_str());
        QVERIFY(QTest::qWaitFor([&] { return joined->look()->saves == 2; }, kPatience));
        const auto state = joined->look();
        // On a busy machine a frame that was not meant to be long can be the first one.
        const QRegularExpression reason("^a frame took [\\d.]+ ms, more than 50\\.0 ms$");
        QVERIFY2(reason.match(state->because.c_str()).hasMatch(), state->because.c_str());
        QTest::qWait(1500);  // one more long frame, but two were all that was wanted
        QVERIFY(joined->saveMoment("at the end"));
        QVERIFY(joined->leave());
        const auto made = recordingsMadeFor(path("run.fugato"));
        QCOMPARE(made.size(), size_t{2});
        for (const std::string& one : made) {
            const auto r = opened(one);
            QVERIFY(r);
            QVERIFY(reason.match(r->context.at("saved because").c_str()).hasMatch());
            int64_t longest = 0;
            for (const Frame& frame : r->series[0].frames) longest = std::max(longest, frame.end - frame.begin);
            QVERIFY(longest > 50'000'000);
            QVERIFY2(r->end - r->begin < 1'900'000'000 + longest, "only the last seconds");
            QVERIFY(r->repairs.lostEvents == 0);
            QVERIFY2(r->repairs.endsWithoutBegin == 0, "what began before is no trouble");
            QVERIFY(lane(*r, "game") && lane(*r, "helper"));
        }
        QVERIFY(opened(made[0])->context.at("recording id") != opened(made[1])->context.at("recording id"));
    }

    void aProgramSavesMomentsByItself() {
        QProcess& ferry = started({"ferry", "moments", file("run-%n.fugato")});
        const auto saves = [&] {
            auto beside = JoinedProgram::accompany(only().socket);
            const auto state = beside ? beside->look() : Result<SessionState>(Failure{});
            return state ? *state : SessionState{};
        };
        QTest::qWait(300);
        ::kill(static_cast<pid_t>(ferry.processId()), SIGUSR1);
        QVERIFY(QTest::qWaitFor([&] { return saves().saves == 1; }, kPatience));
        QCOMPARE(saves().because, std::string("error: the tide is out"));
        QCOMPARE(saves().saved, path("run-1.fugato"));
        QTest::qWait(200);
        ::kill(static_cast<pid_t>(ferry.processId()), SIGUSR2);
        QVERIFY(QTest::qWaitFor([&] { return saves().saves == 2; }, kPatience));
        QCOMPARE(saves().because, std::string("asked for: asked by signal"));
        QCOMPARE(saves().saved, path("run-2.fugato"));
        QTest::qWait(200);
        auto beside = JoinedProgram::accompany(only().socket);
        QVERIFY(beside && beside->saveMoment("by another program"));
        QVERIFY(end(ferry));  // before what comes after has passed: it is saved all the same
        const auto r = opened(path("run-3.fugato"));
        QVERIFY(r);
        QCOMPARE(r->context.at("saved because"), std::string("asked for: by another program"));
    }

    void aMomentThatCannotBeSavedIsTold() {
        started({"ferry"});
        JoinOptions options;
        options.moments = momentPlanIn("after=1ms,errors");
        auto joined = JoinedProgram::join(only().socket, path("no such folder/run.fugato"), options);
        QVERIFY(joined);
        QVERIFY(joined->saveMoment("now"));
        QVERIFY(QTest::qWaitFor([&] { return !joined->look()->status.empty(); }, kPatience));
        QVERIFY2(joined->look()->status.find("could not be saved to") != std::string::npos,
                 joined->look()->status.c_str());
        QVERIFY(joined->look()->recording);
        // And where all is recorded nothing is held.
        QVERIFY(joined->leave());
        auto whole = JoinedProgram::join(only().socket, path("whole.fugato"), {});
        QVERIFY(whole);
        const auto refused = whole->saveMoment("now");
        QVERIFY(!refused && refused.failure().sentence.find("nothing is held") != std::string::npos);
    }

    // ---- peers that mean no good -----------------------------------------------------------------------------

    void aHostilePeerDoesNoHarm() {
        QProcess& ferry = started({"ferry"});
        const std::string socket = only().socket;
        const auto answerTo = [&](const Message& message, int descriptor = -1) {
            auto connection = ControlConnection::open(socket);
            if (!connection) return std::string("no connection");
            const auto answer = connection->ask(message, descriptor, 5000);
            return answer ? answer->word : answer.failure().sentence;
        };
        QCOMPARE(answerTo({"sink", {}}),
                 std::string("The program says: \"sink\" is not known to this version of the recorder."));
        QCOMPARE(answerTo({"record", {}}), std::string("The program says: no file was handed over."));
        for (const char* moments : {"frame=", "frame=50", "late=5/3", "late=1/99999999999", "x", "=", ",", "before=0s"})
            QVERIFY2(
                answerTo(Message{"record", {}}.with("moments", moments)).find("is not understood") != std::string::npos,
                moments);
        QVERIFY(answerTo(Message{"detail", {}}.with("level", "")).find("The program says") == 0);
        // Files that are none, or not empty, or cannot be written.
        int pipe[2];
        QVERIFY(::pipe(pipe) == 0);
        QFile full(file("full"));
        QVERIFY(full.open(QIODevice::ReadWrite) && full.write("something") == 9 && full.flush());
        const int folder = ::open(folder_->path().toUtf8().constData(), O_RDONLY);
        for (const int descriptor : {pipe[0], pipe[1], full.handle(), folder})
            QVERIFY2(answerTo({"record", {}}, descriptor).find("The program says:") == 0,
                     answerTo({"record", {}}, descriptor).c_str());
        QCOMPARE(full.size(), qint64{9});
        ::close(pipe[0]);
        ::close(pipe[1]);
        ::close(folder);
        // Bytes that are no message: the connection ends.
        std::mt19937 random(7);
        for (int round = 0; round < 200; ++round) {
            auto connection = ControlConnection::open(socket);
            QVERIFY(connection);
            std::string bytes(1 + random() % (round % 10 ? 64 : 60'000), '\0');
            for (char& byte : bytes) byte = static_cast<char>(random());
            if (bytes.back() == '\n') bytes.back() = 'x';
            QVERIFY(::send(connection->descriptor(), bytes.data(), bytes.size(), MSG_NOSIGNAL) > 0);
            QVERIFY(
                QTest::qWaitFor([&] { return connection->receive().what == control::Received::What::End; }, kPatience));
        }
        // A request that is never followed by another, and many connections: others still are served.
        std::vector<ControlConnection> silent;
        for (int i = 0; i < 40; ++i)
            if (auto connection = ControlConnection::open(socket)) silent.push_back(std::move(*connection));
        QVERIFY(silent.size() >= 10);
        silent.clear();
        QVERIFY(QTest::qWaitFor([&] { return listed().size() == 1; }, kPatience));
        QVERIFY(end(ferry));
        QCOMPARE(ferry.exitCode(), 0);
    }

    void aProgramThatIsNoneDoesNoHarmToTheList() {
        started({"ferry"});
        // One that takes connections and answers nonsense, one that never answers.
        const auto listen = [&](const char* name) {
            const int socket = ::socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0);
            const auto address = control::addressOf(sockets() + "/" + name);
            if (::bind(socket, reinterpret_cast<const sockaddr*>(&*address), sizeof *address) != 0 ||
                ::listen(socket, 4) != 0)
                return -1;
            return socket;
        };
        const int nonsense = listen("1-nonsense.sock"), mute = listen("2-mute.sock");
        QVERIFY(nonsense >= 0 && mute >= 0);
        std::thread answering([&] {
            const int peer = ::accept(nonsense, nullptr, nullptr);
            char bytes[100];
            (void)!::read(peer, bytes, sizeof bytes);
            Message answer{"program", {}};
            answer.with("version", "99").with("name", "\x1b[31mred\xff").with("frames", "-1").with("now", "x");
            control::sendMessage(peer, answer);
            (void)!::read(peer, bytes, sizeof bytes);
            ::close(peer);
        });
        RunningPrograms running;
        QVERIFY(QTest::qWaitFor([&] { return running.look()->size() == 2; }, kPatience));
        const auto programs = running.look();
        const auto& other =
            *std::find_if(programs->begin(), programs->end(), [](auto& p) { return p.name != "ferry"; });
        QCOMPARE(other.name, std::string("\\x1b[31mred\xEF\xBF\xBD"));
        QVERIFY2(other.trouble.find("of another version (99, not 1)") != std::string::npos, other.trouble.c_str());
        running = {};
        answering.join();
        ::close(nonsense);
        ::close(mute);
        QVERIFY(QTest::qWaitFor([] { return listed().size() == 1; }, kPatience));
    }

    // ---- by command ------------------------------------------------------------------------------------------

    void theCommandsListJoinAndSave() {
        const auto run = [&](const QStringList& words) {
            QProcess cli;
            QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
            environment.insert("XDG_DATA_HOME", file("data"));
            cli.setProcessEnvironment(environment);
            cli.start(FUGATO_CLI_PROGRAM, words);
            cli.waitForFinished(kPatience);
            return std::tuple(cli.exitCode(), QString(cli.readAllStandardOutput()),
                              QString(cli.readAllStandardError()));
        };
        QVERIFY(std::get<1>(run({"programs"})).startsWith("No program offers itself"));
        auto [none, noOut, noErr] = run({"join"});
        QCOMPARE(none, 5);
        QVERIFY(noErr.contains("No program offers itself to be recorded."));
        started({"ferry"});
        QVERIFY(std::get<1>(run({"programs"})).contains("ferry"));
        auto [code, out, err] = run({"join", "ferry", "--for", "1s"});
        QVERIFY2(code == 0, qPrintable(err));
        QVERIFY2(out.contains("frames:") && out.contains("/ferry-"), qPrintable(out));
        started({"pilot"});
        auto [several, sOut, sErr] = run({"join", "--for", "1s"});
        QVERIFY(several == 5 && sErr.contains("There are several: ferry (process "));
        QVERIFY(std::get<2>(run({"join", "pilot", "--moments", "soon"})).contains("is not understood"));
        QVERIFY(std::get<2>(run({"save", "pilot"})).contains("nothing is held"));
        QVERIFY(std::get<2>(run({"join", "canoe"})).contains("No program \"canoe\" offers itself"));
        // Started so that it can be joined, and joined while it runs.
        QProcess& offered = start({"record", "--offer", "--", OFFERED_PROGRAM, "quay", "quiet"}, FUGATO_CLI_PROGRAM);
        QVERIFY(QTest::qWaitFor([&] { return std::get<1>(run({"programs"})).contains("offered"); }, kPatience));
        auto [later, lOut, lErr] = run({"join", "offered", "--for", "1s"});
        QVERIFY2(later == 0 && lOut.contains("frames:"), qPrintable(lErr));
        offered.terminate();
        QVERIFY(offered.waitForFinished(kPatience));
        // Held in memory from its first instant, and saved by a command.
        QProcess& held = start({"record", "--to", file("held.fugato"), "--moments", "before=1s,after=50ms,errors", "--",
                                OFFERED_PROGRAM, "quay", "quiet"},
                               FUGATO_CLI_PROGRAM);
        QVERIFY(QTest::qWaitFor(
            [&] {
                return std::get<1>(run({"save", "offered", "--why", "seen it"})).contains("saves its last");
            },
            kPatience));
        QVERIFY(QTest::qWaitFor([&] { return QFile::exists(file("held.fugato")); }, kPatience));
        held.terminate();
        QVERIFY(held.waitForFinished(kPatience));
        QVERIFY2(held.readAllStandardError().contains("held.fugato: asked for: seen it."), "it is told where and why");
        QCOMPARE(opened(path("held.fugato"))->context.at("saved because"), std::string("asked for: seen it"));
    }

    // ---- messages --------------------------------------------------------------------------------------------

    void messagesAreReadAsTheyWereWritten() {
        const Message sent = Message{"record", {}}.with("path", "a=b c").with("n", uint64_t{42}).with("line", "a\nb");
        const auto read = control::messageIn(control::packetOf(sent));
        QVERIFY(read);
        QCOMPARE(read->word, std::string("record"));
        QCOMPARE(std::string(read->field("path")), std::string("a=b c"));
        QCOMPARE(read->number("n"), uint64_t{42});
        QCOMPARE(read->number("path"), uint64_t{0});
        QCOMPARE(std::string(read->field("line")), std::string("a b"));
        for (const std::string& wrong :
             {std::string(), std::string("record"), std::string("\n"), std::string("a\n\n"), std::string("a\n=b\n"),
              std::string("a\nb\n"), std::string(10'000, 'x') + "\n"})
            QVERIFY2(!control::messageIn(wrong), wrong.substr(0, 20).c_str());
        // What does not fit is left out, and the message stays one.
        const auto cut = control::messageIn(
            control::packetOf(Message{"a", {}}.with("b", std::string(control::kMostBytes, 'x')).with("c", "d")));
        QVERIFY(cut && cut->fields.size() == 1 && cut->field("c") == "d");
    }

    void whatIsKeptIsReadAsItWasWritten() {
        const auto plan =
            momentPlanIn("before=1.5s,after=250ms,pause=3s,saves=7,frame=33.4ms,usual=2.5,late=3/10,errors");
        QVERIFY(plan);
        QCOMPARE(plan->beforeNs, uint64_t{1'500'000'000});
        QCOMPARE(plan->afterNs, uint64_t{250'000'000});
        QCOMPARE(plan->frameNs, uint64_t{33'400'000});
        QCOMPARE(plan->timesUsual, 2.5);
        QCOMPARE(plan->lateFrames, 3u);
        QCOMPARE(plan->outOf, 10u);
        QVERIFY(plan->errors);
        QCOMPARE(textOf(*momentPlanIn(textOf(*plan))), textOf(*plan));
        QCOMPARE(momentPlanIn("")->beforeNs, uint64_t{20'000'000'000});
        for (const char* wrong : {"frame", "frame=5", "frame=0ms", "usual=1", "usual=x", "late=3", "late=0/5",
                                  "errors=1", "before=1e5s", "after=-1s", "saves=0", "pause=99999999s"})
            QVERIFY2(!momentPlanIn(wrong), wrong);
    }
};

QTEST_GUILESS_MAIN(JoinTest)
#include "join_test.moc"
