// SPDX-License-Identifier: GPL-3.0-or-later
//
// What is kept beside a recording so that opening it again is quick: that it says the same, that one that does not fit,
// is damaged, or was changed is never believed, and that it neither stays for ever nor holds anybody up.
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <QFile>
#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>
#include <random>

#include "core/explain/causes/explain.h"
#include "core/model/open_recording.h"
#include "core/model/recording_index.h"
#include "testing/cache_files.h"
#include "testing/files.h"
#include "testing/said.h"
#include "testing/scaled_recording.h"

using namespace fugato;

namespace {

template <class T>
bool equal(const Column<T>& a, const Column<T>& b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end());
}

}  // namespace

class IndexTest : public QObject {
    Q_OBJECT

private slots:
    void theNumberOfThreadsChangesNothing() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 60'000);
        OpenOptions one, three;
        one.threads = 1;
        three.threads = 3;
        const QByteArray said = saidBy(*opened(file, one));
        for (int i = 0; i < 3; ++i) QVERIFY(saidBy(*opened(file, three)) == said);
    }

    void aSecondOpeningTakesTheIndexAndSaysTheSame() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 60'000);
        const OpenOptions options = withIndexIn(folder);
        const QByteArray said = saidBy(*opened(file));
        const auto first = opened(file, options);
        QVERIFY(saidBy(*first) == said);
        QCOMPARE(indexesIn(options).size(), 1);
        // The events are not read again: a file whose middle is gone still says everything.
        const uint64_t state = stateOfFile(file);
        QVERIFY(loadIndex(indexPathFor(options.indexFolder, file), state));
        const auto second = opened(file, options);
        QVERIFY(saidBy(*second) == said);
        QVERIFY(second->storage->inFile());
        const auto a = explain(first, sumCriticalPaths(*first, 0), 0),
                   b = explain(second, sumCriticalPaths(*second, 0), 0);
        QCOMPARE(a->causes.size(), b->causes.size());
        for (size_t i = 0; i < a->causes.size(); ++i) QCOMPARE(a->causes[i].late, b->causes[i].late);
        int asked = 0;
        QVERIFY(openRecording(
                    file, [&](double) { return ++asked > 0; }, options)
                    .ok());
        QCOMPARE(asked, 0);  // nothing takes long enough to be told of
    }

    void theAccountsOfFramesAreKeptBesideTheIndex() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 60'000);
        const OpenOptions options = withIndexIn(folder);
        const auto plain = opened(file), indexed = opened(file, options);
        const auto same = [&](const CriticalPathSums& a, const CriticalPathSums& b) {
            const auto sameSlice = [](const CriticalPathSums::Slice& x, const CriticalPathSums::Slice& y) {
                return equal(x.parts, y.parts) && equal(x.calls, y.calls) && equal(x.partsFrom, y.partsFrom) &&
                       equal(x.callsFrom, y.callsFrom) && equal(x.pacing, y.pacing);
            };
            return a.keys == b.keys && a.places == b.places &&
                   std::equal(a.slices.begin(), a.slices.end(), b.slices.begin(), b.slices.end(), sameSlice) &&
                   a.measuring.inFrames == b.measuring.inFrames && a.measuring.worstFrame == b.measuring.worstFrame &&
                   a.measuring.most.size() == b.measuring.most.size();
        };
        const auto expected = sumCriticalPaths(*plain, 0);
        QVERIFY(!expected->storage->inFile());
        // What is cancelled leaves nothing behind.
        QVERIFY(!sumCriticalPaths(*indexed, 0, [](double) { return false; }));
        const QString kept = QString::fromStdString(indexed->storage->path()).replace(".index", ".frames0");
        QVERIFY(!QFile::exists(kept));
        QVERIFY(same(*expected, *sumCriticalPaths(*indexed, 0)));
        QVERIFY(QFile::exists(kept));
        int asked = 0;
        const auto again = sumCriticalPaths(*opened(file, options), 0, [&](double) { return ++asked > 0; });
        QVERIFY(same(*expected, *again));
        QVERIFY(again->storage->inFile());
        QCOMPARE(asked, 0);  // found, not worked out
        for (const PlaceKey& place : again->places) QVERIFY(again->places[again->place(place)] == place);

        // One that does not fit is made anew; bytes that are wrong never crash.
        const QByteArray good = bytesOf(kept.toStdString());
        std::mt19937 random(29);
        for (int i = 0; i < 100; ++i) {
            QByteArray bad = i == 0 ? QByteArray() : i == 1 ? good.left(good.size() / 2) : good;
            for (int k = 0; k < 4 && i > 1; ++k)
                bad[k % 2 ? int(random() % 100) : int(bad.size() - 1 - int(random() % 400))] = char(random());
            putBytes(kept.toStdString(), bad);
            QVERIFY(same(*expected, *sumCriticalPaths(*opened(file, options), 0)));
        }
        // They go when the index makes room.
        OpenOptions little = options;
        little.indexFolderBytes = 1;
        opened(scaled(folder, 5000, 9), little);
        QVERIFY(!QFile::exists(kept));
    }

    void theDemoWithAllItTellsSurvivesItsIndex() {
        const QTemporaryDir folder;
        const OpenOptions options = withIndexIn(folder);
        const auto plain = opened(FUGATO_DEMO_RECORDING);
        opened(FUGATO_DEMO_RECORDING, options);
        const auto again = opened(FUGATO_DEMO_RECORDING, options);
        QVERIFY(saidBy(*plain) == saidBy(*again));
        QCOMPARE(again->operations.size(), plain->operations.size());
        QCOMPARE(again->operationSteps.size(), plain->operationSteps.size());
        QCOMPARE(again->allocations.size(), plain->allocations.size());
        QCOMPARE(again->pictures.size(), plain->pictures.size());
        for (size_t i = 0; i < plain->pictures.size(); ++i)
            QVERIFY(again->text(again->pictures[i].pixels) == plain->text(plain->pictures[i].pixels));
        for (size_t i = 0; i < plain->pools.size(); ++i) {
            QCOMPARE(again->pools[i].name, plain->pools[i].name);
            QVERIFY(std::equal(plain->pools[i].bytesInUse.begin(), plain->pools[i].bytesInUse.end(),
                               again->pools[i].bytesInUse.begin(), again->pools[i].bytesInUse.end()));
        }
        for (size_t i = 0; i < plain->sites.size(); ++i) {
            QCOMPARE(again->sites[i].file, plain->sites[i].file);
            QCOMPARE(again->sites[i].longestNs, plain->sites[i].longestNs);
        }
        for (size_t i = 0; i < plain->groups.size(); ++i) QVERIFY(again->groups[i].lanes == plain->groups[i].lanes);
    }

    void anIndexThatDoesNotFitIsMadeAnew() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 20'000, 1), other = scaled(folder, 20'000, 2);
        const OpenOptions options = withIndexIn(folder);
        opened(file, options);
        const std::string index = indexPathFor(options.indexFolder, file);
        const QByteArray said = saidBy(*opened(file));
        // Damaged in its header, in its archive, cut short, of another version, empty.
        const QByteArray good = bytesOf(index);
        QList<QByteArray> bad{good, good, good.left(good.size() / 2), good.left(60), QByteArray(), good};
        bad[0][8] = char(99);
        bad[1][bad[1].size() - 20] = char(bad[1][bad[1].size() - 20] + 1);
        for (int i = 0; i < 128; ++i) bad[5][i] = 0;
        for (const QByteArray& bytes : bad) {
            putBytes(index, bytes);
            QVERIFY(!loadIndex(index, stateOfFile(file)));
            QVERIFY(saidBy(*opened(file, options)) == said);
            QVERIFY(loadIndex(index, stateOfFile(file)));  // and there is a good one again
        }
        // The recording itself is another one now.
        QFile::remove(QString::fromStdString(file));
        QVERIFY(QFile::copy(QString::fromStdString(other), QString::fromStdString(file)));
        QVERIFY(saidBy(*opened(file, options)) == saidBy(*opened(other)));
    }

    void changedBytesOfAnIndexNeverCrash() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 3000);
        const OpenOptions options = withIndexIn(folder);
        opened(file, options);
        const std::string index = indexPathFor(options.indexFolder, file);
        const uint64_t state = stateOfFile(file);
        std::mt19937 random(23);
        const QByteArray good = bytesOf(index);
        const QByteArray said = saidBy(*opened(file));
        int refused = 0, found = 0, harmless = 0;
        for (int i = 0; i < 300; ++i) {
            QByteArray bad = good;
            // The header, the archive behind the columns and the checksums behind that, or anywhere.
            const qsizetype at = i % 3 == 0   ? qsizetype(random() % 128)
                                 : i % 3 == 1 ? bad.size() - 1 - qsizetype(random() % 4000)
                                              : qsizetype(random() % size_t(bad.size()));
            bad[at] = char(bad[at] ^ (1 << random() % 8));
            putBytes(index, bad);
            const auto kept = loadIndex(index, state);
            if (!kept) {
                ++refused;
                continue;
            }
            if (saidBy(*kept) != said || kept->storage->damaged()) {  // never other figures without a word
                QVERIFY(kept->storage->damaged());
                ++found;
                forgetIndex(*kept);
                QVERIFY(!QFile::exists(QString::fromStdString(index)));
                QVERIFY(saidBy(*opened(file, options)) == said);
                QVERIFY(loadIndex(index, state));
            } else {
                ++harmless;  // a byte between columns, or whether all had reached the disk
            }
        }
        QVERIFY(refused > 100);
        QVERIFY(found + refused > 200);
        QVERIFY(harmless < 100);
    }

    /// Whoever changes a file may mend its checksums too: then its bounds are what is left.
    void changedBytesUnderRightChecksumsNeverCrash() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 400'000);
        OpenOptions options = withIndexIn(folder);
        options.threads = 1;  // a lane's columns lie together, and its lists behind them
        const auto made = opened(file, options);
        const size_t markers = made->markerCount();
        const std::string index = indexPathFor(options.indexFolder, file);
        const uint64_t state = stateOfFile(file);
        const std::string good = bytesOf(index).toStdString();
        // Another file: into the first one is still written that it has reached the disk.
        const auto replaceIndex = [&](const std::string& bytes) {
            QVERIFY(QFile::remove(QString::fromStdString(index)));
            putBytes(index, QByteArray::fromStdString(bytes));
        };
        // Durations, paths and callers in the middle of the largest row, which are checked when they are first read;
        // and an index that lies in a list.
        const MarkerRow* largest = nullptr;
        for (const Lane& lane : made->lanes)
            for (size_t i = 1; i < lane.rows.size(); ++i)
                if (!largest || lane.rows[i].size() > largest->size()) largest = &lane.rows[i];
        const MarkerRow& row = *largest;
        const MarkerRow::Chunk& chunk = row.chunks()[row.chunks().size() / 2];
        for (const uint64_t at : {chunk.at + chunk.durationsAt, chunk.at + chunk.pathsAt, chunk.at + chunk.parentsAt}) {
            std::string bad = good;
            for (size_t i = 0; i < 8; ++i) bad[at + i] = char(0xff);
            testing::mendCacheFile(bad);
            QVERIFY(bad != good);
            replaceIndex(bad);
            const auto kept = loadIndex(index, state);
            QVERIFY(kept);
            QCOMPARE(kept->markerCount(), markers);
            saidBy(*kept);
            QVERIFY(kept->storage->damaged());
        }
        const auto offset = reinterpret_cast<const char*>(row.groups().data()) - made->storage->at(0);
        std::string bad = good;
        for (size_t i = 0; i < sizeof(MarkerRow::Group); ++i) bad[size_t(offset) + i] = char(0x7f);
        testing::mendCacheFile(bad);
        replaceIndex(bad);
        QVERIFY(!loadIndex(index, state));
        testing::mendCacheFile(bad = good);
        replaceIndex(bad);
        QVERIFY(loadIndex(index, state));
    }

    void whatStandsInTheIndexesPlaceIsNotWaitedFor() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 3000);
        const OpenOptions options = withIndexIn(folder);
        const QByteArray said = saidBy(*opened(file, options));
        const std::string index = indexPathFor(options.indexFolder, file);
        for (int kind = 0; kind < 3; ++kind) {
            QVERIFY(QFile::remove(QString::fromStdString(index)));
            if (kind == 0) QCOMPARE(::mkfifo(index.c_str(), 0600), 0);
            if (kind == 1) QCOMPARE(::symlink("/dev/zero", index.c_str()), 0);
            if (kind == 2) QVERIFY(QDir().mkdir(QString::fromStdString(index)));
            QVERIFY(!loadIndex(index, stateOfFile(file)));
            QVERIFY(saidBy(*opened(file, options)) == said);
        }
    }

    void anIndexThatIsCutWhileItIsReadIsSurvived() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 100'000);
        const OpenOptions options = withIndexIn(folder);
        const QByteArray said = saidBy(*opened(file, options));
        const std::string index = indexPathFor(options.indexFolder, file);
        const auto kept = loadIndex(index, stateOfFile(file));
        QVERIFY(kept);
        QVERIFY(QFile::resize(QString::fromStdString(index), 4096));
        saidBy(*kept);
        QVERIFY(kept->storage->damaged());
        forgetIndex(*kept);
        QVERIFY(saidBy(*opened(file, options)) == said);
    }

    void withoutARoomForIndexesOneIsToldAndCanWork() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 20'000);
        OpenOptions options = withIndexIn(folder);
        options.indexFolder = "/proc/no such place";
        const auto r = opened(file, options);
        QVERIFY(r->storage->whyInMemory().find("/proc/no such place") != std::string::npos);
        QVERIFY(saidBy(*r) == saidBy(*opened(file)));
    }

    void oldIndexesMakeRoom() {
        const QTemporaryDir folder;
        OpenOptions options = withIndexIn(folder);
        options.indexFolderBytes = 1;
        const std::string a = scaled(folder, 5000, 1), b = scaled(folder, 5000, 2);
        opened(a, options);
        QCOMPARE(indexesIn(options).size(), 1);  // the one in use stays
        opened(b, options);
        QCOMPARE(indexesIn(options).size(), 1);
        QVERIFY(QFile::exists(QString::fromStdString(indexPathFor(options.indexFolder, b))));
    }

    void cancellingLeavesNoIndexBehind() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 200'000);
        const OpenOptions options = withIndexIn(folder);
        const auto result = openRecording(
            file, [](double part) { return part < 0.4; }, options);
        QVERIFY(!result && result.failure().cancelled);
        QVERIFY(indexesIn(options).isEmpty());
    }

    void whatComesAfterReadingIsToldAndCanBeCancelled() {
        const QTemporaryDir folder;
        const std::string file = raced(folder, 20);
        const OpenOptions options = withIndexIn(folder);
        std::vector<double> parts;
        const auto result = openRecording(
            file, [&](double part) { return parts.push_back(part), true; }, options);
        QVERIFY(result.ok());
        QVERIFY(std::is_sorted(parts.begin(), parts.end()));
        const auto later =
            std::count_if(parts.begin(), parts.end(), [](double part) { return part > 0.76 && part < 0.99; });
        QVERIFY2(later >= 8, qPrintable(QString::number(later)));
        QVERIFY(QFile::remove(QString::fromStdString(indexPathFor(options.indexFolder, file))));
        for (const double until : {0.76, 0.85, 0.95}) {
            const auto cancelled = openRecording(
                file, [until](double part) { return part < until; }, options);
            QVERIFY(!cancelled && cancelled.failure().cancelled);
            QVERIFY(indexesIn(options).isEmpty());
        }
    }

    void progressIsTrueAndWhatIsReadIsShownEarly() {
        const QTemporaryDir folder;
        const std::string file = scaled(folder, 300'000);
        OpenOptions options = withIndexIn(folder);
        std::vector<double> parts;
        std::vector<std::shared_ptr<const Recording>> early;
        options.early = [&](std::shared_ptr<const Recording> r) { early.push_back(std::move(r)); };
        const auto result = openRecording(
            file, [&](double part) { return parts.push_back(part), true; }, options);
        QVERIFY(result.ok());
        QVERIFY(std::is_sorted(parts.begin(), parts.end()));
        QVERIFY(parts.front() < 0.1 && parts.back() > 0.95 && parts.back() <= 1);
        QVERIFY(early.size() >= 2);  // at once, and when the lane with frames was there
        QVERIFY(early[0]->markerCount() == 0);
        QCOMPARE(early[0]->lanes.size(), (*result)->lanes.size());
        QVERIFY(!early[0]->lanes[0].unread.empty());
        QVERIFY(std::abs(early[0]->end - (*result)->end) < 1'000'000'000);
        const auto framed = std::find_if(early.begin(), early.end(), [](const auto& r) {
            return !r->series.empty() && !r->series[0].frames.empty();
        });
        QVERIFY(framed != early.end());
        const uint32_t owner = (*framed)->series[0].frames[0].lane;
        QCOMPARE((*framed)->series[0].frames.size(), (*result)->series[0].frames.size());
        QVERIFY((*framed)->lanes[owner].unread.empty());
        QCOMPARE((*framed)->lanes[owner].markerCount(), (*result)->lanes[owner].markerCount());
        for (uint32_t i = 0; i < 100; ++i)
            QCOMPARE((*framed)->pathText((*framed)->lanes[owner].rows[2].path(i), 9),
                     (*result)->pathText((*result)->lanes[owner].rows[2].path(i), 9));
        for (const Lane& lane : (*result)->lanes) QVERIFY(lane.unread.empty());
    }
};

QTEST_GUILESS_MAIN(IndexTest)
#include "index_test.moc"
