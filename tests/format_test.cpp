// SPDX-License-Identifier: GPL-3.0-or-later
#include <QFile>
#include <QTemporaryDir>
#include <QtTest>
#include <cmath>
#include <cstring>
#include <random>

#include "format/binary_form.h"
#include "format/packed_events.h"
#include "format/text_form.h"

using namespace fugato;

namespace {

/// A store with every definition and every kind of event, and awkward values.
EventStore everything() {
    EventStore store;
    store.started(1'700'000'000'000'000'123);
    store.define(ContextDefinition{"program", "skerry"});
    store.define(LaneDefinition{1, LaneKind::Thread, 4711, "main", "loop"});
    store.define(LaneDefinition{9, LaneKind::Queue, 0, "GPU \"graphics\" ▸ ü", ""});
    store.define(SiteDefinition{1, 42, 1'000'000, "Simulate", "physics", "one step\nof every boat", "race.cpp"});
    store.define(SiteDefinition{2, 0, 0, "Wait", "", "", ""});
    store.define(SeriesDefinition{1, 16'666'667, "loop"});
    store.define(ObjectDefinition{1, "scene lock"});
    store.define(CounterDefinition{1, 2.5, "drops", "pieces"});
    store.define(CounterDefinition{2, std::nullopt, "rate", ""});
    store.define(StateDefinition{1, "stage"});
    store.define(LaneDefinition{12, LaneKind::Core, 3, "core 3", "core"});
    store.define(KeyDefinition{1, "boats"});
    store.define(PoolDefinition{1, "sails"});
    store.define(OsThreadDefinition{4711, 4700, "main"});
    store.define(ModuleDefinition{0x7f0000001000, 4096, 8192, "/lib/librace.so", "00ff17"});
    const auto number = [](double value) {
        uint64_t bits = 0;
        std::memcpy(&bits, &value, sizeof bits);
        return bits;
    };
    store.event(1, {-5, EventKind::FrameBegin, 1, 20'000'000, 0, {}});
    store.event(1, {0, EventKind::MarkBegin, 1, 0, 0, {}});
    store.event(1, {10, EventKind::WaitBegin, 1, 2, static_cast<uint64_t>(WaitKind::Lock), {}});
    store.event(1, {20, EventKind::WaitEnd, 0, 77, 0, {}});
    store.event(1, {15, EventKind::Taken, 1, 0, 0, {}});  // backwards: kept as recorded
    store.event(1, {30, EventKind::Given, 1, 0, 0, {}});
    store.event(1, {31, EventKind::Count, 1, number(-0.1), 0, {}});
    store.event(1, {32, EventKind::Count, 2, number(std::numeric_limits<double>::quiet_NaN()), 0, {}});
    store.event(1, {33, EventKind::Count, 2, number(-std::numeric_limits<double>::infinity()), 0, {}});
    store.event(1, {34, EventKind::Point, static_cast<uint32_t>(Severity::Error), 0, 0, "no \"file\"\n"});
    store.event(1, {35, EventKind::StateSet, 1, 0, 0, "Race"});
    store.event(9, {36, EventKind::LinkOut, 0, UINT64_MAX, 0, {}});
    store.event(1, {37, EventKind::LinkIn, 0, UINT64_MAX, 0, {}});
    store.event(1, {38, EventKind::Lost, 0, 12, 0, {}});
    store.event(1, {39, EventKind::Lost, 0, 3, 1, {}});
    store.event(1, {39, EventKind::Argument, 1, layout::zigzag(INT64_MIN), 0, {}});
    store.event(1, {39, EventKind::Argument, 1, number(0.1), 1, {}});
    store.event(1, {39, EventKind::Argument, 1, 0, 2, "a \"text\" ü"});
    store.event(1, {39, EventKind::Outcome, 0, 1, 0, {}});
    store.event(1, {39, EventKind::OperationBegin, 1, 5, 0, {}});
    store.event(9, {39, EventKind::OperationStep, 2, 5, 0, {}});
    store.event(9, {39, EventKind::OperationEnd, 0, 5, layout::zigzag(-7), "no answer"});
    store.event(1, {39, EventKind::MemoryTaken, 1, UINT64_MAX, 3'200'000, "spinnaker"});
    store.event(1, {39, EventKind::MemoryGiven, 1, UINT64_MAX, 0, {}});
    store.event(1,
                {39, EventKind::Picture, 3, uint64_t{2} << 32 | 1, 0, std::string_view("\x00\xff\x80\x01\x02\x03", 6)});
    store.event(1, {39, EventKind::FrameTick, 1, 8'000'000, 0, {}});
    store.event(
        1, {39, EventKind::PointCode, static_cast<uint32_t>(Severity::Warning), layout::zigzag(-13), 0, "refused"});
    store.event(9, {39, EventKind::Input, 0, 0, 0, "key W down"});
    store.event(12, {39, EventKind::Switch, 4711, 1, 0, {}});
    store.event(12, {41, EventKind::Sample, 4711, 0, 0, std::string_view("\x82\x80\x01\x05", 4)});
    store.event(1, {40, EventKind::MarkEnd, 0, 0, 0, {}});
    store.event(1, {INT64_MAX / 2, EventKind::FrameEnd, 1, 0, 0, {}});
    store.event(9, {INT64_MAX / 2, EventKind::LaneEnd, 0, 0, 0, {}});
    return store;
}

std::string asText(const EventStore& store) {
    std::string out;
    writeText(store,
              [&](std::string_view bytes) {
                  out.append(bytes);
                  return true;
              },
              {});
    return out;
}

std::string asBinary(const EventStore& store) {
    std::string out;
    writeBinary(store,
                [&](std::string_view bytes) {
                    out.append(bytes);
                    return true;
                },
                {});
    return out;
}

Result<Damage> read(std::string bytes, EventStore& store) {
    MemorySource source(std::move(bytes));
    return readRecording(source, "file", store);
}

/// Several blocks per lane.
EventStore longOne() {
    EventStore store;
    store.define(LaneDefinition{1, LaneKind::Thread, 0, "a", ""});
    store.define(LaneDefinition{2, LaneKind::Thread, 0, "b", ""});
    store.define(SiteDefinition{1, 0, 0, "Work", "", "", ""});
    for (int i = 0; i < 60'000; ++i)
        for (uint32_t lane = 1; lane <= 2; ++lane) {
            store.event(lane, {i * 1000 + lane, EventKind::MarkBegin, 1, 0, 0, {}});
            store.event(lane, {i * 1000 + 500 + lane, EventKind::MarkEnd, 0, 0, 0, {}});
        }
    return store;
}

}  // namespace

namespace {

/// Every event but for its time, sorted.
std::vector<std::string> whatIsSaid(const EventStore& store) {
    std::vector<std::string> out;
    for (const auto& [lane, events] : store.lanes)
        for (const Event& e : events)
            if (e.kind != EventKind::Lost)
                out.push_back(std::to_string(lane) + " " + std::to_string(int(e.kind)) + " " + std::to_string(e.id) +
                              " " + std::to_string(e.a) + " " + std::to_string(e.b) + " " + std::string(e.text));
    std::sort(out.begin(), out.end());
    return out;
}

/// Either a sentence, or texts that are UTF-8 and times in order of nothing but within their range.
bool saysSomethingSensible(const Result<Damage>& damage, const EventStore& store) {
    if (!damage) return !damage.failure().sentence.empty() && damage.failure().sentence.back() == '.';
    for (const std::string& note : damage->notes)
        if (note.empty() || !isUtf8(note)) return false;
    for (const auto& [lane, events] : store.lanes)
        for (const Event& e : events)
            if (e.kind != EventKind::Picture && e.kind != EventKind::Sample && !isUtf8(e.text)) return false;
    return true;
}

}  // namespace

class FormatTest : public QObject {
    Q_OBJECT

private slots:
    void bothFormsGiveBackEverythingTheyWereGiven() {
        const EventStore store = everything();
        const std::string text = asText(store);
        EventStore fromText, fromBinary, again;
        auto damage = read(text, fromText);
        QVERIFY(damage);
        QVERIFY2(!damage->any(), damage->notes.empty() ? "" : damage->notes[0].c_str());
        QCOMPARE(asText(fromText), text);
        damage = read(asBinary(store), fromBinary);
        QVERIFY(damage);
        QVERIFY(!damage->any());
        QCOMPARE(asText(fromBinary), text);
        QVERIFY(read(asBinary(fromText), again));
        QCOMPARE(asBinary(again), asBinary(store));
    }

    void theTextFormTakesNamesInsteadOfNumbers() {
        EventStore store;
        const auto damage = read(R"({"at":5,"lane":"main","do":"begin","site":"Draw"})"
                                 "\n\n"
                                 R"({"at":9,"lane":"main","do":"end"})",
                                 store);
        QVERIFY(damage);
        QVERIFY(!damage->any());
        QCOMPARE(store.definitions.size(), size_t{2});
        QCOMPARE(store.eventCount(), size_t{2});
    }

    void wrongLinesAreLeftOutAndNamed_data() {
        QTest::addColumn<QString>("line");
        QTest::addColumn<QString>("words");
        QTest::newRow("no JSON") << "{\"at\":5,"
                                 << "it is not valid JSON";
        QTest::newRow("no object") << "[1,2]"
                                   << "not a JSON object";
        QTest::newRow("no verb") << R"({"at":5})"
                                 << "neither";
        QTest::newRow("unknown verb") << R"({"at":5,"lane":1,"do":"dance"})"
                                      << "dance";
        QTest::newRow("no time") << R"({"lane":1,"do":"end"})"
                                 << "\"at\" is missing";
        QTest::newRow("time in words") << R"({"at":"noon","lane":1,"do":"end"})"
                                       << "\"at\" is not a whole number";
        QTest::newRow("fraction") << R"({"at":1.5,"lane":1,"do":"end"})"
                                  << "\"at\" is not a whole number";
        QTest::newRow("negative lane") << R"({"at":1,"lane":-1,"do":"end"})"
                                       << "\"lane\"";
        QTest::newRow("unknown wait") << R"({"at":1,"lane":1,"do":"wait","object":1,"site":1,"kind":"tea"})"
                                      << "tea";
        QTest::newRow("unknown definition") << R"({"define":"planet","id":1})"
                                            << "planet";
        QTest::newRow("text for a number") << R"({"at":1,"lane":1,"do":"count","counter":1,"value":"many"})"
                                           << "\"value\"";
    }
    void wrongLinesAreLeftOutAndNamed() {
        QFETCH(QString, line);
        QFETCH(QString, words);
        EventStore store;
        const auto damage = read(R"({"at":1,"lane":1,"do":"lane_end"})"
                                 "\n" +
                                     line.toStdString() + "\n" + R"({"at":2,"lane":1,"do":"lane_end"})",
                                 store);
        QVERIFY(damage);
        QCOMPARE(damage->wrongLines, uint64_t{1});
        const QString note = QString::fromStdString(damage->notes.at(0));
        QVERIFY2(note.startsWith("Line 2 "), qPrintable(note));
        QVERIFY2(note.contains(words), qPrintable(note));
        QCOMPARE(store.eventCount(), size_t{2});
    }

    void filesThatAreNoRecordingGetOneSentence_data() {
        QTest::addColumn<QByteArray>("bytes");
        QTest::addColumn<QString>("words");
        QTest::newRow("empty") << QByteArray() << "is empty";
        QTest::newRow("other kind") << QByteArray(
                                           "\x7f"
                                           "ELF............")
                                    << "not a Fugato recording";
        QTest::newRow("other JSON") << QByteArray("{\"name\": 1}\n{\"x\":2}") << "no line could be read";
        QTest::newRow("header cut") << QByteArray(
                                           "\x89"
                                           "FUG\r\n\x1a\n"
                                           "123")
                                    << "cut off";
    }
    void filesThatAreNoRecordingGetOneSentence() {
        QFETCH(QByteArray, bytes);
        QFETCH(QString, words);
        EventStore store;
        const auto damage = read(bytes.toStdString(), store);
        QVERIFY(!damage);
        const QString sentence = QString::fromStdString(damage.failure().sentence);
        QVERIFY2(sentence.contains(words), qPrintable(sentence));
        QVERIFY(sentence.startsWith("file "));
    }

    void filesThatCannotBeOpenedGetOneSentence() {
        EventStore store;
        auto damage = readRecordingFile("/nowhere/x.fugato", store);
        QVERIFY(!damage);
        QCOMPARE(QString::fromStdString(damage.failure().sentence),
                 QString("Cannot open /nowhere/x.fugato: there is no such file. Check the path."));
        damage = readRecordingFile("/tmp", store);
        QVERIFY(!damage);
        QVERIFY(QString::fromStdString(damage.failure().sentence).contains("it is a folder"));
    }

    void aNewerVersionIsRefusedWithAdvice() {
        std::string bytes = asBinary(everything());
        layout::FileHeader header;
        std::memcpy(&header, bytes.data(), sizeof header);
        header.version = 99;
        header.checksum = layout::checksum(&header, offsetof(layout::FileHeader, checksum));
        std::memcpy(bytes.data(), &header, sizeof header);
        EventStore store;
        const auto damage = read(bytes, store);
        QVERIFY(!damage);
        QVERIFY(QString::fromStdString(damage.failure().sentence).contains("newer version"));
    }

    void aPackedRecordingSaysExactlyTheSame() {
        std::string plain, packed;
        QVERIFY(writeBinary(everything(), [&](std::string_view b) { return plain.append(b), true; }, {}));
        MemorySource source(plain);
        const auto count = packBinary(source, "test", [&](std::string_view b) { return packed.append(b), true; }, {});
        QVERIFY(count);
        QCOMPARE(size_t(*count), everything().eventCount());
        EventStore one, two;
        QVERIFY(read(plain, one) && read(packed, two));
        QCOMPARE(asText(two), asText(one));
        std::string again;  // packing once more changes nothing
        MemorySource packedSource(packed);
        QVERIFY(packBinary(packedSource, "test", [&](std::string_view b) { return again.append(b), true; }, {}));
        QCOMPARE(again.size(), packed.size());
    }

    void manyEventsPackWellAndComeBackInOrder() {
        std::vector<layout::RawEvent> events;
        std::mt19937_64 random(3);
        uint64_t ticks = 1ull << 62;
        for (int i = 0; i < 50'000; ++i) {
            ticks += random() % 40'000 - (i % 1000 == 7 ? 20'000 : 0);  // now and then backwards
            events.push_back({ticks,
                              i % 2 ? EventKind::MarkEnd : EventKind::MarkBegin,
                              i % 2 ? 0u : uint32_t(random() % 50),
                              0,
                              0,
                              {}});
        }
        events.push_back({UINT64_MAX, EventKind::Count, 4'000'000'000u, UINT64_MAX, 0, {}});
        events.push_back({0, EventKind::LinkOut, 0, UINT64_MAX, 0, {}});
        const std::string payload = packEvents(events, events.front().ticks);
        QVERIFY(payload.size() < events.size() * 3);
        size_t at = 0;
        const bool whole = unpackEvents(
            payload, uint32_t(events.size()), events.front().ticks, [&](std::span<const layout::RawEvent> some) {
                for (const layout::RawEvent& e : some) {
                    if (at < events.size() && (e.ticks != events[at].ticks || e.kind != events[at].kind ||
                                               e.id != events[at].id || e.a != events[at].a))
                        at = events.size() + 1;
                    ++at;
                }
            });
        QVERIFY(whole);
        QCOMPARE(at, events.size());
    }

    void damagedPackedEventsAreRefusedNotBelieved() {
        std::vector<layout::RawEvent> events;
        for (uint32_t i = 0; i < 3000; ++i)
            events.push_back(
                {i * 77ull, i % 2 ? EventKind::MarkEnd : EventKind::MarkBegin, i % 2 ? 0 : i % 9, 0, 0, {}});
        events.push_back({1'000'000, EventKind::Point, 0, 0, 0, "words"});
        const std::string good = packEvents(events, 0);
        std::mt19937 random(11);
        int refused = 0;
        for (int i = 0; i < 20'000; ++i) {
            std::string bad = good;
            const int changes = 1 + int(random() % 3);
            for (int k = 0; k < changes; ++k) bad[random() % bad.size()] = static_cast<char>(random());
            if (i % 4 == 0) bad.resize(random() % bad.size());
            size_t read = 0;
            const bool whole = unpackEvents(bad, uint32_t(events.size()), 0,
                                            [&](std::span<const layout::RawEvent> some) { read += some.size(); });
            QVERIFY(whole ? read == events.size() : read <= events.size());
            refused += !whole;
        }
        QVERIFY(refused > 10'000);
        QVERIFY(!unpackEvents(good, 5, 0, [](std::span<const layout::RawEvent>) {}));
        QVERIFY(!unpackEvents(good, UINT32_MAX, 0, [](std::span<const layout::RawEvent>) {}));
    }

    void unknownBlocksAndReservedEventsAreSkipped() {
        std::string bytes;
        layout::BlockFile file([&](std::string_view part) {
            bytes.append(part);
            return true;
        });
        layout::FileHeader header{};
        header.clock = 1;
        header.nsPerTick = 1;
        file.writeHeader(header);
        file.writeBlock(static_cast<layout::BlockType>(900), 0, 1, 0, 0, "from the future");
        std::string payload;
        uint64_t last = 7;
        layout::appendEvent(payload, {7, EventKind::MarkBegin, 1, 0, 0, {}}, last);
        layout::appendVarint(payload, 31);  // a kind of a later version: its bytes are counted
        layout::appendVarint(payload, 0);
        payload += static_cast<char>(200);
        layout::appendText(payload, "xyz");
        layout::appendEvent(payload, {9, EventKind::MarkEnd, 0, 0, 0, {}}, last);
        file.writeBlock(layout::BlockType::Events, 4, 3, 7, 9, payload);
        file.writeIndex();
        EventStore store;
        const auto damage = read(bytes, store);
        QVERIFY(damage);
        QVERIFY(!damage->any());
        QCOMPARE(store.lanes.at(4).size(), size_t{2});
        QCOMPARE(store.lanes.at(4)[1].time, int64_t{9});
    }

    void ticksBecomeTimesAlongTheClocksPairs() {
        std::string bytes;
        layout::BlockFile file([&](std::string_view part) {
            bytes.append(part);
            return true;
        });
        layout::FileHeader header{};
        header.clock = 2;
        header.nsPerTick = 0.5;
        header.originTicks = 1000;
        file.writeHeader(header);
        // 1000 ticks are 400 ns at first, then 600 ns: the clock was measured three times.
        for (const layout::ClockPair pair : {layout::ClockPair{1000, 0}, {2000, 400}, {3000, 1000}})
            file.writeBlock(layout::BlockType::Clock, 0, 1, pair.ticks, pair.ticks,
                            {reinterpret_cast<const char*>(&pair), sizeof pair});
        std::string payload;
        uint64_t last = 500;
        for (const uint64_t ticks : {500u, 1000u, 1500u, 2000u, 2500u, 3000u, 4000u})
            layout::appendEvent(payload, {ticks, EventKind::MarkEnd, 0, 0, 0, {}}, last);
        file.writeBlock(layout::BlockType::Events, 1, 7, 500, 4000, payload);
        file.writeIndex();
        EventStore store;
        QVERIFY(read(bytes, store));
        QList<qint64> times;
        for (const Event& event : store.lanes.at(1)) times << event.time;
        QCOMPARE(times, (QList<qint64>{-200, 0, 200, 400, 700, 1000, 1600}));
    }

    void withAndWithoutItsIndexAFileReadsTheSame() {
        std::string bytes = asBinary(longOne());
        EventStore with, without;
        QVERIFY(read(bytes, with));
        bytes.resize(bytes.size() - sizeof(layout::Trailer));
        const auto damage = read(bytes, without);
        QVERIFY(damage);
        QVERIFY(damage->indexMissing);
        QCOMPARE(damage->lostBlocks, uint64_t{0});
        QCOMPARE(asText(without), asText(with));
    }

    void aRecordingCutAnywhereKeepsEveryWholeBlockBefore() {
        const std::string whole = asBinary(longOne());
        MemorySource source(whole);
        const BlockDirectory directory = findBlocks(source);
        QVERIFY(directory.indexed);
        QVERIFY(directory.blocks.size() > 6);
        for (size_t cut = 64; cut < whole.size(); cut += 20'011) {
            size_t expected = 0;
            for (const auto& block : directory.blocks)
                if (block.offset + 64 + block.payloadBytes <= cut && block.type == uint32_t(layout::BlockType::Events))
                    expected += block.count;
            EventStore store;
            const auto damage = read(whole.substr(0, cut), store);
            if (cut < directory.blocks[0].offset + 64 + directory.blocks[0].payloadBytes)
                continue;  // no block is whole
            QVERIFY(damage);
            QVERIFY(damage->indexMissing);
            size_t found = 0;
            for (const auto& [lane, events] : store.lanes)
                for (const Event& event : events) found += event.kind != EventKind::Lost;
            QCOMPARE(found, expected);
        }
    }

    void flippedBytesCostTheirBlockAndNothingElse() {
        const std::string whole = asBinary(longOne());
        MemorySource source(whole);
        const BlockDirectory directory = findBlocks(source);
        std::mt19937 random(11);
        for (int round = 0; round < 60; ++round) {
            std::string bytes = whole;
            const size_t at = 64 + random() % (bytes.size() - 64);
            bytes[at] = static_cast<char>(bytes[at] ^ (1 + random() % 255));
            EventStore store;
            const auto damage = read(bytes, store);
            QVERIFY(damage);
            size_t found = 0, told = 0, expected = 0;
            for (const auto& [lane, events] : store.lanes)
                for (const Event& event : events) event.kind == EventKind::Lost ? void(told += event.a) : void(++found);
            for (const auto& block : directory.blocks)
                if (block.type == uint32_t(layout::BlockType::Events) &&
                    (at < block.offset || at >= block.offset + 64 + block.payloadBytes))
                    expected += block.count;
            QVERIFY2(found >= expected, qPrintable(QString("byte %1: %2 of %3").arg(at).arg(found).arg(expected)));
            QVERIFY(found + told <= 240'000);
        }
    }

    void anyBytesAtAllAreReadWithoutACrash() {
        const std::string binary = asBinary(everything()), text = asText(everything());
        EventStore whole;
        QVERIFY(read(binary, whole).ok());
        std::mt19937 random(5);
        for (int round = 0; round < 4000; ++round) {
            std::string bytes = round % 2 ? binary : text;
            for (unsigned flips = 1 + random() % 12; flips > 0; --flips) {
                const size_t at = random() % bytes.size();
                switch (random() % 3) {
                    case 0: bytes[at] = static_cast<char>(random()); break;
                    case 1: bytes.erase(at, random() % 9); break;
                    default: bytes.insert(at, random() % 9, static_cast<char>(random()));
                }
                if (bytes.empty()) bytes = "{";
            }
            EventStore store;
            const auto damage = read(bytes, store);
            QVERIFY(saysSomethingSensible(damage, store));
            // Of the binary form a damaged block is left out as a whole: nothing comes back that was not there, and
            // what is missing is told.
            if (!damage || bytes.compare(0, 8, binary, 0, 8) != 0) continue;
            const auto before = whatIsSaid(whole), after = whatIsSaid(store);
            if (round % 2) QVERIFY(std::includes(before.begin(), before.end(), after.begin(), after.end()));
            if (round % 2 && after.size() < before.size()) QVERIFY(damage->any());
        }
    }

    void damagedPayloadsThatPassTheirChecksumAreReadSafely() {
        std::mt19937 random(6);
        for (int round = 0; round < 3000; ++round) {  // as a hostile writer would make them
            std::string bytes, payload(random() % 200, '\0');
            for (char& c : payload) c = static_cast<char>(random());
            layout::BlockFile file([&](std::string_view part) {
                bytes.append(part);
                return true;
            });
            layout::FileHeader header{};
            header.clock = 1 + random() % 3;
            header.nsPerTick = std::ldexp(1.0, static_cast<int>(random() % 200) - 100);
            header.originTicks = random();
            file.writeHeader(header);
            const auto type = static_cast<layout::BlockType>(1 + random() % 4);
            file.writeBlock(type, random(), random(), random(), random(), payload);
            if (round % 2) file.writeIndex();
            EventStore store;
            QVERIFY(saysSomethingSensible(read(bytes, store), store));
            QVERIFY(store.eventCount() <= payload.size() + 1);  // an event takes a byte at least; one tells of the rest
        }
    }

    void readingCanBeCancelled() {
        MemorySource source(asBinary(longOne()));
        EventStore store;
        const auto damage = readRecording(source, "file", store, [](double) { return false; });
        QVERIFY(!damage);
        QVERIFY(damage.failure().cancelled);
    }

    void writingLeavesNothingHalfDone() {
        QTemporaryDir folder;
        const QString path = folder.filePath("x.fugato");
        QVERIFY(!writeRecordingFile(path.toStdString(), longOne(), [](double) { return false; }));
        QVERIFY(QDir(folder.path()).isEmpty());
        QVERIFY(writeRecordingFile(path.toStdString(), longOne()));
        QCOMPARE(QDir(folder.path()).entryList(QDir::Files), QStringList{"x.fugato"});
        const auto unknown = writeRecordingFile(folder.filePath("x.txt").toStdString(), longOne());
        QVERIFY(!unknown);
        QVERIFY(QString::fromStdString(unknown.failure().sentence).contains(".fugato (binary) or .jsonl (text)"));
    }

    void textThatIsNotUtf8IsReplaced() {
        QCOMPARE(cleanUtf8("gr\xc3\xbc\xc3\x9f"
                           "e"),
                 std::string("grüße"));
        QCOMPARE(cleanUtf8("a\xff"
                           "b"),
                 std::string("a\xef\xbf\xbd"
                             "b"));
        QCOMPARE(cleanUtf8("\xed\xa0\x80"), std::string("\xef\xbf\xbd\xef\xbf\xbd\xef\xbf\xbd"));  // a surrogate
        QCOMPARE(cleanUtf8("\xe2\x82"), std::string("\xef\xbf\xbd\xef\xbf\xbd"));                  // cut
    }
};

QTEST_GUILESS_MAIN(FormatTest)
#include "format_test.moc"
