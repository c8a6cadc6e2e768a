// SPDX-License-Identifier: GPL-3.0-or-later
//
// Recordings of odd shapes: one marker over everything, ten thousand lanes, very long names, a day, files that were cut
// off or grew.
#include <fcntl.h>
#include <unistd.h>

#include <QFile>
#include <QTemporaryDir>
#include <QtTest>

#include "core/ask/marker_statistics.h"
#include "core/ask/nested_markers.h"
#include "core/ask/search.h"
#include "core/explain/causes/explain.h"
#include "core/model/open_recording.h"
#include "core/model/recording_index.h"
#include "testing/making.h"
#include "testing/said.h"
#include "testing/scaled_recording.h"
#include "testing/text_recording.h"

using namespace fugato;

class OddRecordingsTest : public QObject {
    Q_OBJECT

private slots:
    void oneMarkerOverEverythingWithAMillionChildren() {
        ModelBuilder builder;
        builder.event(1, {0, EventKind::MarkBegin, 1, 0, 0, {}});
        for (int64_t i = 0; i < 1'000'000; ++i) {
            builder.event(1, {i * 10 + 1, EventKind::MarkBegin, 2, 0, 0, {}});
            builder.event(1, {i * 10 + 1 + i % 7, EventKind::MarkEnd, 0, 0, 0, {}});
        }
        builder.event(1, {20'000'000, EventKind::MarkEnd, 0, 0, 0, {}});
        const auto r = builder.finish();
        const Lane& lane = r->lanes[0];
        QCOMPARE(lane.rows[1].size(), 1'000'000u);
        QVERIFY((lane.rows[1].childrenOf(0) == std::pair(0u, 1'000'000u)));
        int64_t inside = 0;
        for (int64_t i = 0; i < 1'000'000; ++i) inside += i % 7;
        QCOMPARE(r->selfTime({0, 0, 0}), 20'000'000 - inside);
        const auto table = nestedMarkers(*r, TimeRange{5'000'000, 5'000'010});
        QCOMPARE(table->rows[1].total, int64_t{10});  // the marker over everything
        QCOMPARE(table->rows[1].count, uint64_t{1});
        QVERIFY((r->innermostBefore(0, 15'000'000) == MarkerRef{0, 0, 0}));
    }

    void aMarkerNeverEndedIsHeldOverTheWholeRecording() {
        const auto r =
            TextRecording().begin(0, "main", "Open").mark(5, 9, "main", "In").begin(10, "main", "Last").open();
        QCOMPARE(r->lanes[0].rows[0].end(0), int64_t{10'000});
        QCOMPARE(statisticsOf(*r, 0, TimeRange{6'000, 8'000}, kNone)->total, int64_t{2'000});
    }

    void tenThousandLanes() {
        ModelBuilder builder;
        for (uint32_t lane = 1; lane <= 10'000; ++lane) {
            builder.define(LaneDefinition{lane, LaneKind::Thread, 0, "", lane % 2 ? "worker" : ""});
            builder.event(lane, {lane, EventKind::MarkBegin, lane % 5 + 1, 0, 0, {}});
            if (lane % 3) builder.event(lane, {lane + 40, EventKind::MarkEnd, 0, 0, 0, {}});
        }
        const auto r = builder.finish();
        QCOMPARE(r->markerCount(), size_t{10'000});
        QCOMPARE(r->groups.size(), size_t{5001});
        QCOMPARE(nestedMarkers(*r, wholeOf(*r))->lanes.size(), size_t{10'000});
        QCOMPARE(statisticsOf(*r, 0, wholeOf(*r), kNone)->longest, int64_t{40});
    }

    void manyNamesAndVeryLongOnes() {
        ModelBuilder builder;
        for (uint32_t i = 1; i <= 100'000; ++i) {
            SiteDefinition site;
            site.id = i;
            site.name = i == 77 ? std::string(10'000, 'a') : "name " + std::to_string(i);
            builder.define(site);
        }
        for (uint32_t i = 1; i <= 100'000; ++i) {
            builder.event(1, {i * 10, EventKind::MarkBegin, i, 0, 0, {}});
            builder.event(1, {i * 10 + 3, EventKind::MarkEnd, 0, 0, 0, {}});
        }
        const auto r = builder.finish();
        QCOMPARE(r->sites.size(), size_t{100'000});
        QCOMPARE(search(*r, "aaaa")->markers.size(), size_t{1});
        QCOMPARE(search(*r, "name 99999")->markers.size(), size_t{1});
        const auto table = nestedMarkers(*r, wholeOf(*r));
        QCOMPARE(table->rows[table->lanes[0]].children.size(), size_t{100'000});
    }

    void lanesWithOneEventAndMarkersOfNoLength() {
        TextRecording t;
        t.at(3, "lonely", R"("do":"point","text":"here")");
        for (int i = 0; i < 500; ++i) t.mark(7, 7, "instant", "Nothing");
        t.begin(9, "only begin", "Open");
        const auto r = t.open();
        QCOMPARE(r->lanes[laneNamed(*r, "instant")].rows[0].size(), 500u);
        const auto all =
            statisticsOf(*r, r->paths[r->lanes[laneNamed(*r, "instant")].rows[0].path(0)].site, wholeOf(*r), kNone);
        QCOMPARE(all->count, uint64_t{500});
        QCOMPARE(all->total, int64_t{0});
        QCOMPARE(all->longest, int64_t{0});
    }

    void framesOfTenMicrosecondsAndOfTenSeconds() {
        TextRecording t;
        double now = 0;
        for (int i = 0; i < 200; ++i) {
            const double length = i % 20 == 19 ? 10'000'000 : 10;
            t.frame(now, "main", 20).mark(now + 1, now + length - 1, "main", "Work").frameEnd(now + length, "main");
            now += length;
        }
        const auto r = t.open();
        const auto e = explain(r, sumCriticalPaths(*r, 0), 0);
        QCOMPARE(e->frames.size(), size_t{200});
        QCOMPARE(std::count_if(e->frames.begin(), e->frames.end(), [](auto& f) { return f.overrun > 0; }), 10l);
        QCOMPARE(e->causes.size(), size_t{1});
        const auto s = statisticsOf(*r, 0, wholeOf(*r), 0);
        QCOMPARE(s->median, int64_t{8'000});
        QCOMPARE(s->longest, int64_t{9'999'998'000});
        QCOMPARE(s->worstFrame, 19u);
    }

    void aNanosecondIsToldFromTheNextAfterADay() {
        constexpr int64_t kDay = int64_t{86'400} * 1'000'000'000;
        ModelBuilder builder;
        for (const int64_t start : {int64_t{0}, kDay / 2, kDay})
            for (int64_t i = 0; i < 5000; ++i) {
                builder.event(1, {start + i * 2, EventKind::MarkBegin, 1, 0, 0, {}});
                builder.event(1, {start + i * 2 + 1, EventKind::MarkEnd, 0, 0, 0, {}});
            }
        const auto r = builder.finish();
        const MarkerRow& row = r->lanes[0].rows[0];
        for (uint32_t i = 0; i < row.size(); i += 7) {
            const int64_t begin = std::array{int64_t{0}, kDay / 2, kDay}[i / 5000] + i % 5000 * 2;
            QCOMPARE(row.begin(i), begin);
            QCOMPARE(row.end(i), begin + 1);
            QVERIFY((r->innermostBefore(0, begin + 1) == MarkerRef{0, 0, i}));
            QVERIFY(!r->innermostBefore(0, begin + 2).valid());
        }
    }

    void aFileCutOffAnywhereKeepsEverythingBefore() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 30'000);
        QFile whole(QString::fromStdString(file));
        QVERIFY(whole.open(QIODevice::ReadOnly));
        const QByteArray bytes = whole.readAll();
        const OpenOptions options = withIndexIn(folder);
        const size_t all = opened(file)->markerCount();
        size_t before = 0;
        for (int part = 3; part < 10; part += 2) {
            const QString cut = folder.filePath(QString("cut-%1.fugato").arg(part));
            QFile out(cut);
            QVERIFY(out.open(QIODevice::WriteOnly));
            out.write(bytes.left(bytes.size() * part / 10));
            out.close();
            const auto r = opened(cut.toStdString(), options);
            QVERIFY(r->damage.any());
            QVERIFY(r->markerCount() > before && r->markerCount() < all);
            before = r->markerCount();
            const auto again = opened(cut.toStdString(), options);
            QVERIFY(again->damage.notes == r->damage.notes);  // an index remembers what was wrong
        }
    }

    void aFileThatGrewIsReadAnew() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 30'000);
        QFile whole(QString::fromStdString(file));
        QVERIFY(whole.open(QIODevice::ReadOnly));
        const QByteArray bytes = whole.readAll();
        whole.close();
        const OpenOptions options = withIndexIn(folder);
        const auto write = [&](qint64 from, qint64 to) {
            QFile out(QString::fromStdString(file));
            QVERIFY(out.open(from ? QIODevice::ReadWrite : QIODevice::WriteOnly | QIODevice::Truncate));
            out.seek(from);
            out.write(bytes.mid(from, to - from));
        };
        write(0, bytes.size() / 2);
        const auto half = opened(file, options);
        write(bytes.size() / 2, bytes.size());
        const QByteArray said = saidBy(*half);  // what is open does not change under anyone's hands
        const auto all = opened(file, options);
        QVERIFY(all->markerCount() > half->markerCount());
        QVERIFY(!all->damage.any());
        QVERIFY(saidBy(*half) == said);
        QFile::remove(QString::fromStdString(file));
        QVERIFY(saidBy(*all).size() > said.size());  // nor when the file goes
    }

    void columnsOnADiskAreNotAtHandUntilTheyAreRead() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 2'000'000);
        const OpenOptions options = withIndexIn(folder);
        opened(file, options);
        const std::string index = indexPathFor(options.indexFolder, file);
        const int fd = ::open(index.c_str(), O_RDONLY);
        QVERIFY(fd >= 0);
        ::fdatasync(fd);
        const auto r = opened(file, options);
        const Lane& lane = r->lanes[laneNamed(*r, "spray")];
        const MarkerRow& row = lane.rows[0];
        // Looking at the chunks' places makes the system read ahead; that is forgotten again.
        (void)row.resident(65'536, 131'072);
        ::posix_fadvise(fd, 0, 0, POSIX_FADV_DONTNEED);
        ::close(fd);
        if (row.resident(65'536, 131'072)) QSKIP("this disk keeps everything in memory");
        row.fetch(65'536, 131'072);
        QVERIFY(row.resident(65'536, 131'072));
    }
};

QTEST_GUILESS_MAIN(OddRecordingsTest)
#include "odd_recordings_test.moc"
