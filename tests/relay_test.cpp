// SPDX-License-Identifier: GPL-3.0-or-later
//
// Programs of another device: a relay with a program beside it, in a runtime folder (and once in a network) of their
// own, and the line between it and here, whole, cut and hostile.
#include <arpa/inet.h>
#include <fcntl.h>
#include <poll.h>
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
#include <atomic>
#include <random>
#include <thread>

#include "core/model/growing_recording.h"
#include "core/model/open_recording.h"
#include "relay/line/secure_line.h"
#include "session/device_connection.h"
#include "session/joined_program.h"
#include "testing/patience.h"

using namespace fugato;
using control::Message;
using line::Chunk;
using line::SecureLine;

namespace {

Descriptor listenOnLoopback(uint16_t& port) {
    Descriptor socket(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof at;
    if (::bind(socket.get(), reinterpret_cast<sockaddr*>(&at), size) != 0 || ::listen(socket.get(), 16) != 0 ||
        ::getsockname(socket.get(), reinterpret_cast<sockaddr*>(&at), &size) != 0)
        return Descriptor();
    port = ntohs(at.sin_port);
    return socket;
}
Descriptor connectToLoopback(uint16_t port) {
    Descriptor socket(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0));
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    at.sin_port = htons(port);
    if (::connect(socket.get(), reinterpret_cast<sockaddr*>(&at), sizeof at) != 0) return Descriptor();
    return socket;
}

/// A line between two ports that can be cut.
class Cable {
public:
    explicit Cable(uint16_t to) : to_(to), listening_(listenOnLoopback(port)) {
        thread_ = std::thread([this] { run(); });
    }
    ~Cable() {
        quit_ = true;
        thread_.join();
    }
    void cut(bool now) { cut_ = now; }
    /// Nothing goes through, and neither end is told.
    void hold(bool now) { held_ = now; }
    uint16_t port = 0;

private:
    void run() {
        struct Pair {
            Descriptor ends[2];
        };
        std::vector<Pair> pairs;
        while (!quit_) {
            if (cut_) pairs.clear();
            if (held_) {
                QThread::msleep(10);
                continue;
            }
            std::vector<pollfd> waiting{{listening_.get(), POLLIN, 0}};
            for (const Pair& pair : pairs)
                for (const Descriptor& end : pair.ends) waiting.push_back({end.get(), POLLIN, 0});
            ::poll(waiting.data(), waiting.size(), 20);
            if (waiting[0].revents) {
                Descriptor here(::accept4(listening_.get(), nullptr, nullptr, SOCK_CLOEXEC));
                if (Descriptor there = cut_ ? Descriptor() : connectToLoopback(to_); here && there)
                    pairs.push_back({{std::move(here), std::move(there)}});
            }
            for (size_t i = 1; i < waiting.size(); ++i) {
                if (!waiting[i].revents) continue;
                Pair& pair = pairs[(i - 1) / 2];
                char bytes[32 * 1024];
                const ssize_t got = ::recv(waiting[i].fd, bytes, sizeof bytes, 0);
                const int other = pair.ends[1 - (i - 1) % 2].get();
                bool good = got > 0 && other >= 0;
                for (ssize_t at = 0; good && at < got;) {
                    const ssize_t done = ::send(other, bytes + at, static_cast<size_t>(got - at), MSG_NOSIGNAL);
                    good = done > 0;
                    at += done;
                }
                if (!good)
                    for (Descriptor& end : pair.ends) end = Descriptor();
            }
            pairs.erase(std::remove_if(pairs.begin(), pairs.end(), [](const Pair& pair) { return !pair.ends[0]; }),
                        pairs.end());
        }
    }
    const uint16_t to_;
    std::atomic<bool> quit_{false}, cut_{false}, held_{false};
    Descriptor listening_;
    std::thread thread_;
};

}  // namespace

class RelayTest : public QObject {
    Q_OBJECT

    std::unique_ptr<QTemporaryDir> folder_;
    std::vector<std::unique_ptr<QProcess>> started_;
    QProcess* relay_ = nullptr;
    uint16_t port_ = 0;
    std::string code_;

    std::string path(const char* name) const { return folder_->filePath(name).toStdString(); }
    QProcessEnvironment onDevice() const {
        QProcessEnvironment all = QProcessEnvironment::systemEnvironment();
        all.insert("XDG_RUNTIME_DIR", folder_->filePath("device"));
        all.insert("XDG_CACHE_HOME", folder_->filePath("cache"));
        return all;
    }
    QProcess& start(const QString& program, const QStringList& arguments) {
        started_.push_back(std::make_unique<QProcess>());
        QProcess& process = *started_.back();
        process.setProcessEnvironment(onDevice());
        process.start(program, arguments);
        return process;
    }
    QProcess& startFerry() {
        QProcess& ferry = start(OFFERED_PROGRAM, {"ferry"});
        if (!QTest::qWaitFor([&] { return ferry.canReadLine(); }, kPatience)) qWarning("it does not become ready");
        return ferry;
    }
    /// `within`: words before its own, such as those that put it into a network of its own.
    void startRelay(const QStringList& within = {}) {
        const QStringList words =
            within + QStringList{RELAY_PROGRAM, "--address", within.isEmpty() ? "127.0.0.1" : "0.0.0.0", "--port", "0",
                                 "--name",      "ferry-kit"};
        relay_ = &start(words[0], words.mid(1));
        QByteArray said;
        const bool ready = QTest::qWaitFor(
            [&] {
                said += relay_->readAllStandardOutput();
                return said.contains("Anyone with this code");
            },
            kPatience);
        QVERIFY2(ready, said.constData());
        static const QRegularExpression port("port (\\d+)"), code("pairing code  (\\S+)");
        port_ = port.match(said).captured(1).toUShort();
        code_ = code.match(said).captured(1).toStdString();
    }
    std::unique_ptr<DeviceConnection> connected(uint16_t port, const std::string& code,
                                                const std::string& host = "127.0.0.1") const {
        return std::make_unique<DeviceConnection>(DeviceAddress{host, port}, *line::keyOf(code));
    }
    /// The ferry there, recorded from here over a cable to "run.fugato".
    struct FarSession {
        std::unique_ptr<Cable> cable;
        std::unique_ptr<DeviceConnection> connection;
        std::optional<JoinedProgram> joined;
    };
    FarSession ferryRecorded() {
        startFerry();
        startRelay();
        FarSession session{std::make_unique<Cable>(port_), {}, {}};
        session.connection = connected(session.cable->port, code_);
        if (isConnected(*session.connection))
            if (auto joined = JoinedProgram::join(only().socket, path("run.fugato"), {}))
                session.joined = std::move(*joined);
        return session;
    }
    static bool isConnected(const DeviceConnection& to, size_t programs = 1) {
        return QTest::qWaitFor(
            [&] {
                const DeviceState state = to.state();
                return state.line == DeviceState::Line::Connected && state.programs == programs;
            },
            kPatience);
    }
    static bool framesPass(JoinedProgram& of, uint64_t count) {
        std::optional<uint64_t> before;
        return QTest::qWaitFor(
            [&] {
                const auto state = of.look();
                if (state && !before) before = state->frames;
                return state && state->frames >= *before + count;
            },
            kPatience);
    }
    static RunningProgram only() {
        RunningPrograms running;
        const auto programs = running.look();
        return programs && programs->size() == 1 ? programs->front() : RunningProgram{};
    }
    static std::shared_ptr<const Recording> opened(const std::string& file) {
        const auto recording = openRecording(file);
        if (!recording) qWarning("%s", recording.failure().sentence.c_str());
        return recording ? *recording : nullptr;
    }
    /// The device keeps nothing of what was fetched.
    bool deviceIsEmpty() const {
        return QTest::qWaitFor(
            [&] { return QDir(folder_->filePath("cache/fugato/relay")).entryList(QDir::Files).isEmpty(); }, kPatience);
    }

    /// What is wrong with what the device sends of a recording.
    static void lieAbout(int lie, SecureLine& there, uint32_t channel) {
        std::mt19937 random(5);
        if (lie == 0)
            for (int i = 0; i < 200; ++i) {
                Chunk chunk{static_cast<Chunk::Kind>(random() % 6), static_cast<uint32_t>(random() % 3), random(),
                            std::string(random() % 40, 'x')};
                there.send(chunk);
            }
        if (lie == 1) there.send({Chunk::Kind::Recording, channel, 0, std::string(line::kMostBytes + 1, 'x')});
        if (lie == 2) there.send({Chunk::Kind::Recording, channel, 1'000'000'000, "behind a gap"});
        if (lie == 3) there.send({Chunk::Kind::End, channel, 14, {}});
        if (lie == 7) {
            there.send({Chunk::Kind::Recording, 77, 0, "elsewhere"});
            there.send({Chunk::Kind::Packet, 78, 0, "state\n"});
            there.send({Chunk::Kind::End, 79, 0, {}});
        }
    }

private slots:
    void initTestCase() { ::signal(SIGPIPE, SIG_IGN); }  // as the programs do: the far end may close a line at any time
    void init() {
        folder_ = std::make_unique<QTemporaryDir>();
        for (const char* name : {"here", "device"}) {
            QDir(folder_->path()).mkdir(name);
            ::chmod(path(name).c_str(), 0700);
        }
        qputenv("XDG_RUNTIME_DIR", folder_->filePath("here").toUtf8());
    }
    void cleanup() {
        for (auto& process : started_) {
            process->kill();
            process->waitForFinished(kPatience);
        }
        started_.clear();
    }

    // ---- what goes over the line ---------------------------------------------------------------------------

    void chunksComeOutAsTheyWentInHoweverTheyAreCut() {
        std::mt19937 random(3);
        std::vector<Chunk> told;
        std::string bytes;
        for (int i = 0; i < 200; ++i) {
            Chunk chunk{static_cast<Chunk::Kind>(1 + random() % 4), static_cast<uint32_t>(random()), random(), {}};
            chunk.number = chunk.number << 32 | random();
            chunk.bytes.resize(i % 50 == 0 ? line::kMostBytes : random() % 300, static_cast<char>(random()));
            told.push_back(chunk);
            bytes += line::bytesOf(chunk);
        }
        line::ChunkReader reader;
        size_t got = 0;
        for (size_t at = 0; at < bytes.size();) {
            const size_t part = std::min<size_t>(bytes.size() - at, 1 + random() % 5000);
            reader.add({bytes.data() + at, part});
            at += part;
            while (const auto chunk = reader.next()) {
                QCOMPARE(chunk->kind, told[got].kind);
                QCOMPARE(chunk->channel, told[got].channel);
                QCOMPARE(chunk->number, told[got].number);
                QVERIFY(chunk->bytes == told[got].bytes);
                ++got;
            }
        }
        QCOMPARE(got, told.size());
        QVERIFY(!reader.isBad());
        QCOMPARE(reader.waiting(), size_t{0});
    }

    void whatIsNoChunkIsRefusedBeforeMemoryIsTaken() {
        for (const std::string& bytes : {std::string("\xff\xff\xff\xff", 4), std::string("\x0f\x00\x00\x00", 4),
                                         std::string("\x11\x00\x01\x00", 4),
                                         std::string("\x10\x00\x00\x00\x09\x00\x00\x00", 8) + std::string(12, '\0')}) {
            line::ChunkReader reader;
            reader.add(bytes);
            QVERIFY(!reader.next());
            QVERIFY(reader.isBad());
        }
        line::ChunkReader slow;  // a header that never ends
        slow.add(std::string("\x10\x00\x00", 3));
        QVERIFY(!slow.next() && !slow.isBad());
    }

    void codesAreTypedAsPeopleDo() {
        const std::string code = line::newPairingCode();
        QCOMPARE(code.size(), size_t{19});
        const auto key = line::keyOf(code);
        QVERIFY(key);
        QVERIFY(line::newPairingCode() != code);
        const auto plain = line::keyOf("7KQM-02XV-H9TD-4WR1");
        QVERIFY(line::keyOf(" 7kqm o2xv h9td 4wrl\n") == plain && plain);
        for (const char* wrong : {"", "7KQM-02XV-H9TD-4WR", "7KQM-02XV-H9TD-4WR1A", "7KQM-02XV-H9TD-4WRU", "7KQM_02XV"})
            QVERIFY2(!line::keyOf(wrong), wrong);
    }

    void addressesAreUnderstood() {
        const auto told = [](const char* text) {
            const auto address = deviceAddressIn(text);
            return address ? address->host + " " + std::to_string(address->port) : "refused";
        };
        QCOMPARE(told("ferry-kit"), std::string("ferry-kit 47470"));
        QCOMPARE(told("10.0.0.7:5000"), std::string("10.0.0.7 5000"));
        QCOMPARE(told("[fe80::1]:5000"), std::string("fe80::1 5000"));
        QCOMPARE(told("fe80::1"), std::string("fe80::1 47470"));
        for (const char* wrong : {"", ":5000", "ferry:", "ferry:0", "ferry:70000", "ferry:1.5", "[fe80::1]5000"})
            QCOMPARE(told(wrong), std::string("refused"));
    }

    // ---- recording there -----------------------------------------------------------------------------------

    void aProgramThereIsRecordedLikeOneHere() {
        QProcess& ferry = startFerry();
        startRelay();
        const auto connection = connected(port_, code_);
        QVERIFY(isConnected(*connection));
        const RunningProgram program = only();
        QCOMPARE(program.name, std::string("ferry"));
        QCOMPARE(program.device, std::string("ferry-kit"));
        QCOMPARE(program.process, static_cast<pid_t>(ferry.processId()));
        QVERIFY(program.executable.empty() && !program.sinceUnixNs);

        for (int again = 0; again < 2; ++again) {  // joined, left, joined again
            const std::string file = path(again ? "again.fugato" : "run.fugato");
            auto joined = JoinedProgram::join(program.socket, file, {});
            QVERIFY2(joined, joined ? "" : joined.failure().sentence.c_str());
            // It grows here as it grows there, and is read as one that is being made.
            GrowingRecording growing(file, {});
            std::shared_ptr<const Recording> live;
            QVERIFY(QTest::qWaitFor(
                [&] {
                    live = growing.read();
                    return live && !live->series.empty() && live->series[0].frames.size() > 50;
                },
                kPatience));
            QVERIFY(live->growing);
            QVERIFY(joined->setDetail("helping", -1));
            QCOMPARE(only().recording, file);
            QVERIFY(joined->look()->recording);
            QVERIFY(joined->leave());
            const auto r = opened(file);  // whole as soon as it is left
            QVERIFY(r && !r->damage.any() && !r->growing);
            QVERIFY(r->series[0].frames.size() >= live->series[0].frames.size());
            QVERIFY(r->context.find("ended") == r->context.end());
            QVERIFY(deviceIsEmpty());
        }
        QCOMPARE(connection->state().recording, size_t{0});
        // Moments are written on the device itself: not yet.
        JoinOptions moments;
        moments.moments = momentPlanIn("errors");
        const auto refused = JoinedProgram::join(program.socket, path("moment.fugato"), moments);
        QVERIFY(!refused && refused.failure().sentence.find("only whole recordings") != std::string::npos);
        // It goes when its program goes.
        ferry.terminate();
        QVERIFY(isConnected(*connection, 0));
        QVERIFY(only().name.empty());
    }

    void whoLeavesWithoutAWordLeavesAWholeRecording() {
        FarSession session = ferryRecorded();
        const auto& connection = session.connection;
        auto& joined = session.joined;
        QVERIFY(joined);
        QVERIFY(framesPass(*joined, 30));
        QCOMPARE(connection->state().recording, size_t{1});
        joined.reset();
        QVERIFY(QTest::qWaitFor([&] { return connection->state().recording == 0; }, kPatience));
        const auto r = opened(path("run.fugato"));
        QVERIFY(r && !r->damage.any() && r->series[0].frames.size() > 20);
        QVERIFY(deviceIsEmpty());
    }

    void aProgramThatIsKilledThereLosesNothing() {
        FarSession session = ferryRecorded();
        const auto& connection = session.connection;
        auto& joined = session.joined;
        QVERIFY(joined);
        QVERIFY(framesPass(*joined, 60));
        ::kill(static_cast<pid_t>(started_.front()->processId()), SIGKILL);
        QVERIFY(QTest::qWaitFor([&] { return connection->state().recording == 0; }, kPatience));
        const auto r = opened(path("run.fugato"));
        QVERIFY(r && !r->damage.any());
        QVERIFY(r->context.at("ended").find("rescued") != std::string::npos);
        QVERIFY(r->series[0].frames.size() > 20);
        QVERIFY(!joined->look());
        QVERIFY(deviceIsEmpty());
    }

    void whatIsRecordedWhileTheLineIsCutArrivesLater() {
        FarSession session = ferryRecorded();
        const auto& connection = session.connection;
        auto& joined = session.joined;
        QVERIFY(joined);
        QTest::qWait(500);
        QVERIFY(joined->look());
        for (int cuts = 0; cuts < 2; ++cuts) {
            session.cable->cut(true);
            QVERIFY(QTest::qWaitFor([&] { return connection->state().line == DeviceState::Line::Broken; }, kPatience));
            QVERIFY(connection->state().trouble.find("connection to ferry-kit was lost") != std::string::npos);
            const auto state = joined->look();  // it is still recorded, and one is told
            QVERIFY(state && state->recording && state->status.find("is lost or slow") != std::string::npos);
            QVERIFY(!joined->saveMoment("now"));
            QTest::qWait(700);
            session.cable->cut(false);
            QVERIFY(isConnected(*connection));
            QVERIFY(QTest::qWaitFor([&] { return joined->look() && joined->look()->status.empty(); }, kPatience));
        }
        QVERIFY(joined->leave());
        const auto r = opened(path("run.fugato"));
        QVERIFY(r && !r->damage.any() && r->repairs.lostEvents == 0);
        // One frame after the other, also of the time in which nothing arrived.
        const auto& frames = r->series[0].frames;
        QVERIFY(frames.size() > 100);
        for (size_t i = 1; i < frames.size(); ++i) QVERIFY(frames[i].begin - frames[i - 1].end < 600'000'000);
        QVERIFY(frames.back().end - frames.front().begin > 1'800'000'000);
        QVERIFY(deviceIsEmpty());
    }

    void aLineThatSaysNothingIsWaitedForAndMadeAnew() {
        FarSession session = ferryRecorded();
        const auto& connection = session.connection;
        auto& joined = session.joined;
        QVERIFY(joined && joined->look());
        for (const int ms : {3000, 9000}) {  // once it goes on by itself, once both sides have given it up
            session.cable->hold(true);
            QElapsedTimer held;
            held.start();
            while (held.elapsed() < ms) {
                const auto state = joined->look();
                QVERIFY2(state && state->recording, state ? "" : state.failure().sentence.c_str());
                QTest::qWait(50);
                if (held.elapsed() > 2000) QVERIFY(state->status.find("is lost or slow") != std::string::npos);
            }
            session.cable->hold(false);
            QVERIFY(isConnected(*connection));
            QVERIFY(QTest::qWaitFor([&] { return joined->look() && joined->look()->status.empty(); }, kPatience));
        }
        const auto frames = joined->look()->frames;  // answers belong to their questions still
        QVERIFY(joined->categories() && !joined->categories()->empty());
        QVERIFY(joined->look()->frames >= frames);
        QVERIFY(joined->leave());
        const auto r = opened(path("run.fugato"));
        QVERIFY(r && !r->damage.any() && r->repairs.lostEvents == 0);
        QVERIFY(r->series[0].frames.back().end - r->series[0].frames.front().begin > 11'000'000'000);
        QVERIFY(deviceIsEmpty());
    }

    void whatArrivesAllAtOnceIsReadAsItGrows() {
        start(SKERRY_PROGRAM, {"--offer", "--seconds", "60"});
        startRelay();
        Cable cable(port_);
        const auto connection = connected(cable.port, code_);
        QVERIFY(isConnected(*connection));
        QVERIFY(QTest::qWaitFor([] { return only().name == "skerry-regatta"; }, kPatience));
        JoinOptions everything;
        everything.collect = "switches,samples,blocking,load";
        auto joined = JoinedProgram::join(only().socket, path("run.fugato"), everything);
        QVERIFY2(joined, joined ? "" : joined.failure().sentence.c_str());
        GrowingRecording growing(path("run.fugato"), {});
        const auto readFor = [&](int ms) {
            QElapsedTimer clock;
            clock.start();
            while (clock.elapsed() < ms) {
                const auto r = growing.read();
                QVERIFY(r);
                QTest::qWait(20);
                QVERIFY2(r->damage.lostBlocks == 0, r->damage.notes.empty() ? "" : r->damage.notes.back().c_str());
            }
        };
        QVERIFY(QTest::qWaitFor([&] { return growing.read() != nullptr; }, kPatience));
        readFor(1000);
        cable.hold(true);
        QTest::qWait(9000);
        cable.hold(false);
        readFor(3000);
        QVERIFY(isConnected(*connection));
        readFor(2000);
        QVERIFY(joined->leave());
        const auto r = opened(path("run.fugato"));
        QVERIFY(r);
        QVERIFY2(!r->damage.any(), r->damage.notes.empty() ? "" : r->damage.notes.back().c_str());
        QVERIFY2(r->series[0].frames.size() > 300, std::to_string(r->series[0].frames.size()).c_str());
    }

    void aDiskHereThatIsFullEndsTheRecordingAndSaysSo() {
        QVERIFY(QDir(folder_->path()).mkdir("small"));
        const std::string small = path("small");
        // Sixteen megabytes are left to others.
        if (::mount("tmpfs", small.c_str(), "tmpfs", 0, "size=17m") != 0) QSKIP("needs the right to mount");
        const auto gone = qScopeGuard([&] { ::umount2(small.c_str(), MNT_DETACH); });
        start(SKERRY_PROGRAM, {"--offer", "--seconds", "60"});
        startRelay();
        const auto connection = connected(port_, code_);
        QVERIFY(isConnected(*connection));
        QVERIFY(QTest::qWaitFor([] { return only().name == "skerry-regatta"; }, kPatience));
        const std::string socket = only().socket;
        JoinOptions everything;
        everything.collect = "switches,samples,blocking,load";
        auto joined = JoinedProgram::join(socket, small + "/run.fugato", everything);
        QVERIFY2(joined, joined ? "" : joined.failure().sentence.c_str());
        Result<SessionState> state = joined->look();
        QVERIFY(QTest::qWaitFor(
            [&] {
                state = joined->look();
                return !state || !state->recording;
            },
            kPatience));
        QVERIFY2(state && state->status.find("no room left on the disk here") != std::string::npos,
                 state ? state->status.c_str() : state.failure().sentence.c_str());
        const auto r = opened(small + "/run.fugato");
        QVERIFY(r && !r->series.empty() && !r->series[0].frames.empty());
        QVERIFY(deviceIsEmpty());
        const auto again = JoinedProgram::join(socket, small + "/again.fugato", {});
        QVERIFY(!again && again.failure().sentence.find("no room left") != std::string::npos);
        auto elsewhere = JoinedProgram::join(socket, path("run.fugato"), {});
        QVERIFY(elsewhere && elsewhere->leave());
        QVERIFY(opened(path("run.fugato")));
    }

    void whatHadArrivedStaysWhereTheRelayEnds() {
        FarSession session = ferryRecorded();
        const auto& connection = session.connection;
        auto& joined = session.joined;
        QVERIFY(joined);
        QVERIFY(QTest::qWaitFor([&] { return QFileInfo(QString::fromStdString(path("run.fugato"))).size() > 4000; },
                                kPatience));
        relay_->kill();
        relay_->waitForFinished(kPatience);
        QVERIFY(QTest::qWaitFor([&] { return connection->state().line == DeviceState::Line::Broken; }, kPatience));
        const auto r = opened(path("run.fugato"));
        QVERIFY(r && !r->series.empty());
    }

    void aRelayThatIsLeftTellsWhatWasNotFetched() {
        {
            const FarSession session = ferryRecorded();
            QVERIFY(session.joined);
            QTest::qWait(300);
        }  // what is on its way is fetched first
        QVERIFY(opened(path("run.fugato")));
        QVERIFY(!opened(path("run.fugato"))->damage.any());
        QByteArray said;
        QVERIFY(QTest::qWaitFor(
            [&] {
                said += relay_->readAllStandardOutput();
                return said.contains("The other side disconnected.");
            },
            kPatience));
        QVERIFY(!said.contains("not fetched"));
        QVERIFY(deviceIsEmpty());
        QVERIFY(QDir(folder_->filePath("here/fugato"))
                    .entryList(QDir::AllEntries | QDir::System | QDir::NoDotAndDotDot)
                    .isEmpty());
    }

    void acrossANetworkOfItsOwn() {
        const QString ip = QStandardPaths::findExecutable("ip", {"/usr/sbin", "/sbin", "/usr/bin"});
        const QString name = "fugato" + QString::number(getpid());
        const auto run = [&](const QString& words) {
            return QProcess::execute(ip, QString(words).replace("%1", name).split(' ')) == 0;
        };
        if (ip.isEmpty() || geteuid() != 0 || !run("netns add %1")) QSKIP("No network of its own can be made here.");
        const auto gone = qScopeGuard([&] { run("netns del %1"); });
        const QString number = QString::number(getpid() % 100'000), here = "fug" + number + "a",
                      there = "fug" + number + "b", network = QString("198.18.%1.").arg(getpid() % 250);
        if (!run("link add " + here + " type veth peer name " + there + " netns %1"))
            QSKIP("No network of its own can be made.");
        QVERIFY(run("addr add " + network + "5/30 dev " + here) && run("link set " + here + " up"));
        QVERIFY(run("-n %1 addr add " + network + "6/30 dev " + there) && run("-n %1 link set " + there + " up"));
        start(ip, {"netns", "exec", name, SKERRY_PROGRAM, "--offer", "--seconds", "60"});
        startRelay({ip, "netns", "exec", name});
        const auto connection = connected(port_, code_, (network + "6").toStdString());
        QVERIFY(isConnected(*connection));
        QVERIFY(QTest::qWaitFor([] { return only().name == "skerry-regatta"; }, kPatience));
        auto joined = JoinedProgram::join(only().socket, path("run.fugato"), {});
        QVERIFY2(joined, joined ? "" : joined.failure().sentence.c_str());
        QVERIFY(framesPass(*joined, 60));
        QVERIFY(joined->leave());
        const auto r = opened(path("run.fugato"));
        QVERIFY(r && !r->damage.any());
        QVERIFY(r->series.size() >= 3 && r->series[0].frames.size() > 40);
    }

    // ---- who means no good ---------------------------------------------------------------------------------

    void withoutTheCodeNothingIsHad() {
        startFerry();
        startRelay();
        const auto wrong = connected(port_, line::newPairingCode());
        QVERIFY(QTest::qWaitFor([&] { return wrong->state().line == DeviceState::Line::Refused; }, kPatience));
        QVERIFY(wrong->state().trouble.find("pairing code is not that of the device") != std::string::npos);
        QVERIFY(only().name.empty());
    }

    void aThousandStrangersDoNotKeepTheRightOneOut() {
        startFerry();
        startRelay();
        std::mt19937 random(11);
        std::vector<Descriptor> idle;
        for (int i = 0; i < 1000; ++i) {
            QVERIFY2(relay_->state() == QProcess::Running, "it goes on");
            Descriptor stranger = connectToLoopback(port_);
            QVERIFY(stranger);
            std::string bytes(random() % 300, '\0');
            for (char& byte : bytes) byte = static_cast<char>(random());
            if (i % 3 == 0) bytes = std::string("\x16\x03\x01\x40\x00\x01\x00\x3f\xfc", 9);  // a hello that never ends
            ::send(stranger.get(), bytes.data(), bytes.size(), MSG_NOSIGNAL);
            if (i % 10 == 0) idle.push_back(std::move(stranger));
        }
        const auto connection = connected(port_, code_);
        QVERIFY(isConnected(*connection));
        QVERIFY(JoinedProgram::join(only().socket, path("run.fugato"), {}));
        QCOMPARE(relay_->state(), QProcess::Running);
    }

    void aRelayThatLiesIsNotBelieved_data() {
        QTest::addColumn<int>("lie");
        const char* const lies[] = {
            "random bytes",    "a length of gigabytes",      "a gap in a recording",  "an end too early",
            "another version", "names of sockets elsewhere", "thousands of programs", "channels that are not there"};
        for (int i = 0; i < 8; ++i) QTest::newRow(lies[i]) << i;
    }
    void aRelayThatLiesIsNotBelieved() {
        QFETCH(int, lie);
        uint16_t port = 0;
        const Descriptor listening = listenOnLoopback(port);
        const std::string code = line::newPairingCode();
        const auto connection = connected(port, code);
        pollfd caller{listening.get(), POLLIN, 0};
        QVERIFY(::poll(&caller, 1, 10'000) == 1);
        SecureLine there(Descriptor(::accept4(listening.get(), nullptr, nullptr, SOCK_NONBLOCK | SOCK_CLOEXEC)),
                         SecureLine::Side::Device, *line::keyOf(code));
        const auto word = [&](Message message) { there.send(line::wordChunk(message)); };
        uint32_t channel = 0;
        std::string asked;  // the packets that came
        const auto work = [&](int ms) {
            bool holds = true;
            for (int i = 0; holds && i < ms; i += 5) {
                holds = there.work();
                while (const auto chunk = there.next()) {
                    if (chunk->kind == Chunk::Kind::Packet) asked += chunk->bytes;
                    const auto said = control::messageIn(chunk->bytes);
                    if (said && said->word == "open") {
                        channel = static_cast<uint32_t>(said->number("channel"));
                        word(Message{"opened", {}}.with("channel", uint64_t{channel}).with("id", "1"));
                    }
                }
                QTest::qWait(5);
            }
            return holds;
        };
        while (!there.isOpen() && work(5)) {
        }
        word(Message{"device", {}}.with("version", uint64_t{lie == 4 ? 9u : 1u}).with("name", "liar"));
        Message programs{"programs", {}};
        programs.with("socket", lie == 5 ? "../../4711-a.sock" : "4711-a.sock");
        if (lie == 6)
            for (int i = 0; i < 390; ++i) programs.with("socket", std::to_string(i) + "-a.sock");
        word(programs);
        work(200);
        const QStringList sockets = QDir(folder_->filePath("here/fugato")).entryList(QDir::System);
        if (lie == 4) {
            QVERIFY(connection->state().trouble.find("another version") != std::string::npos);
            QVERIFY(sockets.isEmpty());
            return;
        }
        QCOMPARE(sockets.size(), lie == 5 ? 0 : lie == 6 ? 256 : 1);
        if (sockets.size() != 1) return;
        // A recording is asked for here.
        const Descriptor client(::socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
        const auto address = control::addressOf(path("here/fugato/") + sockets[0].toStdString());
        QVERIFY(::connect(client.get(), reinterpret_cast<const sockaddr*>(&*address), sizeof *address) == 0);
        const Descriptor file(::open(path("run.fugato").c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
        QVERIFY(control::sendMessage(client.get(), {"record", {}}, file.get()));
        QVERIFY(QTest::qWaitFor([&] { return work(20) && asked.find("record") != std::string::npos; }, kPatience));
        there.send({Chunk::Kind::Recording, channel, 0, "the first bytes"});
        work(100);
        QCOMPARE(QFileInfo(QString::fromStdString(path("run.fugato"))).size(), 15);
        lieAbout(lie, there, channel);
        const bool breaks = lie != 7;
        const bool broke = QTest::qWaitFor(
            [&] {
                work(20);
                return connection->state().line == DeviceState::Line::Broken;
            },
            breaks ? kPatience : 500);
        QCOMPARE(broke, breaks);
        QVERIFY(QFileInfo(QString::fromStdString(path("run.fugato"))).size() <= 15 + 200 * 40);
    }
};

QTEST_GUILESS_MAIN(RelayTest)
#include "relay_test.moc"
