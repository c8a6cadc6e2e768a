// SPDX-License-Identifier: GPL-3.0-or-later
//
// What stands in the schema of events and definitions is what every form of a recording writes and reads, and what
// the documents say.
#include <QFile>
#include <QtTest>
#include <random>
#include <tuple>

#include "format/packed_events.h"
#include "format/recording_file.h"
#include "format/text_form.h"

using namespace fugato;
using namespace fugato::layout;
using fugato::Definition;

namespace {

QString readAll(const QString& path) {
    QFile file(path);
    return file.open(QIODevice::ReadOnly) ? QString::fromUtf8(file.readAll()) : QString();
}

using View = std::string_view;
using TextDefinitions = std::tuple<LaneFields<View>, SiteFields<View>, SeriesFields<View>, ObjectFields<View>,
                                   CounterFields<View>, StateFields<View>, ContextFields<View>, KeyFields<View>,
                                   PoolFields<View>, OsThreadFields<View>, ModuleFields<View>>;
using ClockDefinitions = std::tuple<ClockFields<View>, ClockSyncFields<View>>;

template <class... Definitions, class Visit>
void eachOf(std::tuple<Definitions...>, Visit&& visit) {
    (visit(Definitions{}), ...);
}

QString row(const QStringList& cells) { return "| " + cells.join(" | ") + " |\n"; }

/// "os_thread" as "OsThread".
QString titleOf(const QString& name) {
    QString title;
    for (const QString& word : name.split('_')) title += word.left(1).toUpper() + word.mid(1);
    return title;
}

QString binaryDefinitions() {
    QString table = "| type | name | fields |\n|---|---|---|\n";
    const auto add = [&](const auto& definition) {
        using Told = std::decay_t<decltype(definition)>;
        QStringList fields;
        Told::fields(definition, [&](const char*, const auto& value, const char* meaning) {
            using Value = std::decay_t<decltype(value)>;
            QString text = meaning;
            if constexpr (std::is_same_v<Value, std::optional<double>>)
                text = "1 where it has a " + text + ", its bits";
            if constexpr (std::is_enum_v<Value>) {
                QStringList words;
                for (size_t i = 0; i < std::size(kWords<Value>); ++i)
                    words << QString("%1 %2").arg(i).arg(kWords<Value>[i].data());
                text += " (" + words.join(", ") + ")";
            }
            fields << text;
        });
        table += row({QString::number(int(Told::kType)), titleOf(Told::kName), fields.join(", ")});
    };
    eachOf(TextDefinitions{}, add);
    eachOf(ClockDefinitions{}, add);
    return table;
}

QString binaryEvents() {
    QString table = "| kind | name | id | adds | meaning |\n|---|---|---|---|---|\n";
    for (const EventSchema& event : kEvents) {
        const bool counted = kindIsCounted(event.kind);
        QStringList adds;
        const auto add = [&](const EventValue& value, const char* name) {
            if (value.kind == ValueKind::None) return;
            const bool text = value.kind == ValueKind::Text || value.kind == ValueKind::Bytes;
            adds << QString(counted || text                 ? name
                            : value.kind == ValueKind::Real ? "8 bytes"
                                                            : "varint") +
                        ": " + value.meaning;
        };
        add(event.a, "a");
        add(event.b, "b");
        add(event.text, "text");
        table += row({QString::number(int(event.kind)), event.name,
                      event.id.kind == ValueKind::None ? QString("0") : QString(event.id.meaning), adds.join("; "),
                      event.meaning});
    }
    return table;
}

QString textDefinitions() {
    QString table = "| `define` | fields |\n|---|---|\n";
    eachOf(TextDefinitions{}, [&](const auto& definition) {
        using Told = std::decay_t<decltype(definition)>;
        QStringList fields;
        Told::fields(definition, [&](const char* name, const auto&, const char*) {
            if (*name) fields << "`" + QString(name) + "`";
        });
        table += row({"`" + QString(Told::kName) + "`", fields.join(", ")});
    });
    return table;
}

QString textEvents() {
    QString table = "| `do` | more fields | meaning |\n|---|---|---|\n";
    for (const EventSchema& event : kEvents) {
        QStringList fields;
        for (const EventValue& value : {event.id, event.a, event.b, event.text}) {
            if (!*value.name) continue;
            QString field = "`" + QString(value.name) + "`";
            if (value.kind == ValueKind::Size) field += ", `height`";
            fields << (value.optional ? "[" + field + "]" : field);
        }
        table += row({"`" + QString(event.word) + "`", fields.join(", "), event.meaning});
    }
    return table;
}

/// What stands in a document between <!-- name --> and <!-- end -->.
void compareTable(const QString& document, const QString& name, const QString& table) {
    const QString path = QString(FUGATO_SOURCE_DIR "/") + document, text = readAll(path),
                  begin = "<!-- " + name + " -->\n";
    const auto from = text.indexOf(begin), to = text.indexOf("<!-- end -->", from);
    QVERIFY2(from >= 0 && to > from, qPrintable(document));
    const auto at = from + begin.size();
    if (qEnvironmentVariableIsSet("FUGATO_WRITE_DOCS")) {
        QFile file(path);
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write((text.left(at) + table + text.mid(to)).toUtf8());
        return;
    }
    QVERIFY2(text.mid(at, to - at) == table, qPrintable(document + " differs from the schema. Run schema_test with "
                                                                   "FUGATO_WRITE_DOCS=1 to make its tables anew."));
}

std::string someText(std::mt19937& random) {
    static const char* const texts[] = {"", "wind", "a longer text: \xc3\xa4 \xe2\x96\xb8",
                                        "\"quoted\" \\ and\ttabbed"};
    return texts[random() % std::size(texts)];
}

/// A value that an event of the kind may have.
uint64_t someNumber(std::mt19937& random, const EventValue& value) {
    const uint64_t number = random() % 3 == 0 ? random() % 4 : uint64_t{random()} << 32 | random();
    const double real = std::array{0.0, -0.5, 1e300, std::numeric_limits<double>::infinity()}[random() % 4];
    uint64_t bits = 0;
    std::memcpy(&bits, &real, sizeof bits);
    switch (value.kind) {
        case ValueKind::None: return 0;
        case ValueKind::Id: return 1 + random() % 3;
        case ValueKind::Flag: return random() % 2;
        case ValueKind::Severity: return random() % std::size(kWords<Severity>);
        case ValueKind::WaitKind: return random() % std::size(kWords<WaitKind>);
        case ValueKind::TypeOfA: return random() % std::size(kWords<ArgumentType>);
        case ValueKind::Real: return bits;
        default: return number;
    }
}

/// One event of every kind, with whatever values.
std::vector<Event> someEvents(std::mt19937& random, std::deque<std::string>& texts) {
    std::vector<Event> events;
    for (const EventSchema& schema : kEvents) {
        Event event{int64_t(events.size()) * 10,
                    schema.kind,
                    static_cast<uint32_t>(someNumber(random, schema.id)),
                    someNumber(random, schema.a),
                    someNumber(random, schema.b),
                    {}};
        if (schema.text.kind != ValueKind::None) event.text = texts.emplace_back(someText(random));
        if (schema.b.kind == ValueKind::TypeOfA) {
            if (event.b == uint64_t(ArgumentType::Text)) event.a = 0;
            if (event.b != uint64_t(ArgumentType::Text)) event.text = {};
            if (event.b == uint64_t(ArgumentType::Real)) event.a = someNumber(random, {ValueKind::Real});
        }
        events.push_back(event);
    }
    return events;
}

bool same(const Event& a, const Event& b) {
    return a.time == b.time && a.kind == b.kind && a.id == b.id && a.a == b.a && a.b == b.b && a.text == b.text;
}

}  // namespace

class SchemaTest : public QObject {
    Q_OBJECT

private slots:
    void theTablesInTheDocumentsComeFromIt() {
        // With FUGATO_WRITE_DOCS they are made anew.
        compareTable("docs/recording-format.md", "definitions", binaryDefinitions());
        compareTable("docs/recording-format.md", "events", binaryEvents());
        compareTable("docs/text-form.md", "definitions", textDefinitions());
        compareTable("docs/text-form.md", "events", textEvents());
    }

    void everyKindOfEventGoesThroughEveryForm() {
        std::mt19937 random(11);
        for (int round = 0; round < 50; ++round) {
            std::deque<std::string> texts;
            const std::vector<Event> events = someEvents(random, texts);
            EventStore store;
            store.define(LaneDefinition{1, LaneKind::Thread, 7, "main", "", 0});
            for (const Event& event : events) store.event(1, event);
            for (const char* suffix : {".fugato", ".jsonl"}) {
                const std::string path = (folder_.path() + "/all" + suffix).toStdString();
                QVERIFY(writeRecordingFile(path, store).ok());
                EventStore back;
                const auto damage = readRecordingFile(path, back);
                QVERIFY(damage.ok() && !damage->any());
                QCOMPARE(back.lanes.at(1).size(), events.size());
                for (size_t i = 0; i < events.size(); ++i)
                    QVERIFY2(same(back.lanes.at(1)[i], events[i]), schemaOf(events[i].kind).name);
                if (QString(suffix) != ".fugato") continue;
                QVERIFY(packRecordingFile(path, path).ok());
                EventStore unpacked;
                QVERIFY(readRecordingFile(path, unpacked).ok());
                QCOMPARE(unpacked.lanes.at(1).size(), events.size());
                for (size_t i = 0; i < events.size(); ++i)
                    QVERIFY2(same(unpacked.lanes.at(1)[i], events[i]), schemaOf(events[i].kind).name);
            }
        }
    }

    void everyDefinitionGoesThroughEveryForm() {
        const std::vector<Definition> definitions{
            LaneDefinition{3, LaneKind::Core, 9, "core 9", "cores", 0},
            SiteDefinition{4, 12, 5'000, "Draw", "picture", "what", "draw.cpp", 2},
            SeriesDefinition{5, 16'000'000, "race"},
            ObjectDefinition{6, "scene"},
            CounterDefinition{7, 0.25, "drops", "pieces"},
            CounterDefinition{8, std::nullopt, "drops", ""},
            StateDefinition{9, "stage"},
            ContextDefinition{"build", "1.2"},
            KeyDefinition{10, "boat"},
            PoolDefinition{11, "textures"},
            OsThreadDefinition{12, 13, "other"},
            ModuleDefinition{1ull << 40, 4096, 64, "/lib/x.so", "abcd"}};
        EventStore store;
        for (const Definition& definition : definitions) store.define(definition);
        store.event(3, {0, EventKind::LaneEnd, 0, 0, 0, {}});
        for (const char* suffix : {".fugato", ".jsonl"}) {
            const std::string path = (folder_.path() + "/definitions" + suffix).toStdString();
            QVERIFY(writeRecordingFile(path, store).ok());
            EventStore back;
            QVERIFY(readRecordingFile(path, back).ok());
            QCOMPARE(back.definitions.size(), definitions.size());
            for (size_t i = 0; i < definitions.size(); ++i) {
                const auto fields = [](const auto& definition) { return fieldsOf(definition); };
                QCOMPARE(back.definitions[i].index(), definitions[i].index());
                QVERIFY(std::visit(fields, back.definitions[i]) == std::visit(fields, definitions[i]));
            }
        }
    }

    void filesOfTheVersionBeforeStillOpen() {
        EventStore store;
        store.define(LaneDefinition{1, LaneKind::Thread, 7, "main", "", 0});
        store.event(1, {5, EventKind::LaneEnd, 0, 0, 0, {}});
        const QString path = folder_.path() + "/before.fugato";
        QVERIFY(writeRecordingFile(path.toStdString(), store).ok());
        for (const uint32_t version : {kFileVersion - 1, kFileVersion + 1}) {
            QFile file(path);
            QVERIFY(file.open(QIODevice::ReadWrite));
            FileHeader header;
            QCOMPARE(file.read(reinterpret_cast<char*>(&header), sizeof header), qint64{sizeof header});
            header.version = version;
            header.checksum = checksum(&header, offsetof(FileHeader, checksum));
            file.seek(0);
            file.write(reinterpret_cast<const char*>(&header), sizeof header);
            file.close();
            EventStore back;
            const auto damage = readRecordingFile(path.toStdString(), back);
            QCOMPARE(damage.ok(), version < kFileVersion);
            if (damage.ok()) QVERIFY(!damage->any() && back.eventCount() == 1);
        }
    }

    void numbersAreReadAlikeHoweverLongTheyAreAndWhereverTheyEnd() {
        const auto oneByOne = [](const uint8_t* at, const uint8_t* end) {  // the plain reading, byte after byte
            Varint read{nullptr, 0};
            for (int shift = 0; shift < 64 && at < end; shift += 7) {
                read.value |= static_cast<uint64_t>(*at & 0x7f) << shift;
                if (!(*at++ & 0x80)) {
                    read.end = at;
                    return read;
                }
            }
            return Varint{nullptr, 0};
        };
        std::mt19937_64 random(5);
        std::vector<std::string> texts{"", std::string(11, '\xff'), std::string(9, '\xff') + '\1', "\x80\x80\x05"};
        for (int i = 0; i < 4'000; ++i) {
            std::string& text = texts.emplace_back();
            for (int numbers = 0; numbers < 3; ++numbers) appendVarint(text, random() >> (random() % 64));
            if (i % 8 == 0) text[random() % text.size()] = static_cast<char>(random());
        }
        for (const std::string& text : texts)
            for (size_t size = 0; size <= text.size(); ++size) {
                const std::string part = text.substr(0, size);  // by itself, so that what lies behind it is not read
                const auto* at = reinterpret_cast<const uint8_t*>(part.data());
                const auto* end = at + size;
                const Varint wanted = oneByOne(at, end), read = varintAt(at, end);
                QVERIFY(read.end == wanted.end && (!read.end || read.value == wanted.value));
                uint64_t next = 0;
                const Varint two = twoVarintsAt(at, end, next);
                const Varint second = wanted.end ? oneByOne(wanted.end, end) : wanted;
                QVERIFY(two.end == second.end);
                QVERIFY(!two.end || (two.value == wanted.value && next == second.value));
            }
    }

    void moreThanThirtyTwoKindsHaveRoom() {
        for (const int kind : {1, 15, 16, 27, 30, 31, 32, 100, 255}) {
            const RawEvent event{5'000,
                                 static_cast<Kind>(kind),
                                 0xffffffff,
                                 kind < 16 ? 0u : 7u,
                                 kind < 16 ? 0u : 9u,
                                 kind < 16 ? "" : "words"};
            std::string bytes;
            uint64_t ticks = 4'000;
            appendEvent(bytes, event, ticks);
            appendEvent(bytes, {5'001, Kind::MarkEnd, 0, 0, 0, {}}, ticks);
            const auto* at = reinterpret_cast<const uint8_t*>(bytes.data());
            const auto* end = at + bytes.size();
            RawEvent back;
            ticks = 4'000;
            QVERIFY(readEvent(at, end, back, ticks));
            QCOMPARE(int(back.kind), kind);
            QVERIFY(back.id == event.id && back.ticks == event.ticks && back.a == event.a && back.b == event.b &&
                    back.text == event.text);
            QVERIFY(readEvent(at, end, back, ticks) && back.kind == Kind::MarkEnd && at == end);
            const std::vector<RawEvent> both{event, {5'001, Kind::MarkEnd, 0, 0, 0, {}}};
            std::vector<RawEvent> unpacked;
            QVERIFY(unpackEvents(packEvents(both, 4'000), 2, 4'000, [&](std::span<const RawEvent> events) {
                unpacked.insert(unpacked.end(), events.begin(), events.end());
            }));
            QCOMPARE(int(unpacked.at(0).kind), kind);
            QCOMPARE(unpacked.at(1).ticks, uint64_t{5'001});
        }
        for (const uint8_t kind : {0, 1, 30}) {  // there only what does not fit beside the id
            const uint8_t wrong[] = {kFurtherKinds, 0, kind, 0};
            const uint8_t* at = wrong;
            RawEvent event;
            uint64_t ticks = 0;
            QVERIFY(!readEvent(at, wrong + sizeof wrong, event, ticks));
        }
    }

private:
    QTemporaryDir folder_;
};

QTEST_GUILESS_MAIN(SchemaTest)
#include "schema_test.moc"
