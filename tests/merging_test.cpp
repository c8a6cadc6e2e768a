// SPDX-License-Identifier: GPL-3.0-or-later
//
// One recording of several programs: everything that each told is in it, under its own names and at its own times; what
// the system told of the cores is there once.
#include "format/merging.h"

#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>

#include "core/ask/core_use.h"
#include "core/ask/other_programs.h"
#include "core/ask/scope_choice.h"
#include "core/model/keys.h"
#include "format/recording_file.h"
#include "testing/opened.h"
#include "testing/patience.h"
#include "testing/text_recording.h"

using namespace fugato;
using layout::DefinitionType;
using layout::ValueKind;

namespace {

constexpr int64_t kStarted = 1'800'000'000'000'000'000, kApart = 300'000'000;

bool isOfCores(EventKind kind) {
    return kind == EventKind::Switch || kind == EventKind::Sample || kind == EventKind::WakeUp ||
           kind == EventKind::ThreadEnd;
}

/// What a definition is called, by type and id.
std::map<std::pair<DefinitionType, uint32_t>, std::string> namesIn(const EventStore& store) {
    std::map<std::pair<DefinitionType, uint32_t>, std::string> names;
    for (const Definition& definition : store.definitions)
        std::visit(
            [&](const auto& d) {
                if constexpr (requires { d.id, d.name; }) names[{d.kType, d.id}] = d.name;
            },
            definition);
    return names;
}

/// A recording of a program of one thread, 7, and process 7, on a machine of one core.
class OneThread {
public:
    explicit OneThread(const std::string& program, uint32_t thread = 7, int64_t started = kStarted) {
        part.file = program + ".fugato";
        part.recording.started(started);
        context("program", program);
        context("process", std::to_string(thread));
        part.recording.define(LaneDefinition{1, LaneKind::Thread, thread, "main", "loop"});
        part.recording.define(LaneDefinition{2, LaneKind::Core, 0, "core 0", "core"});
        part.recording.define(SiteDefinition{1, 0, 0, "Work", "", "", ""});
        part.recording.define(OsThreadDefinition{thread, thread, program, 0});
        mark(0, 1'000'000);
    }
    OneThread& context(const std::string& key, const std::string& value) {
        part.recording.define(ContextDefinition{key, value});
        return *this;
    }
    OneThread& mark(int64_t begin, int64_t end) {
        part.recording.event(1, {begin, EventKind::MarkBegin, 1, 0, 0, {}});
        part.recording.event(1, {end, EventKind::MarkEnd, 0, 0, 0, {}});
        return *this;
    }
    OneThread& runs(int64_t time, uint32_t thread, bool readyBefore = false) {
        part.recording.event(2, {time, EventKind::Switch, thread, readyBefore, 0, {}});
        return *this;
    }
    MergePart part;
};

template <class... Parts>
std::vector<MergePart> partsOf(Parts&... parts) {
    std::vector<MergePart> all;
    (all.push_back(std::move(parts.part)), ...);
    return all;
}

QString mergedOf(std::vector<MergePart> parts, EventStore& into) {
    auto merged = mergeRecordings(parts);
    if (!merged) return QString::fromStdString(merged.failure().sentence);
    into = std::move(*merged);
    return {};
}

/// "0 game, 50 idle": who had core 0 from when on.
QString coreTold(const EventStore& merged) {
    QStringList told;
    for (const auto& [lane, events] : merged.lanes)
        for (const Event& event : events)
            if (event.kind == EventKind::Switch)
                told << QString("%1 %2%3")
                            .arg(event.time)
                            .arg(event.id == layout::kUnknownThread ? "?" : QString::number(event.id))
                            .arg(event.a ? " ready" : "");
    return told.join(", ");
}

}  // namespace

class MergingTest : public QObject {
    Q_OBJECT
private slots:
    void initTestCase() {
        QVERIFY(folder_.isValid());
        for (const int seed : {1, 2}) {
            QProcess skerry;
            skerry.start(SKERRY_PROGRAM, {"--virtual", "--seconds", "2", "--seed", QString::number(seed), "--out",
                                          path(QString("race %1.fugato").arg(seed))});
            QVERIFY(skerry.waitForFinished(kPatience) && skerry.exitCode() == 0);
        }
        // Their clock is virtual: two races that began 0.3 s apart.
        for (const int i : {0, 1}) {
            const std::string file = pathText(QString("race %1.fugato").arg(i + 1));
            EventStore race;
            QVERIFY(readRecordingFile(file, race));
            race.startedUnixNs = kStarted + i * kApart;
            race.define(ContextDefinition{"process", "1"});
            QVERIFY(writeRecordingFile(file, race));
        }
    }

    void everythingIsToldUnderItsNameAndAtItsTime() {
        std::vector<MergePart> parts = races();
        const int64_t shifts[] = {0, kApart};
        const std::string prefixes[] = {"", "skerry-regatta 2: "};
        std::map<std::pair<int, std::string>, std::vector<std::string>> wanted;  // by lane
        size_t all = 0;
        for (uint64_t part : {0, 1}) {
            const EventStore& store = parts[part].recording;
            auto names = namesIn(store);
            names.try_emplace({DefinitionType::Pool, 0}, "heap");
            if (part)
                for (auto& [key, name] : names)
                    if (key.first != DefinitionType::Site && key.first != DefinitionType::Key && !name.empty())
                        name = prefixes[part] + name;
            for (const auto& [lane, events] : store.lanes)
                for (const Event& event : events) {
                    if (isOfCores(event.kind)) continue;
                    Event moved = event;
                    moved.time += shifts[part];
                    if (hasNumber(event.kind) && event.a) moved.a ^= part << 56;
                    wanted[{0, names.at({DefinitionType::Lane, lane})}].push_back(described(moved, names));
                    ++all;
                }
        }
        EventStore merged;
        QCOMPARE(mergedOf(std::move(parts), merged), QString());
        QCOMPARE(merged.startedUnixNs, kStarted);
        auto names = namesIn(merged);
        names.try_emplace({DefinitionType::Pool, 0}, "heap");
        std::map<std::pair<int, std::string>, std::vector<std::string>> told;
        for (const auto& [lane, events] : merged.lanes)
            for (const Event& event : events)
                if (!isOfCores(event.kind))
                    told[{0, names.at({DefinitionType::Lane, lane})}].push_back(described(event, names));
        QVERIFY(all > 10'000);
        QCOMPARE(told.size(), wanted.size());
        for (const auto& [lane, events] : wanted) {
            const auto& its = told[lane];
            QVERIFY2(its.size() == events.size(), lane.second.c_str());
            for (size_t i = 0; i < events.size(); ++i) QCOMPARE(its[i], events[i]);
        }
    }

    void programsStandApart() {
        const auto one = opened(pathText("race 1.fugato")), two = opened(pathText("race 2.fugato"));
        const auto both = merged("both.fugato");
        QVERIFY(both->programNames().size() == 2 && one->programNames().empty());
        QCOMPARE(both->notes(), one->notes());
        QCOMPARE(both->context.at("program"), std::string("skerry-regatta + skerry-regatta 2"));
        QVERIFY(recordingId(*both) != recordingId(*one) && recordingId(*both) != recordingId(*two));
        QCOMPARE(recordingId(*merged("again.fugato")), recordingId(*both));
        QCOMPARE(both->markerCount(), one->markerCount() + two->markerCount());
        QCOMPARE(both->stackCount(), one->stackCount() + two->stackCount());
        QCOMPARE(both->ownProcesses().size(), size_t{2});
        const uint32_t main = laneNamed(*both, "main"), other = laneNamed(*both, "skerry-regatta 2: main");
        QVERIFY(main != kNone && other != kNone);
        QCOMPARE(both->lanes[main].program, std::string("skerry-regatta"));
        QCOMPARE(both->lanes[other].program, std::string("skerry-regatta 2"));
        QVERIFY(both->lanes[main].group != both->lanes[other].group);
        // Frames of each, the stages of the first, and the other's under their own names.
        for (const auto& [name, its] : {std::pair("race", one), std::pair("skerry-regatta 2: race", two)}) {
            const auto series = std::find_if(both->series.begin(), both->series.end(),
                                             [name = std::string(name)](const Series& s) { return s.name == name; });
            QVERIFY2(series != both->series.end(), name);
            QCOMPARE(series->frames.size(), its->series[0].frames.size());
        }
        QCOMPARE(both->stageNames(), one->stageNames());
        // From files, as the person merges them: the same to the last text.
        const std::string file = pathText("files.fugato");
        QVERIFY(mergeRecordingFiles({pathText("race 1.fugato"), pathText("race 2.fugato")}, file));
        const auto fromFiles = opened(file);
        QCOMPARE(fromFiles->stageNames(), one->stageNames());
        QCOMPARE(fromFiles->points.size(), both->points.size());
        for (size_t i = 0; i < both->points.size(); ++i)
            QCOMPARE(fromFiles->text(fromFiles->points[i].text), both->text(both->points[i].text));
        // The keys of the first program's lanes are those that they have by themselves.
        const auto keys = laneKeys(*both), own = laneKeys(*one);
        QCOMPARE(keys[main], own[laneNamed(*one, "main")]);
        // Both are programs that were recorded: cores tell of each of them.
        QVERIFY(!tellsOtherPrograms(*both));
        Scope whole;
        whole.stretches = {{both->begin, both->end}};
        const auto use = coreUse(*both, whole);
        std::map<std::string, int64_t> ran;
        for (const ThreadUse& thread : use->threads) ran[thread.program] += thread.ran;
        QVERIFY(ran["skerry-regatta"] > 0 && ran["skerry-regatta 2"] > 0);
        QCOMPARE(ran.size(), size_t{2});
        const auto curve = coreCurve(*both, {both->begin, both->end}, 10, true, 5);
        QCOMPARE(curve->names.size(), size_t{2});
        // Only one's lanes.
        ScopeChoice choice;
        choice.lanes = ScopeChoice::Lanes::Program;
        choice.group = "skerry-regatta 2";
        const auto chosen = chosenScope(*both, nullptr, choice, {});
        QVERIFY(chosen && chosen->words == "whole recording on skerry-regatta 2");
        for (uint32_t lane = 0; lane < both->lanes.size(); ++lane)
            QCOMPARE(chosen->scope.has(lane), both->lanes[lane].program == choice.group);
        choice.group = "skerry-regatta 3";
        QVERIFY(!chosenScope(*both, nullptr, choice, {}));
        // Code lies at the same addresses in both: each call stack is of its own program's modules.
        for (size_t i = 0; i < both->stackCount(); i += 50) {
            const StackSample& stack = both->stack(i);
            if (!stack.count) continue;
            const uint64_t address = both->stackAddresses[stack.first];
            QCOMPARE(address >> 56, uint64_t{both->osThreads.at(stack.thread).process != 1});
            QVERIFY(both->addressText(address).find("skerry+") != std::string::npos);
        }
    }

    void theTextFormHoldsItToo() {
        const auto both = merged("both.fugato"), text = merged("both.jsonl");
        QCOMPARE(text->markerCount(), both->markerCount());
        QCOMPARE(text->lanes.back().program, both->lanes.back().program);
        QCOMPARE(text->programNames(), both->programNames());
    }

    void coresAreToldOnce_data() {
        QTest::addColumn<std::function<void(OneThread&, OneThread&)>>("tell");
        QTest::addColumn<QString>("told");
        constexpr uint32_t kIdle = layout::kIdleThread, kUnknown = layout::kUnknownThread;
        using Two = std::function<void(OneThread&, OneThread&)>;
        QTest::newRow("each sees all") << Two([](OneThread& game, OneThread& server) {
            game.runs(0, 7).runs(100, 9, true).runs(200, kIdle).runs(300, 50).runs(400, 7);
            server.runs(0, 7).runs(101, 9).runs(201, kIdle).runs(301, 50).runs(401, 7);
        }) << "0 7, 100 ? ready, 101 9, 200 0, 300 50, 400 7";
        QTest::newRow("each sees itself only") << Two([](OneThread& game, OneThread& server) {
            game.runs(0, 7).runs(100, kUnknown).runs(400, 7).runs(500, kUnknown);
            server.runs(0, kUnknown).runs(98, 9).runs(300, kUnknown).runs(402, kUnknown);
        }) << "0 7, 98 9, 300 ?, 400 7, 500 ?";
        QTest::newRow("the second sees all") << Two([](OneThread& game, OneThread& server) {
            game.runs(0, 7).runs(100, kUnknown).runs(400, 7).runs(500, kUnknown);
            server.runs(0, 7).runs(98, 9).runs(300, kIdle).runs(401, 7).runs(500, kIdle);
        }) << "0 7, 98 9, 300 0, 400 7, 500 ?, 500 0";
        QTest::newRow("the second ended before") << Two([](OneThread& game, OneThread& server) {
            game.runs(0, 7).runs(100, 9).runs(200, 7).runs(300, 9).runs(400, 7);
            server.runs(0, 7).runs(100, 9).runs(200, 7);
        }) << "0 7, 100 ?, 100 9, 200 7, 300 9, 400 7";
    }
    void coresAreToldOnce() {
        QFETCH(std::function<void(OneThread&, OneThread&)>, tell);
        OneThread game("game", 7), server("server", 9);
        tell(game, server);
        EventStore into;
        QCOMPARE(mergedOf(partsOf(game, server), into), QString());
        QTEST(coreTold(into), "told");
    }

    void threadsWithOneNumberAreTwo() {  // in two containers both programs are process 7
        OneThread game("game", 7), server("server", 7);
        game.runs(0, 7).runs(100, layout::kUnknownThread);
        server.runs(100, 7).runs(200, layout::kUnknownThread);
        EventStore into;
        QCOMPARE(mergedOf(partsOf(game, server), into), QString());
        const QString other = QString::number(1u << 30);
        QCOMPARE(coreTold(into), "0 7, 100 ?, 100 " + other + ", 200 ?");
    }

    void whatTheySayOfTheRun() {
        OneThread game("game"), server("server", 9), third("server", 11);
        game.context("cores", "2").context("build", "12").context("power", "mains");
        server.context("cores", "2").context("build", "13").context("seats", "40");
        EventStore into;
        QCOMPARE(mergedOf(partsOf(game, server, third), into), QString());
        std::map<std::string, std::string> told;
        for (const Definition& definition : into.definitions)
            if (const auto* d = std::get_if<ContextDefinition>(&definition)) told[d->key] = d->value;
        QCOMPARE(told["program"], std::string("game + server + server 2"));
        QCOMPARE(told["cores"], std::string("2"));
        QCOMPARE(told["build"], std::string("12"));
        QCOMPARE(told["server: build"], std::string("13"));
        QCOMPARE(told["server: process"], std::string("9"));
        QCOMPARE(told["seats"], std::string("40"));
        QCOMPARE(told["power"], std::string("mains"));
        QCOMPARE(told.count("server 2: cores"), size_t{0});
    }

    void whatCannotBeMergedIsSaid() {
        EventStore into;
        const auto why = [&](auto&&... parts) { return mergedOf(partsOf(parts...), into); };
        QVERIFY(why(OneThread("game")).startsWith("It takes two recordings"));
        QVERIFY(why(OneThread("game"), OneThread("server", 9, 0)).startsWith("server.fugato does not tell when"));
        QVERIFY(why(OneThread("game"), OneThread("server", 9, kStarted + 2'000'000))
                    .startsWith("game.fugato ended before server.fugato began."));
        OneThread empty("server", 9);
        empty.part.recording.lanes.clear();
        QVERIFY(why(OneThread("game"), empty).startsWith("server.fugato holds no event."));
        EventStore both;
        OneThread one("game"), two("server", 9);
        QCOMPARE(mergedOf(partsOf(one, two), both), QString());
        OneThread third("third", 11), merged("merged");
        merged.part.recording = std::move(both);
        QVERIFY(why(merged, third).startsWith("merged.fugato holds several programs already."));
        OneThread original("game"), copy("game");
        original.context("recording id", "one");
        copy.context("recording id", "one");
        QVERIFY(why(original, copy).contains("are the same recording"));
        OneThread here("game"), there("server");
        here.context("processor", "one");
        there.context("processor", "another");
        QVERIFY(why(here, there).contains("were made on different machines (processor: one; another)"));
        // Files: nothing that is there is written over, and what was cancelled leaves nothing.
        const std::string first = pathText("race 1.fugato"), second = pathText("race 2.fugato"),
                          out = pathText("cancelled.fugato");
        const auto over = mergeRecordingFiles({first, second}, second);
        QVERIFY(!over && over.failure().sentence.find("is there already") != std::string::npos);
        const auto written = mergeRecordingFiles({first, pathText("both.fugato")}, pathText("files.fugato"));
        QVERIFY(!written && written.failure().sentence.find("is there already") != std::string::npos);
        const auto missing = mergeRecordingFiles({first, pathText("none.fugato")}, out);
        QVERIFY(!missing && missing.failure().sentence.find("none.fugato") != std::string::npos);
        int asked = 0;
        double before = 0;
        QVERIFY(mergeRecordingFiles({first, second}, out, [&](double part) {
            if (part < before) qFatal("progress goes back");
            before = part;
            return ++asked > 0;
        }));
        QVERIFY(QFile::remove(path("cancelled.fugato")) && asked > 4);
        for (int most = 0; most < asked; ++most) {
            int calls = 0;
            const auto cancelled = mergeRecordingFiles({first, second}, out, [&](double) { return ++calls <= most; });
            QVERIFY(!cancelled && cancelled.failure().cancelled);
            QVERIFY(!QFile::exists(path("cancelled.fugato")));
        }
    }

    void twoRealProgramsAtOnce() {
        QProcess programs[2];
        for (const int i : {0, 1}) {
            programs[i].start(SKERRY_PROGRAM, {"--seconds", "600", "--troubles", "none", "--out",
                                               path(QString("real %1.fugato").arg(i))});
            QVERIFY(programs[i].waitForStarted());
        }
        for (const int i : {0, 1}) EVENTUALLY(QFileInfo(path(QString("real %1.fugato").arg(i))).size() > 100'000);
        for (QProcess& program : programs) {
            program.terminate();
            QVERIFY(program.waitForFinished(kPatience) && program.exitCode() == 0);
        }
        const std::string one = pathText("real 0.fugato"), two = pathText("real 1.fugato"),
                          out = pathText("real.fugato");
        const auto notes = mergeRecordingFiles({one, two}, out);
        QVERIFY2(notes.ok(), notes ? "" : notes.failure().sentence.c_str());
        const auto both = opened(out), first = opened(one), second = opened(two);
        QCOMPARE(both->markerCount(), first->markerCount() + second->markerCount());
        QCOMPARE(both->notes().size(), first->notes().size());
        // Threads of each run as its own recording tells.
        for (const auto& [its, prefix] : {std::pair(first, ""), std::pair(second, "skerry-regatta 2: ")}) {
            const Lane& alone = its->lanes[laneNamed(*its, "main")];
            const Lane& beside = both->lanes[laneNamed(*both, std::string(prefix) + "main")];
            const int64_t ran = alone.splitBetween(its->begin, its->end).ran,
                          ranBeside = beside.splitBetween(both->begin, both->end).ran;
            QVERIFY2(std::abs(ran - ranBeside) <= ran / 20, qPrintable(QString("%1 %2").arg(ran).arg(ranBeside)));
        }
        for (const Lane& lane : both->lanes)
            for (size_t i = 1; i < lane.coreSpans.size(); ++i)
                QVERIFY(lane.coreSpans[i - 1].end <= lane.coreSpans[i].begin);
    }

private:
    QString path(const QString& name) const { return folder_.filePath(name); }
    std::string pathText(const QString& name) const { return path(name).toStdString(); }

    std::vector<MergePart> races() const {
        std::vector<MergePart> parts(2);
        for (size_t i : {0, 1}) {
            parts[i].file = pathText(QString("race %1.fugato").arg(i + 1));
            if (!readRecordingFile(parts[i].file, parts[i].recording)) qFatal("the demo cannot be read");
        }
        return parts;
    }
    std::shared_ptr<const Recording> merged(const QString& name) const {
        EventStore into;
        if (const QString why = mergedOf(races(), into); !why.isEmpty()) qFatal("%s", qPrintable(why));
        if (!writeRecordingFile(pathText(name), into)) qFatal("it cannot be written");
        return opened(pathText(name));
    }

    static bool hasNumber(EventKind kind) {
        switch (kind) {
            case EventKind::WaitEnd:
            case EventKind::LinkOut:
            case EventKind::LinkIn:
            case EventKind::OperationBegin:
            case EventKind::OperationStep:
            case EventKind::OperationEnd:
            case EventKind::MemoryTaken:
            case EventKind::MemoryGiven: return true;
            default: return false;
        }
    }
    static std::string described(const Event& event,
                                 const std::map<std::pair<DefinitionType, uint32_t>, std::string>& names) {
        const auto& schema = layout::schemaOf(event.kind);
        const auto name = [&](const layout::EventValue& value, uint64_t id) {
            const auto known = names.find({value.of, static_cast<uint32_t>(id)});
            return value.kind != ValueKind::Id ? std::to_string(id) : known == names.end() ? "" : known->second;
        };
        return std::string(schema.name) + " " + std::to_string(event.time) + " " +
               (event.kind == EventKind::Picture ? "" : name(schema.id, event.id)) + " " + name(schema.a, event.a) +
               " " + std::to_string(event.b) + " " + std::string(event.text);
    }

    QTemporaryDir folder_;
};

QTEST_GUILESS_MAIN(MergingTest)
#include "merging_test.moc"
