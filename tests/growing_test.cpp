// SPDX-License-Identifier: GPL-3.0-or-later
//
// Recordings that are read on while their program still writes them: at any moment they say what the whole file, read
// anew, would say.
#include "core/explain/causes/growing.h"

#include <fcntl.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>
#include <deque>

#include "core/model/growing_recording.h"
#include "core/model/streams/sorted_list.h"
#include "core/store/arena.h"
#include "core/store/shared_list.h"
#include "format/binary_reader.h"
#include "testing/making.h"
#include "testing/patience.h"
#include "testing/said.h"

using namespace fugato;

namespace {

/// Another process that counts as the one that writes a file.
class Writer {
public:
    explicit Writer(const std::string& path) {
        int ready[2];
        if (::pipe(ready) != 0) qFatal("no pipe");
        child_ = ::fork();
        if (child_ == 0) {
            ::prctl(PR_SET_PDEATHSIG, SIGKILL);  // not left behind where the test ends early
            const int fd = ::open(path.c_str(), O_RDWR);
            struct flock lock {};
            lock.l_type = F_WRLCK;
            lock.l_whence = SEEK_SET;
            const char told = fcntl(fd, F_SETLK, &lock) == 0 ? 'y' : 'n';
            if (::write(ready[1], &told, 1) != 1) _exit(1);
            for (;;) ::pause();
        }
        char told = 'n';
        if (::read(ready[0], &told, 1) != 1 || told != 'y') qFatal("no lock");
        ::close(ready[0]);
        ::close(ready[1]);
    }
    ~Writer() { end(); }
    void end() {
        if (child_ <= 0) return;
        ::kill(child_, SIGKILL);
        ::waitpid(child_, nullptr, 0);
        child_ = 0;
    }

private:
    pid_t child_ = 0;
};

/// Bytes that come over a connection, as far as they have come.
class ConnectionSource final : public ByteSource {
public:
    struct Connection {
        std::string came;
        bool open = true;
    };
    explicit ConnectionSource(std::shared_ptr<Connection> connection) : connection_(std::move(connection)) {}
    uint64_t size() const override { return size_; }
    size_t read(uint64_t offset, char* out, size_t count) override {
        if (offset >= size_) return 0;
        const size_t part = std::min<uint64_t>(count, size_ - offset);
        std::memcpy(out, connection_->came.data() + offset, part);
        return part;
    }
    bool beingWritten() const override { return connection_->open; }
    void refresh() override { size_ = connection_->came.size(); }

private:
    const std::shared_ptr<Connection> connection_;
    uint64_t size_ = 0;
};

QByteArray bytesOf(const QString& path) {
    QFile file(path);
    if (!file.open(QIODevice::ReadOnly)) qFatal("no file");
    return file.readAll();
}

/// The offset at which a closed file's index begins: before it, it looks as while it was written.
qint64 indexAt(const QByteArray& bytes) {
    MemorySource source(bytes.toStdString());
    struct Nothing final : EventSink {
        void started(int64_t) override {}
        void define(const Definition&) override {}
        void event(uint32_t, const Event&) override {}
    } nothing;
    const auto reader = BinaryReader::open(source, "test", nothing);
    qint64 end = 0;
    for (const auto& block : (*reader)->directory().blocks)
        end = std::max(end, qint64(block.offset + sizeof(layout::BlockHeader) + block.payloadBytes +
                                   layout::padding(block.payloadBytes)));
    return end;
}

/// A finished recording that comes piece by piece into another file, which seems to be written still.
struct InPieces {
    const QByteArray bytes;
    const QString path;
    Writer writer;
    GrowingRecording reading;

    InPieces(const QString& made, const QString& to, int part, int of)
        : bytes(bytesOf(made)),
          path(put(to, bytes.left(indexAt(bytes) * part / of))),
          writer(path.toStdString()),
          reading(path.toStdString(), {}) {}
    void upTo(int part, int of) {
        const qint64 there = QFileInfo(path).size();
        put(path, bytes.mid(there, indexAt(bytes) * part / of - there));
    }
    static const QString& put(const QString& to, const QByteArray& more) {
        QFile out(to);
        if (!out.open(QIODevice::Append) || out.write(more) != more.size()) qFatal("no room");
        return to;
    }
};

}  // namespace

class GrowingTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;

    QString path(const char* name) { return folder_.filePath(name); }
    void put(const QString& to, const QByteArray& bytes) {
        QFile out(to);
        QVERIFY(out.open(QIODevice::ReadWrite));
        out.seek(out.size());
        out.write(bytes);
    }
    void run(const QStringList& options, const QString& to) {
        QProcess process;
        process.start(SKERRY_PROGRAM, options + QStringList{"--overwrite", "--out", to});
        QVERIFY(process.waitForFinished(kPatience) && process.exitCode() == 0);
    }

    /// Their time late, their frames and their order, whatever was gathered before.
    static void causesAreWhatTheirFramesHave(const Explanation& e) {
        std::vector<int64_t> late(e.causes.size());
        std::vector<std::vector<uint32_t>> frames(e.causes.size());
        for (const uint32_t frame : e.late) {
            int64_t shared = 0;
            for (const CauseShare& share : e.sharesOf(frame)) {
                shared += share.late;
                late[share.cause] += share.late;
                if (frames[share.cause].empty() || frames[share.cause].back() != frame)
                    frames[share.cause].push_back(frame);
            }
            QCOMPARE(shared, e.frames[frame].overrun);
        }
        for (size_t i = 0; i < e.causes.size(); ++i) {
            QCOMPARE(e.causes[i].late, late[i]);
            QCOMPARE(e.causes[i].frames, frames[i]);
        }
        for (uint32_t from = 0, to; from < e.frames.size(); from = to) {  // groups are of these frames, too
            to = std::min(from + 1 + from % 300, static_cast<uint32_t>(e.frames.size()));
            FrameGroup all = groupOfOne(from, e.frames[from]);
            for (uint32_t i = from + 1; i < to; ++i) all.add(groupOfOne(i, e.frames[i]));
            QVERIFY(e.groupOf(from, to) == all);
        }
        for (size_t i = 1; i < e.listed; ++i)
            QVERIFY(e.causes[i - 1].key.startUp < e.causes[i].key.startUp ||
                    (e.causes[i - 1].key.startUp == e.causes[i].key.startUp && late[i - 1] >= late[i]));
    }

private slots:
    void whatIsReadOnSaysWhatTheWholeFileSays_data() {
        QTest::addColumn<QStringList>("options");
        QTest::addColumn<int>("pieces");
        QTest::newRow("the race") << QStringList{"--virtual", "--seed", "3", "--seconds", "6"} << 12;
        QTest::newRow("everything told, in real time") << QStringList{"--seconds", "2", "--seed", "5"} << 9;
        QTest::newRow("many lanes, deep") << QStringList{"--scale", "200000", "--seed", "2"} << 7;
    }
    void whatIsReadOnSaysWhatTheWholeFileSays() {
        QFETCH(QStringList, options);
        QFETCH(int, pieces);
        const QString made = path("made.fugato"), growing = path("growing.fugato");
        QFile::remove(growing);
        run(options, made);
        const QByteArray bytes = bytesOf(made);
        const qint64 whole = indexAt(bytes);
        put(growing, bytes.left(64));
        Writer writer(growing.toStdString());
        const bool realTime = !options.contains("--virtual") && !options.contains("--scale");

        OpenOptions kept;
        kept.indexFolder = folder_.filePath("indexes").toStdString();
        GrowingRecording reading(growing.toStdString(), kept);
        std::vector<std::pair<std::shared_ptr<const Recording>, QByteArray>> had;
        std::mt19937 random(7);
        qint64 written = 64;
        for (int piece = 1; piece <= pieces; ++piece) {
            // Up to anywhere, also into the middle of a block.
            const qint64 until = piece == pieces ? whole : whole * piece / pieces + qint64(random() % 999);
            put(growing, bytes.mid(written, until - written));
            written = until;
            const auto now = reading.read();
            QVERIFY(now);
            QVERIFY(now->growing);
            OpenOptions same;
            same.before = now;  // for the numbers of paths only
            const auto anew = openRecording(growing.toStdString(), {}, same);
            QVERIFY(anew.ok());
            QVERIFY((*anew)->growing);
            QCOMPARE(now->markerCount(), (*anew)->markerCount());
            if (!realTime) QVERIFY(saidBy(*now) == saidBy(**anew));  // else times differ by what clocks are refined
            QCOMPARE(now->damage.lostEvents, uint64_t{0});
            QCOMPARE(now->repairs.timesBackwards, uint64_t{0});
            QCOMPARE(now->repairs.beginsWithoutEnd, uint64_t{0});  // what is open is nothing to be mended
            QCOMPARE(now->damage.notes.size(), size_t{1});
            QVERIFY(QString::fromStdString(now->damage.notes[0]).contains("still being made"));
            had.emplace_back(now, saidBy(*now));
            if (piece % 3 == 0) had.erase(had.begin());  // its room is used again
        }
        for (const auto& [recording, said] : had) QVERIFY(saidBy(*recording) == said);  // nothing moved under anyone
        const auto all = openRecording(made.toStdString());
        QVERIFY(all.ok());
        QCOMPARE(had.back().first->markerCount(), (*all)->markerCount());
        for (size_t i = 0; i < (*all)->series.size(); ++i)
            QCOMPARE(had.back().first->series[i].frames.size(), (*all)->series[i].frames.size());
    }

    void nothingNewIsTheSameAgainAndAnEndIsTold() {
        const QString made = path("made.fugato"), growing = path("ends.fugato");
        run({"--virtual", "--seed", "1", "--seconds", "2"}, made);
        const QByteArray bytes = bytesOf(made);
        put(growing, bytes.left(indexAt(bytes)));
        Writer writer(growing.toStdString());
        GrowingRecording reading(growing.toStdString(), {});
        const auto first = reading.read();
        const auto again = reading.read();
        QVERIFY(first && again && first != again);
        QVERIFY(saidBy(*first) == saidBy(*again));
        writer.end();
        QVERIFY(!reading.read());  // its program is gone: to be opened as any other
    }

    void whatAConnectionBringsIsReadOnLikeAFile() {
        const QString made = path("made.fugato");
        run({"--virtual", "--seed", "4", "--seconds", "3"}, made);
        const std::string bytes = bytesOf(made).left(indexAt(bytesOf(made))).toStdString();
        const auto connection = std::make_shared<ConnectionSource::Connection>();
        GrowingRecording reading(std::make_unique<ConnectionSource>(connection), "a connection", {});
        QVERIFY(!reading.read());  // nothing came yet
        std::shared_ptr<const Recording> now;
        for (size_t came = 0; came < bytes.size();) {
            const size_t part = std::min<size_t>(40'001, bytes.size() - came);
            connection->came.append(bytes, came, part);
            came += part;
            now = reading.read();
            QVERIFY(now && now->growing);
        }
        MemorySource whole(bytes);
        OpenOptions same;
        same.before = now;
        const auto anew = openRecording(whole, "test", {}, same);
        QVERIFY(anew.ok());
        QCOMPARE(now->markerCount(), (*anew)->markerCount());
        connection->open = false;
        QVERIFY(!reading.read());  // the other side has hung up
    }

    void anotherFileOfTheSameNameIsNotReadOn() {
        const QString one = path("one.fugato"), other = path("other.fugato"), growing = path("replaced.fugato");
        run({"--virtual", "--seed", "1", "--seconds", "2"}, one);
        run({"--scale", "20000"}, other);
        const QByteArray bytes = bytesOf(one), others = bytesOf(other);
        put(growing, bytes.left(indexAt(bytes)));
        {
            Writer writer(growing.toStdString());
            GrowingRecording reading(growing.toStdString(), {});
            QVERIFY(reading.read());
            QVERIFY(QFile::resize(growing, 0));
            QVERIFY(!reading.read());  // shorter than it was
            put(growing, others.left(indexAt(others)));
            put(growing, bytes);
            QVERIFY(!reading.read());  // longer, and another recording
        }
        GrowingRecording nobodys(growing.toStdString(), {});
        QVERIFY(!nobodys.read());
        GrowingRecording none(path("none.fugato").toStdString(), {});
        QVERIFY(!none.read());
    }

    /// Operations, memory and cores in any order: at every moment a recording that grew says what one says that is told
    /// the same at once.
    void whatLanesShareSaysTheSameHoweverItCame() {
        struct Told {
            uint32_t lane;
            Event event;
        };
        constexpr uint32_t kLanes = 4, kCores = 2;
        for (uint32_t seed = 0; seed < 30; ++seed) {
            std::mt19937 random(seed);
            const auto define = [](ModelBuilder& builder) {
                for (uint32_t i = 1; i <= kLanes; ++i)
                    builder.define(LaneDefinition{i, LaneKind::Thread, i == kLanes ? 0u : 100u + i, "t", ""});
                for (uint32_t i = 1; i <= kCores; ++i)
                    builder.define(LaneDefinition{kLanes + i, LaneKind::Core, 0, "core", ""});
            };
            ModelBuilder growing;
            define(growing);
            std::vector<Told> all;
            int64_t now = 0;
            uint64_t number = 1;
            std::deque<std::pair<std::shared_ptr<const Recording>, QByteArray>> before;
            for (int piece = 0; piece < 12; ++piece) {
                std::vector<Told> fresh;
                for (int i = 0; i < 40; ++i) {
                    now += 1 + static_cast<int64_t>(random() % 8'000'000);
                    const uint32_t lane = 1 + random() % kLanes;
                    const uint64_t some = 1 + random() % number;
                    const auto tell = [&](EventKind kind, uint32_t id, uint64_t a, uint64_t b = 0) {
                        fresh.push_back({lane, {now, kind, id, a, b, {}}});
                    };
                    switch (random() % 7) {
                        case 0:
                        case 1: tell(EventKind::OperationBegin, 1 + random() % 3, number++); break;
                        case 2: tell(EventKind::OperationStep, 5, some); break;
                        case 3: tell(EventKind::OperationEnd, 0, some, random() % 3); break;
                        case 4: tell(EventKind::MemoryTaken, 1 + random() % 2, random() % 20, 1 + random() % 90); break;
                        case 5: tell(EventKind::MemoryGiven, 1 + random() % 2, random() % 20); break;
                        default: {
                            const uint32_t what = random() % 9;
                            fresh.push_back({kLanes + 1 + static_cast<uint32_t>(random() % kCores),
                                             {now,
                                              what < 5   ? EventKind::Switch
                                              : what < 8 ? EventKind::WakeUp
                                                         : EventKind::ThreadEnd,
                                              100 + static_cast<uint32_t>(random() % 6),
                                              random() % 2 ? 100 + random() % 6 : random() % 2,
                                              0,
                                              {}}});
                        }
                    }
                }
                // Lanes come one after another, and now and then one comes much later than the others.
                std::stable_sort(fresh.begin(), fresh.end(), [](auto& x, auto& y) { return x.lane < y.lane; });
                const uint32_t held = piece < 11 && seed % 3 == 0 ? 1 + random() % kLanes : 0;
                for (const Told& told : fresh)
                    if (told.lane != held) all.push_back(told), growing.event(told.lane, told.event);
                const auto grown = growing.asItIs();
                ModelBuilder atOnce;
                define(atOnce);
                for (const Told& told : all) atOnce.event(told.lane, told.event);
                const auto anew = atOnce.asItIs();
                const QByteArray where = QString("seed %1, piece %2").arg(seed).arg(piece).toUtf8();
                QVERIFY2(saidBy(*grown) == saidBy(*anew), where);
                // What was said at moments before stays so, however many of them are looked at still.
                before.emplace_back(grown, saidBy(*grown));
                while (before.size() > 1 + random() % 4) before.pop_front();
                for (const auto& [moment, said] : before) QVERIFY2(saidBy(*moment) == said, where);
                QCOMPARE(grown->repairs.endsWithoutBegin, anew->repairs.endsWithoutBegin);
                // No two operations stand in one row at one time.
                for (size_t i = 0; i < grown->operations.size(); ++i)
                    for (size_t k = 0; k < i; ++k)
                        QVERIFY(grown->operations[k].row != grown->operations[i].row ||
                                grown->operations[k].end <= grown->operations[i].begin);
                if (held) {  // what was held back comes now, before what comes next
                    for (const Told& told : fresh)
                        if (told.lane == held) all.push_back(told), growing.event(told.lane, told.event);
                }
            }
        }
    }

    void namesToldAfterTheirUseAreStillTheirs() {
        ModelBuilder builder;
        builder.event(1, {10, EventKind::MarkBegin, 7, 0, 0, {}});
        builder.event(1, {20, EventKind::MarkEnd, 0, 0, 0, {}});
        auto r = builder.asItIs();
        QCOMPARE(r->nameOf(r->lanes[0].rows[0].path(0)), std::string("marker 7"));
        QCOMPARE(r->repairs.unknownNames, uint64_t{1});
        SiteDefinition site;
        site.id = 7;
        site.name = "Hoist sail";
        builder.define(site);
        builder.define(LaneDefinition{1, LaneKind::Thread, 0, "crew", ""});
        const auto now = builder.asItIs();
        QCOMPARE(now->nameOf(now->lanes[0].rows[0].path(0)), std::string("Hoist sail"));
        QCOMPARE(now->repairs.unknownNames, uint64_t{0});
        QCOMPARE(now->lanes[0].name, std::string("crew"));
        QCOMPARE(r->nameOf(r->lanes[0].rows[0].path(0)), std::string("marker 7"));  // what was handed out stays
    }

    void whatIsOpenLastsToItsLanesLastEvent() {
        ModelBuilder builder;
        builder.define(LaneDefinition{1, LaneKind::Thread, 0, "crew", ""});
        builder.define(ObjectDefinition{1, "locker"});
        for (uint32_t id = 1; id <= 2; ++id) {
            SiteDefinition site;
            site.id = id;
            site.name = "site " + std::to_string(id);
            builder.define(site);
        }
        const auto told = [&](int64_t time, EventKind kind, uint32_t id = 0, uint64_t a = 0, uint64_t b = 0) {
            builder.event(1, {time, kind, id, a, b, {}});
        };
        told(0, EventKind::MarkBegin, 1);
        told(5, EventKind::Taken, 1);
        told(10, EventKind::WaitBegin, 1, 2, 1);
        const auto at10 = builder.asItIs();
        const Lane& before = at10->lanes[0];
        QCOMPARE(before.rows[0].end(0), int64_t{10});
        QCOMPARE(before.waits.size(), size_t{1});
        QCOMPARE(before.waits[0].end, int64_t{10});
        QCOMPARE(at10->holds[0].size(), size_t{1});
        QCOMPARE(at10->holds[0][0].end, int64_t{10});
        told(30, EventKind::WaitEnd);
        told(40, EventKind::Given, 1);
        told(50, EventKind::MarkEnd);
        const auto at50 = builder.asItIs();
        const Lane& after = at50->lanes[0];
        QCOMPARE(after.rows[0].end(0), int64_t{50});
        QVERIFY(!(after.rows[0].flags(0) & kMarkerEndRepaired));
        QCOMPARE(after.waits[0].end, int64_t{30});
        QCOMPARE(at50->holds[0].size(), size_t{1});  // the one that counted as given back is not there twice
        QCOMPARE(at50->holds[0][0].end, int64_t{40});
        QCOMPARE(before.rows[0].end(0), int64_t{10});
        QCOMPARE(before.waits[0].end, int64_t{10});
        QVERIFY(!at50->repairs.any());
    }

    void locksOfALaneThatIsSilentStandInOrderToo() {
        ModelBuilder builder;
        builder.define(LaneDefinition{1, LaneKind::Thread, 0, "reader", ""});
        builder.define(LaneDefinition{2, LaneKind::Thread, 0, "other reader", ""});
        builder.define(ObjectDefinition{1, "chart"});
        builder.event(1, {5, EventKind::Taken, 1, 0, 0, {}});  // and says nothing for seconds
        size_t released = 0;
        for (int64_t second = 0; second < 5; ++second) {
            for (int64_t ms = 0; ms < 1000; ms += 50, ++released) {
                const int64_t at = (second * 1000 + ms) * 1'000'000 + 10;
                builder.event(2, {at, EventKind::Taken, 1, 0, 0, {}});
                builder.event(2, {at + 1'000'000, EventKind::Given, 1, 0, 0, {}});
            }
            const auto now = builder.asItIs();
            QCOMPARE(now->holds[0].size(), released + 1);
            QVERIFY(std::is_sorted(now->holds[0].begin(), now->holds[0].end(), byEnd));
        }
        builder.event(1, {6'000'000'000, EventKind::Given, 1, 0, 0, {}});
        const auto at6 = builder.asItIs();
        QCOMPARE(at6->holds[0].size(), released + 1);
        QCOMPARE(at6->holds[0].back().begin, int64_t{5});
    }

    void everyMomentOfRandomRecordingsIsAsIfItEndedThere() {
        // Lanes told in turns, in pieces of random length: the same events, once read on and once anew each time.
        for (uint32_t seed = 1; seed <= 6; ++seed) {
            std::mt19937 random(seed);
            const std::vector<ToldEvent> all = toldAtRandom(random, 30'000);
            ModelBuilder growing;
            defineTold(growing);
            for (size_t told = 0; told < all.size();) {
                const size_t until = std::min(all.size(), told + 1 + random() % 9'000);
                for (; told < until; ++told) growing.event(all[told].lane, all[told].event);
                const auto now = growing.asItIs();
                ModelBuilder anew;
                defineTold(anew);
                anew.keepPathsOf(*now);
                for (size_t i = 0; i < told; ++i) anew.event(all[i].lane, all[i].event);
                QVERIFY(saidBy(*now) == saidBy(*anew.finish()));
            }
        }
    }

    void leasesUseTheRoomOfThoseThatEnded() {
        auto storage = Storage::inMemory();
        auto room = std::make_shared<ArenaPool>(storage);
        uint64_t sizeAfterFirst = 0;
        for (int round = 0; round < 20; ++round) {
            Arena arena(room);
            std::vector<std::pair<uint64_t, size_t>> places;
            for (size_t bytes : {size_t{1}, size_t{100}, size_t{300'000}, size_t{7}, size_t{200'000}}) {
                const uint64_t at = arena.allocate(bytes);
                QCOMPARE(at % 8, uint64_t{0});
                std::memset(arena.at(at), round + 1, bytes);
                for (const auto& [other, size] : places) QVERIFY(at >= other + size || at + bytes <= other);
                places.emplace_back(at, bytes);
            }
            for (const auto& [at, bytes] : places)
                for (size_t i = 0; i < bytes; i += 97) QCOMPARE(int(arena.at(at)[i]), round + 1);
            if (!round) sizeAfterFirst = storage->size();
        }
        QCOMPARE(storage->size(), sizeAfterFirst);
        Arena one(room), other(room);  // at the same time they do not share it
        const uint64_t a = one.allocate(1000), b = other.allocate(1000);
        QVERIFY(a + 1000 <= b || b + 1000 <= a);
    }

    void copiesOfASharedListKeepWhatTheyHaveAndShareWhatIsTheSame() {
        std::mt19937 random(8);
        std::deque<SharedList<int>> lists(1);
        std::deque<std::vector<int>> wanted(1);
        for (int round = 0; round < 300; ++round) {
            SharedList<int>& list = lists.emplace_back(lists.back());
            std::vector<int>& values = wanted.emplace_back(wanted.back());
            const size_t left = values.size() - random() % (values.size() / 4 + 1), more = left + random() % 700;
            list.resize(left);
            list.resize(more);
            values.resize(left);
            values.resize(more);
            if (round % 50 == 7) list.copyShared();
            for (size_t i = 0; i < 5 && more; ++i) {
                const size_t any = random() % more;
                list.change(any) = values[any] = round;
            }
            for (size_t i = left; i < more; i += 3) list.change(i) = values[i] = round;
        }
        for (size_t i = 0; i < lists.size(); ++i) {
            QCOMPARE(lists[i].size(), wanted[i].size());
            QVERIFY(std::equal(lists[i].begin(), lists[i].end(), wanted[i].begin(), wanted[i].end()));
        }
        SharedList<int> longer;
        longer.resize(100'000);
        SharedList<int> copy = longer;
        copy.change(50'000) = 1;
        QVERIFY(&copy[0] == &longer[0] && &copy[99'999] == &longer[99'999]);
        QVERIFY(longer[50'000] == 0 && copy[50'000] == 1);
    }

    void mergedRunsAreWhatAStableSortMakes() {
        std::mt19937 random(4);
        using Entry = std::pair<int, int>;  // by what is sorted, and which it was
        const auto less = [](const Entry& x, const Entry& y) { return x.first < y.first; };
        for (const size_t runs : {0u, 1u, 2u, 3u, 4u, 7u, 64u, 1000u})
            for (const size_t before : {0u, 1u, 50u}) {
                std::vector<Entry> all;
                const auto add = [&](int key) { all.emplace_back(key, static_cast<int>(all.size())); };
                for (size_t i = 0; i < before; ++i) add(static_cast<int>(random() % 100));
                for (size_t run = 0; run < runs; ++run) {
                    int key = static_cast<int>(random() % 20);
                    for (size_t i = random() % 5 ? random() % 30 : 0; i > 0; --i) add(key += random() % 3);
                }
                std::vector<Entry> wanted = all;
                std::stable_sort(wanted.begin() + static_cast<std::ptrdiff_t>(before), wanted.end(), less);
                mergeRuns(all, before, less);
                QVERIFY(all == wanted);
            }
    }

    void columnsOfAGrowingListStayWhatTheyWereAndShareTheirRoom() {
        struct Entry {
            int64_t time;
            uint64_t number, changed = 0;
            bool operator==(const Entry&) const = default;
        };
        auto storage = Storage::inMemory();
        auto pool = std::make_shared<ArenaPool>(storage);
        SortedList<Entry> list;
        GrowingExtremes extremes;
        std::vector<Entry> wanted;
        struct Moment {
            std::shared_ptr<Arena> arena;
            Column<Entry> column;
            std::vector<Entry> wanted;
        };
        std::deque<Moment> moments;
        std::mt19937 random(3);
        int64_t now = 0;
        for (uint64_t round = 0; round < 400; ++round) {
            for (uint64_t i = random() % 200; i > 0; --i) {
                now += static_cast<int64_t>(random() % 1'000'000);
                // Mostly in order; now and then much too late.
                const auto late =
                    static_cast<int64_t>(random() % 300 ? random() % 50'000'000 : random() % 2'000'000'000);
                const Entry entry{std::max<int64_t>(0, now - late), round * 1000 + i};
                list.add(entry);
                wanted.push_back(entry);
            }
            std::stable_sort(wanted.begin(), wanted.end(), byTime);
            Moment& moment = moments.emplace_back();
            moment.arena = std::make_shared<Arena>(pool);
            auto& sorted = list.sorted(byTime);
            const size_t same = sorted.settled(), settled = list.settles(&Entry::time);
            QVERIFY(settled >= same);
            const bool many = round % 50 == 49;
            for (uint64_t i = wanted.empty() ? 0 : many ? wanted.size() : random() % 20; i > 0; --i) {
                const size_t any = random() % wanted.size();
                wanted[any].changed = round;
                sorted.set(any, wanted[any]);
                QVERIFY(sorted[any] == wanted[any]);
            }
            moment.column = sorted.column(*moment.arena, settled);
            moment.wanted = wanted;
            QVERIFY(moment.column == wanted);
            const auto values = [&](size_t k) { return moment.column[k].number; };
            const std::vector<Extreme> found = extremes.of(wanted.size(), same, settled, values),
                                       anew = GrowingExtremes().of(wanted.size(), 0, 0, values);
            QVERIFY(std::equal(found.begin(), found.end(), anew.begin(), anew.end(),
                               [](auto& x, auto& y) { return x.low == y.low && x.high == y.high; }));
            const std::vector<Entry> more{{now, 7}, {now, 8}};
            std::vector<Entry> withMore = wanted;
            withMore.insert(withMore.end(), more.begin(), more.end());
            std::vector<Entry> shown = sorted.tail();
            shown.insert(shown.end(), more.begin(), more.end());
            QVERIFY(sorted.column(*moment.arena, 0, shown) == withMore);
            while (moments.size() > 1 + random() % 4) moments.pop_front();  // its room is used again
            for (const Moment& one : moments) QVERIFY(one.column == one.wanted);
        }
        QVERIFY2(list.list().tail().size() < 2000, "what is settled is not kept in memory");
        const uint64_t bytes = wanted.size() * sizeof(Entry);
        QVERIFY2(storage->size() < 40 * bytes, qPrintable(QString("%1 of %2").arg(storage->size()).arg(bytes)));
    }

    void newFramesAreThoseThatAreReadAndExplainedLater() {
        run({"--virtual", "--seed", "6", "--seconds", "20"}, path("race.fugato"));
        InPieces file(path("race.fugato"), path("frames.fugato"), 5, 20);
        GrowingRecording& reading = file.reading;
        QVERIFY2(!reading.readFrames(0, "frame"), "read() comes first");
        auto now = reading.read();
        QVERIFY(now);
        const std::string series = now->series[0].name;
        size_t compared = 0, judgedAlike = 0;
        for (int part = 6; part <= 20; ++part) {
            file.upTo(part, 20);
            const size_t known = now->series[0].frames.size(), from = known - 10;
            const auto frames = reading.readFrames(from, series);
            QVERIFY(frames && frames->size() >= 10);
            QVERIFY(reading.readFrames(known, "no such series")->empty());
            now = reading.read();
            const auto e = explain(now, sumCriticalPaths(*now, 0), 0);
            QCOMPARE(e->frames.size(), from + frames->size());
            for (size_t i = 0; i < frames->size(); ++i) {
                const auto index = static_cast<uint32_t>(from + i);
                const auto& [frame, pacing] = (*frames)[i];
                const Frame& later = e->frame(index);
                QVERIFY(std::tie(frame.begin, frame.end, frame.deadline, frame.lane) ==
                        std::tie(later.begin, later.end, later.deadline, later.lane));
                ++compared;
                judgedAlike += e->judged(frame, pacing, 0).overrun == e->frames[index].overrun;
            }
        }
        QVERIFY2(compared > 600, qPrintable(QString::number(compared)));
        QVERIFY2(judgedAlike > compared * 95 / 100, qPrintable(QString::number(judgedAlike)));  // by their own pacing
        file.writer.end();
        QVERIFY(!reading.readFrames(0, series));
    }

    void percentilesOfDurationsAreThoseOfASortedList() {
        std::mt19937 random(8);
        for (int round = 0; round < 300; ++round) {
            Durations durations;
            std::vector<int64_t> all;
            const auto some = [&](size_t most) {
                std::vector<int64_t> made(random() % most);
                for (int64_t& one : made) one = random() % (round % 2 ? 10 : 100'000);
                std::sort(made.begin(), made.end());
                return made;
            };
            for (uint32_t upTo = 1; upTo <= 3; ++upTo) {
                const auto more = some(50), rest = some(20);
                durations.settle(more, upTo);
                QCOMPARE(durations.settledUpTo(), upTo);
                durations.setRest(rest);
                all.insert(all.end(), more.begin(), more.end());
                std::vector<int64_t> sorted = all;
                sorted.insert(sorted.end(), rest.begin(), rest.end());
                std::sort(sorted.begin(), sorted.end());
                QCOMPARE(durations.size(), sorted.size());
                for (size_t rank = 1; rank <= sorted.size(); ++rank) {
                    const double part = (static_cast<double>(rank) - 0.5) / static_cast<double>(sorted.size());
                    QCOMPARE(durations.percentile(part), sorted[rank - 1]);
                }
                if (!sorted.empty()) QCOMPARE(durations.percentile(1), sorted.back());
            }
        }
    }

    void explainedFurtherWhileItIsReadOn() {
        // Without what a system sees, whose blocks would come long after the others' where the file is written at once.
        run({"--virtual", "--system", "none", "--seed", "2", "--seconds", "60"}, path("race.fugato"));
        InPieces file(path("race.fugato"), path("explained.fugato"), 10, 20);
        GrowingRecording& reading = file.reading;
        auto now = reading.read();
        auto e = explain(now, sumCriticalPaths(*now, 0), 0);
        uint32_t taken = 0;
        for (int part = 11; part <= 20; ++part) {
            file.upTo(part, 20);
            now = reading.read();
            QVERIFY(now);
            taken += framesThatStand(*e, *now);
            e = explainIncrementally(now, *e);
            const auto anew = explain(now, sumCriticalPaths(*now, 0), 0);
            QCOMPARE(e->frames.size(), anew->frames.size());
            QCOMPARE(e->late.size(), anew->late.size());
            QCOMPARE(e->figures.late, anew->figures.late);
            for (const auto figure : {&Figures::p50, &Figures::p95, &Figures::p99, &Figures::worst})
                QCOMPARE(e->figures.*figure, anew->figures.*figure);
            causesAreWhatTheirFramesHave(*e);
        }
        QVERIFY(taken > 10 * 900);  // most frames were not accounted for again
    }
};

QTEST_GUILESS_MAIN(GrowingTest)
#include "growing_test.moc"
