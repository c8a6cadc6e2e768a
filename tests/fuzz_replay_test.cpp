// SPDX-License-Identifier: GPL-3.0-or-later
//
// Every kept case of every fuzz target, and files that once cost too much, each within a bound.
#include <sys/resource.h>
#include <zstd.h>

#include <QDir>
#include <QTemporaryDir>
#include <QtTest>
#include <atomic>
#include <fugato_blocks.hpp>

#include "core/model/open_recording.h"
#include "format/packed_events.h"
#include "fuzz/targets.h"

using namespace fugato;

class FuzzReplayTest : public QObject {
    Q_OBJECT

    /// Counts what is read of it.
    class Counting final : public ByteSource {
    public:
        explicit Counting(std::string bytes) : bytes_(std::move(bytes)) {}
        uint64_t size() const override { return bytes_.size(); }
        size_t read(uint64_t offset, char* out, size_t count) override {
            const size_t done = bytes_.read(offset, out, count);
            read_ += done;
            return done;
        }
        uint64_t bytesRead() const { return read_; }

    private:
        MemorySource bytes_;
        std::atomic<uint64_t> read_{0};
    };
    static uint64_t mostResident() {
        rusage usage{};
        getrusage(RUSAGE_SELF, &usage);
        return uint64_t(usage.ru_maxrss) * 1024;
    }
    /// A file of blocks, whose payloads are made by `make(lane)`.
    template <class Make>
    static std::string fileOf(uint32_t lanes, Make&& make) {
        std::string image;
        layout::BlockFile file([&](std::string_view part) { return image += part, true; });
        layout::FileHeader header{};
        header.clock = static_cast<uint32_t>(layout::ClockKind::Nanoseconds);
        header.nsPerTick = 1;
        file.writeHeader(header);
        for (uint32_t lane = 1; lane <= lanes; ++lane) {
            const auto [payload, count] = make(lane);
            file.writeBlock(layout::BlockType::Events, lane, count, 0, 0, payload);
        }
        file.writeIndex();
        return image;
    }
    static std::pair<std::string, uint32_t> payloadOf(uint32_t count,
                                                      const std::function<layout::RawEvent(uint32_t)>& event) {
        std::string payload;
        uint64_t previous = 0;
        for (uint32_t i = 0; i < count; ++i) layout::appendEvent(payload, event(i), previous);
        return {payload, count};
    }

private slots:
    /// Each held an application up for long, or took gigabytes. What opening may cost is in docs/promises.md.
    void whatOnceCostTooMuch_data() {
        using layout::Kind, layout::RawEvent;
        QTest::addColumn<QByteArray>("bytes");
        const auto row = [](const char* name, const std::string& bytes) {
            QTest::newRow(name) << QByteArray(bytes.data(), qsizetype(bytes.size()));
        };
        row("very many locks held at once", fileOf(1, [](uint32_t) {
                return payloadOf(200'000, [](uint32_t i) { return RawEvent{i, Kind::Taken, i / 2 + 1, 0, 0, {}}; });
            }));
        row("very many series begun at once", fileOf(1, [](uint32_t) {
                return payloadOf(100'000, [](uint32_t i) { return RawEvent{i, Kind::FrameBegin, i + 1, 5, 0, {}}; });
            }));
        row("very many operations at once", fileOf(1, [](uint32_t) {
                return payloadOf(200'000, [](uint32_t i) { return RawEvent{i, Kind::OperationBegin, 1, i, 0, {}}; });
            }));
        row("ten thousand lanes", fileOf(10'000, [](uint32_t) {
                return payloadOf(20, [](uint32_t i) {
                    return RawEvent{i, i % 2 ? Kind::MarkEnd : Kind::MarkBegin, i % 2 ? 0u : 1u, 0, 0, {}};
                });
            }));
        row("ids as large as there are", fileOf(100, [](uint32_t) {
                return payloadOf(20, [](uint32_t i) {
                    return RawEvent{i, i % 2 ? Kind::Count : Kind::MarkBegin, UINT32_MAX / 2 - i, 0, 0, {}};
                });
            }));
        row("pictures of which a row is told", fileOf(1, [](uint32_t) {
                static const std::string line(60, 'x');
                return payloadOf(200, [](uint32_t i) {
                    return RawEvent{i, Kind::Picture, i, uint64_t{2000} << 32 | 2000, 0, line};
                });
            }));
        row("twenty thousand deep beside a loop of frames", fileOf(2, [](uint32_t lane) {
                if (lane == 1)
                    return payloadOf(4000, [](uint32_t i) {
                        return RawEvent{uint64_t{i} * 10, i % 2 ? Kind::FrameEnd : Kind::FrameBegin, 1, 3, 0, {}};
                    });
                return payloadOf(40'000, [](uint32_t i) {
                    return RawEvent{i, i < 20'000 ? Kind::MarkBegin : Kind::MarkEnd, i < 20'000 ? 1 + i % 7 : 0, 0, 0,
                                    {}};
                });
            }));
        row("an end forgotten in every frame", fileOf(1, [](uint32_t) {
                return payloadOf(5 * 3000, [](uint32_t i) {
                    const Kind kinds[] = {Kind::FrameBegin, Kind::MarkBegin, Kind::MarkBegin, Kind::MarkEnd,
                                          Kind::FrameEnd};
                    const uint32_t ids[] = {1, 1, 2, 0, 1};
                    return RawEvent{uint64_t{i} * 100, kinds[i % 5], ids[i % 5], i % 5 ? 0u : 50u, 0, {}};
                });
            }));
        std::string bomb = fileOf(1, [](uint32_t) {
            return payloadOf(20'000, [](uint32_t i) { return RawEvent{i, Kind::Point, 1, 0, 0, "words"}; });
        });
        {  // its index names the one block ten thousand times
            std::string index;
            MemorySource source(bomb);
            const layout::IndexEntry entry = layout::findBlocks(source).blocks.at(0);
            for (int i = 0; i < 10'000; ++i) index.append(reinterpret_cast<const char*>(&entry), sizeof entry);
            const size_t at = size_t(entry.offset + layout::blockBytes(entry.payloadBytes));
            bomb.resize(at);
            layout::BlockHeader header{};
            header.type = static_cast<uint16_t>(layout::BlockType::Index);
            layout::sealBlock(header, index);
            bomb.append(reinterpret_cast<const char*>(&header), sizeof header);
            bomb += index;
            const layout::Trailer trailer = layout::makeTrailer(at);
            bomb.append(reinterpret_cast<const char*>(&trailer), sizeof trailer);
        }
        row("an index that names one block many times", bomb);
        std::string keys = "{\"fugato\":\"text\",\"version\":1}\n{\"do\":\"point\"";
        for (int i = 0; i < 60'000; ++i) keys += ",\"k" + std::to_string(i) + "\":1";
        row("one line with very many keys", keys + "}\n{\"at\":1,\"lane\":1,\"do\":\"point\",\"text\":\"x\"}\n");
    }
    void whatOnceCostTooMuch() {
        QFETCH(QByteArray, bytes);
        const uint64_t before = mostResident();
        Counting source(bytes.toStdString());
        const auto opened = openRecording(source, "costly");
        QVERIFY(opened.ok());
        QVERIFY2(source.bytesRead() <= 8 * uint64_t(bytes.size()) + (1 << 20),
                 qPrintable(QString("%1 bytes read of %2").arg(source.bytesRead()).arg(bytes.size())));
        fuzzWholeWay({bytes.constData(), size_t(bytes.size())});
        QVERIFY2(mostResident() - before < 200'000'000, qPrintable(QString::number(mostResident() - before)));
    }

    void tooDeepNestingIsToldAndKeptSideBySide() {
        const std::string bytes = fileOf(1, [](uint32_t) {
            return payloadOf(4000, [](uint32_t i) {
                return layout::RawEvent{
                    i, i < 2000 ? layout::Kind::MarkBegin : layout::Kind::MarkEnd, i < 2000 ? 1u : 0u, 0, 0, {}};
            });
        });
        MemorySource source(bytes);
        const auto opened = openRecording(source, "deep");
        QVERIFY(opened.ok());
        const Recording& r = **opened;
        QCOMPARE(r.markerCount(), size_t{2000});
        QCOMPARE(r.lanes[0].rows.size(), kMostDepth);
        QCOMPARE(size_t(r.lanes[0].rows.back().size()), 2000 - kMostDepth + 1);
        QCOMPARE(r.repairs.tooDeep, uint64_t{2000 - kMostDepth});
        QCOMPARE(r.repairs.endsWithoutBegin, uint64_t{0});
        QCOMPARE(r.lanes[0].rows[0].end(0), int64_t{3999});
        QVERIFY(r.repairs.sentences().at(0).find("nested more than 1000 levels deep") != std::string::npos);
    }

    void aLongSearchForBlocksIsToldAndCanBeCancelled() {
        std::string bytes = fileOf(1, [](uint32_t) {
            return payloadOf(10, [](uint32_t i) { return layout::RawEvent{i, layout::Kind::Point, 1, 0, 0, "x"}; });
        });
        bytes.insert(64, std::string(20 << 20, 'F'));  // where the magic number might begin, everywhere
        Counting source(bytes);
        int told = 0;
        double last = 0;
        const auto opened = openRecording(source, "long", [&](double part) {
            told += part > last;
            last = part;
            return true;
        });
        QVERIFY(opened.ok());
        QCOMPARE((*opened)->points.size(), size_t{10});
        QVERIFY2(told > 50, qPrintable(QString::number(told)));
        Counting again(bytes);
        const auto cancelled = openRecording(again, "long", [](double part) { return part < 0.02; });
        QVERIFY(!cancelled.ok() && cancelled.failure().cancelled);
        QVERIFY(again.bytesRead() < bytes.size() / 2);
    }

    void aFlippedMagicNumberLeavesTheBlocksReadable() {
        std::string bytes = fileOf(1, [](uint32_t) {
            return payloadOf(10, [](uint32_t i) {
                return layout::RawEvent{
                    i, i % 2 ? layout::Kind::MarkEnd : layout::Kind::MarkBegin, i % 2 ? 0u : 1u, 0, 0, {}};
            });
        });
        bytes[1] ^= 4;
        MemorySource source(bytes);
        const auto opened = openRecording(source, "flipped");
        QVERIFY(opened.ok());
        QCOMPARE((*opened)->markerCount(), size_t{5});
        QVERIFY(QString::fromStdString((*opened)->damage.notes.at(0)).contains("header is damaged"));
    }

    void aPackedBlockThatClaimsMoreThanItCanHoldTakesNoRoom() {
        const std::string zeros(uint64_t{64} << 20, '\0');
        std::string payload, packed(ZSTD_compressBound(zeros.size()), '\0');
        packed.resize(ZSTD_compress(packed.data(), packed.size(), zeros.data(), zeros.size(), 1));
        for (int column = 0; column < 11; ++column) {
            layout::appendVarint(payload, zeros.size());
            layout::appendVarint(payload, packed.size());
            payload += packed;
        }
        const uint64_t before = mostResident();
        bool any = false;
        QVERIFY(!unpackEvents(payload, 1000, 0, [&](std::span<const layout::RawEvent>) { any = true; }));
        QVERIFY(!any);
        QVERIFY(mostResident() - before < 20'000'000);
    }

    void aWholeNumberOutOfRangeIsToldAndNotTurnedIntoAnother() {
        MemorySource source(
            "{\"fugato\":\"text\",\"version\":1}\n"
            "{\"at\":0,\"lane\":1,\"do\":\"begin\",\"site\":\"a\"}\n"
            "{\"at\":1,\"lane\":1,\"do\":\"argument\",\"key\":\"k\",\"value\":9223372036854775808}\n"
            "{\"at\":2,\"lane\":1,\"do\":\"end\"}\n");
        const auto opened = openRecording(source, "big");
        QVERIFY(opened.ok());
        QVERIFY((*opened)->lanes[0].arguments.empty());
        QVERIFY(
            QString::fromStdString((*opened)->damage.notes.at(0)).contains("\"value\" is not a whole number in range"));
    }

    void keptCases_data() {
        QTest::addColumn<QString>("target");
        QTest::addColumn<QString>("path");
        for (const auto& [target, run] : kFuzzTargets) {
            const QDir folder(QString(FUGATO_SOURCE_DIR "/tests/fuzz/kept/") + QString::fromStdString(target));
            const QStringList names = folder.entryList(QDir::Files);
            // Every target has kept cases in a fresh clone too: the fuzzers start from them.
            QVERIFY2(!names.empty(), qPrintable(folder.path() + " has no kept case"));
            for (const QString& name : names) {
                QTest::newRow(qPrintable(QString::fromStdString(target) + "/" + name))
                    << QString::fromStdString(target) << folder.filePath(name);
            }
        }
    }
    void keptCases() {
        QFETCH(QString, target);
        QFETCH(QString, path);
        QFile file(path);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray bytes = file.readAll();
        kFuzzTargets.at(target.toStdString())({bytes.constData(), size_t(bytes.size())});
    }
};

QTEST_GUILESS_MAIN(FuzzReplayTest)
#include "fuzz_replay_test.moc"
