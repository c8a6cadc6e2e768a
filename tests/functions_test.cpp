// SPDX-License-Identifier: GPL-3.0-or-later
//
// Call stacks: which functions they name, and what these tell of late frames. Each answer is worked out by hand.
#include <sys/stat.h>

#include <QTemporaryDir>
#include <QtTest>
#include <nlohmann/json.hpp>
#include <sstream>

#include "cli/commands.h"
#include "core/ask/answer_tables.h"
#include "core/explain/advice/advice.h"
#include "core/explain/causes/confidence.h"
#include "core/explain/words/frame_sentences.h"
#include "core/symbols/cached_symbols.h"
#include "testing/explaining.h"
#include "testing/files.h"
#include "testing/sampled_recording.h"

using namespace fugato;

namespace {

std::shared_ptr<const Explanation> explainedWithFunctions(const TextRecording& t) {
    const auto r = t.open();
    return explain(r, sumCriticalPaths(*r, 0), {0, symbolsOf(*r, {})});
}
QStringList namesAt(const Symbols& symbols, uint64_t address, bool calling) {
    QStringList names;
    for (const Symbols::Place& place : symbols.at(address, calling))
        names << QString::fromStdString(symbols.nameOf(place.function));
    return names;
}
/// One call stack, and nothing else.
TextRecording oneStack(const std::string& stack) {
    TextRecording t = sampledProgram();
    t.mark(0, 1000, "main", "Work");
    sampled(t, 500, stack);
    return t;
}
std::string titles(const Explanation& e) {
    std::string all;
    for (const Cause& cause : e.causes) all += causeTitle(e, cause) + "\n";
    return all;
}

}  // namespace

class FunctionsTest : public QObject {
    Q_OBJECT

private slots:
    // ---- names ------------------------------------------------------------------------------------

    void functionsAreNamedAsTheyAreWritten_data() {
        QTest::addColumn<QString>("linkageName");
        QTest::addColumn<QString>("name");
        QTest::newRow("C") << "unpack_rows"
                           << "unpack_rows";
        QTest::newRow("method") << "_ZN5shore5Chart4loadEv"
                                << "shore::Chart::load";
        QTest::newRow("const, and what it returns") << "_ZNK4Sail4trimIiEET_S1_"
                                                    << "Sail::trim<int>";
        QTest::newRow("conversion") << "_ZNK4SailcvbEv"
                                    << "Sail::operator bool";
        QTest::newRow("call") << "_ZN4SailclEi"
                              << "Sail::operator()";
        QTest::newRow("less") << "_ZltRK4SailS1_"
                              << "operator<";
        QTest::newRow("part") << "_ZN4Sail4trimEi.cold"
                              << "Sail::trim";
        QTest::newRow("without a name") << "_ZN12_GLOBAL__N_14trimEv"
                                        << "(anonymous namespace)::trim";
        QTest::newRow("no linkage name after all") << "_ZNope"
                                                   << "_ZNope";
        QTest::newRow("lambda") << "_ZZN4Sail4trimEvENKUliE_clEi"
                                << "lambda in Sail::trim";
        QTest::newRow("lambda in a const function") << "_ZZNK4Sail4trimEvENKUlvE_clEv"
                                                    << "lambda in Sail::trim";
        QTest::newRow("as another compiler names it") << "_ZZN4Sail4trimEvEN3$_08__invokeEi"
                                                      << "lambda in Sail::trim";
        QTest::newRow("lambda as an argument") << "_ZSt8__invokeIZN4Sail4trimEvEUlvE_JEEvv"
                                               << "std::__invoke<Sail::trim()::{lambda()#1}>";
        QTest::newRow("brackets alone") << ")"
                                        << ")";
        QTest::newRow("control characters") << "a\x1b[31m"
                                            << "a\\x1b[31m";
    }
    void functionsAreNamedAsTheyAreWritten() {
        QFETCH(QString, linkageName);
        QFETCH(QString, name);
        QCOMPARE(QString::fromStdString(functionName(linkageName.toStdString().c_str())), name);
    }

    void stacksAreNamedWithModuleFileAndInlining() {
        const auto r = oneStack(stackText({Sampled::UnpackRows, Sampled::LoadChart, Sampled::RunRegatta})).open();
        const auto symbols = symbolsOf(*r, {});
        std::vector<Symbols::Place> stack;
        symbols->stackOf(*r, r->samples[0], stack);
        QCOMPARE(stack.size(), size_t{3});  // the outermost first
        QCOMPARE(symbols->fullName(stack[2].function), std::string("unpack_rows of libsampled_library.so"));
        QCOMPARE(symbols->nameOf(stack[0].function), std::string("shore::runRegatta"));
        const Symbols::Function& rows = symbols->functions[stack[2].function];
        QVERIFY(QString::fromStdString(rows.file).endsWith("testing/sampled_library.cpp"));
        QVERIFY(rows.line > 0 && stack[2].line >= rows.line && stack[2].line < rows.line + 4);
        QVERIFY(symbols->missing().empty());
        QVERIFY(!symbols->tells(Symbols::kNoModule));

        // Somewhere in load() lies what was inlined into it.
        std::vector<uint64_t> addresses;
        for (uint64_t further = 0; further < 64; ++further) addresses.push_back(placeIn(Sampled::LoadChart, further));
        const auto everywhere = oneStack(stackText(addresses)).open();
        const auto all = symbolsOf(*everywhere, {});
        bool inlined = false;
        for (const uint64_t address : addresses)
            inlined |= namesAt(*all, address + 1, true) == QStringList{"shore::readHeader", "shore::Chart::load"};
        QVERIFY(inlined);
    }

    void lambdasAreNamedByWhereTheyStand() {
        std::vector<uint64_t> addresses;
        for (uint64_t further = 0; further < 60; ++further) addresses.push_back(placeIn(Sampled::Anchored, further));
        const auto all = symbolsOf(*oneStack(stackText(addresses)).open(), {});
        QStringList names;
        for (const uint64_t address : addresses) names += namesAt(*all, address + 1, true);
        QVERIFY2(names.contains("lambda in shore::anchored"), qPrintable(names.join(", ")));
        QVERIFY2(!names.contains("operator()"), qPrintable(names.join(", ")));
    }

    void whatCannotBeNamedIsSaidOnce() {
        TextRecording t = oneStack(stackText(std::vector<uint64_t>{kLibraryAt + 0x3fff0000, 0x1234, kProgramAt + 2}));
        const auto nowhere = symbolsOf(*t.open(), {});
        QCOMPARE(nowhere->at(0x1234, true)[0].function, Symbols::kNoModule);
        QCOMPARE(nowhere->nameOf(Symbols::kNoModule), std::string("code without a name"));
        QCOMPARE(nowhere->fullName(nowhere->at(kLibraryAt + 0x3fff0000, false)[0].function),
                 std::string("code without a name of libsampled_library.so"));
        QCOMPARE(nowhere->at(0x99, false)[0].function, Symbols::kNoModule);  // in no stack

        QTemporaryDir folder;
        const std::string text = folder.filePath("text").toStdString(), pipe = folder.filePath("pipe").toStdString();
        putBytes(text, "no program");
        QCOMPARE(mkfifo(pipe.c_str(), 0600), 0);
        const auto sentenceFor = [&](const std::string& path, const std::string& buildId) {
            TextRecording other;
            module(other, 0x1000, path, buildId);
            other.lane("core 0", 9, "core").mark(0, 1000, "main", "Work");
            sampled(other, 500, stackText(std::vector<uint64_t>{0x1100}));
            const auto sentences = symbolsOf(*other.open(), {})->missing();
            return sentences.empty() ? std::string() : sentences[0];
        };
        QCOMPARE(sentenceFor("/nowhere/libsail.so", ""),
                 std::string(
                     "Functions of libsail.so have no names: /nowhere/libsail.so is not there, or may not be read."));
        QCOMPARE(sentenceFor(FUGATO_SAMPLED_LIBRARY, "00ff00ff00ff"),
                 "Functions of libsampled_library.so have no names: " + std::string(FUGATO_SAMPLED_LIBRARY) +
                     " is another build than the one recorded. Record again, or put that one back.");
        QCOMPARE(sentenceFor(text, ""), "Functions of text have no names: " + text + " cannot be read as a program.");
        QVERIFY(sentenceFor(pipe, "").find("is not there, or may not be read") != std::string::npos);
        QCOMPARE(sentenceFor("linux-vdso.so.1", ""), std::string());  // is no file, and nothing can be done
    }

    void stacksThatEndInALibraryAreTold() {
        TextRecording t = sampledProgram();
        t.mark(0, 20'000, "main", "Work");
        for (int i = 0; i < 10; ++i)
            sampled(t, 1000 * i,
                    i < 7 ? std::vector<Sampled>{Sampled::UnpackRows, Sampled::RunRegatta}
                          : std::vector<Sampled>{Sampled::UnpackRows});
        QCOMPARE(symbolsOf(*t.open(), {})->missing(),
                 std::vector<std::string>{"30 % of the call stacks end in libsampled_library.so, which was compiled "
                                          "without frame pointers: they do not tell who called it."});
    }

    // ---- kept for the next time --------------------------------------------------------------------

    void whatWasFoundIsKeptByBuildId() {
        QTemporaryDir folder;
        const std::string copy = folder.filePath("libcopy.so").toStdString(), kept = folder.path().toStdString(),
                          file = kept + "/" + kLibraryBuildId + ".symbols";
        putBytes(copy, bytesOf(FUGATO_SAMPLED_LIBRARY));
        TextRecording t;
        module(t, kLibraryAt, copy, kLibraryBuildId).lane("core 0", 9, "core").mark(0, 1000, "main", "Work");
        sampled(t, 500, {Sampled::UnpackRows});
        const auto r = t.open();
        const auto nameNow = [&] {
            const auto symbols = symbolsOf(*r, kept);
            return symbols->fullName(symbols->at(r->stackAddresses[0], false)[0].function);
        };
        QCOMPARE(nameNow(), std::string("unpack_rows of libcopy.so"));
        QVERIFY(QFile::exists(QString::fromStdString(file)));
        QVERIFY(QFile::remove(QString::fromStdString(copy)));
        QCOMPARE(nameNow(), std::string("unpack_rows of libcopy.so"));  // the library is gone
        // Whatever byte is damaged: it is not used.
        const QByteArray good = bytesOf(file);
        QVERIFY(!readCachedSymbols(file).places.empty());
        for (int at = 0; at < good.size(); ++at) {
            QByteArray bad = good;
            bad[at] = static_cast<char>(bad[at] ^ 0x40);
            putBytes(file, bad);
            QVERIFY2(readCachedSymbols(file).places.empty(), qPrintable(QString::number(at)));
            putBytes(file, good.left(at));
            QVERIFY(readCachedSymbols(file).places.empty());
        }
        QCOMPARE(nameNow(), std::string("code without a name of libcopy.so"));
        // A recording cannot say that it is kept elsewhere.
        for (const char* id : {"../../evil", "ABCDEF0123", "", "12"}) QVERIFY(symbolCachePath(kept, id).empty());
        QVERIFY(symbolCachePath("", kLibraryBuildId).empty());
    }

    void lookingUpIsCancelled() {
        const auto r = sampledFrames().open();
        QVERIFY(!symbolsOf(*r, {}, [](double) { return false; }));
        int asked = 0;
        QVERIFY(!symbolsOf(*r, {}, [&](double) { return ++asked < 4; }));
    }

    // ---- late frames -------------------------------------------------------------------------------

    void unmarkedTimeIsNamedByItsFunction() {
        const auto e = explainedWithFunctions(sampledFrames());
        QCOMPARE(e->figures.over, size_t{6});
        QCOMPARE(titles(*e), std::string("unpack_rows in Frame\nshore::sound<long> in Frame\n"));
        const Cause& load = e->causes[0];
        QCOMPARE(load.frames, (std::vector<uint32_t>{32, 35, 38}));
        QCOMPARE(load.late, int64_t{3 * 18'000'000});
        QCOMPARE(load.samples, size_t{3 * 18});
        QCOMPARE(load.ofSamples, size_t{3 * 22});
        QCOMPARE(causeKindPhrase(*e, load), std::string("no marker; in 54 of 66 call stacks"));
        QCOMPARE(e->causes[1].frames, (std::vector<uint32_t>{41, 44, 47}));
        // 18 of 22 ms: ± 22 · √(18/22 · 4/22 / 22).
        QCOMPARE(
            frameSentences(*e, 32)[0].text,
            std::string("Frame took 20.0 ms longer than usual outside its inner markers: 21.0 ms without one after "
                        "‘Work’. 18 of 22 call stacks there are in unpack_rows of libsampled_library.so, called "
                        "from shore::Chart::load: 18.0 ± 1.8 ms more than usual."));
        QCOMPARE(e->coverageOf(32).part(), 1.0);
        const Confidence sure = confidenceOf(*e, 32, load, e->segmentsOf(32));
        QCOMPARE(sure.level, ConfidenceLevel::Medium);
        QVERIFY(sure.doubts[0].find("samples of the call stack") != std::string::npos);
        QCOMPARE(waterfallOf(*e, 32)[0].title, std::string("unpack_rows in Frame"));
        QVERIFY(verdictSentence(*e).find("from 2 causes") != std::string::npos);
        // Each is repaired by itself, though both lie in the same marker.
        const auto repaired = predict(*e, {{0, false}});
        QCOMPARE(repaired->saved, 3u);
        QCOMPARE(repaired->duration[32], int64_t{8'000'000});
        QCOMPARE(repaired->duration[41], int64_t{20'000'000});
        // Without symbols it is one cause without a name.
        QCOMPARE(titles(*explained(e->recording)), std::string("Frame\n"));
    }

    void aMarkerKeepsItsNameAndTellsItsFunction() {
        // Work itself takes 12 ms longer, nearly all of it in sound().
        TextRecording t = sampledProgram();
        double at = 0;
        for (int f = 0; f < 40; ++f, at += 40'000) {
            const int more = f == 33 || f == 37 ? 12 : 0;
            t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 7000 + 1000 * more, "main", "Work");
            t.end(at + 8000 + 1000 * more, "main").frameEnd(at + 8000 + 1000 * more, "main");
            for (int ms = 0; ms < 8 + more; ++ms)
                sampled(t, at + 1000 * ms + 500,
                        ms >= 7 && more ? std::vector<Sampled>{Sampled::Sound, Sampled::FindCourse, Sampled::RunRegatta}
                                        : std::vector<Sampled>{Sampled::RunRegatta});
        }
        const auto e = explainedWithFunctions(t);
        QCOMPARE(titles(*e), std::string("Frame ▸ Work\n"));
        QCOMPARE(e->causes[0].kind, CauseKind::Slower);
        QCOMPARE(e->symbols->nameOf(e->causes[0].function), std::string("shore::sound<long>"));
        QVERIFY(frameSentences(*e, 33)[0].text.find("12 of 18 call stacks there are in shore::sound<long> of ") !=
                std::string::npos);
        const auto repaired = predict(*e, {{0, false}});
        QCOMPARE(repaired->duration[33], int64_t{8'000'000});
    }

    void letterStaysWhenFunctionsGetTheirNames() {
        const auto r = sampledFrames().open();
        const auto sums = sumCriticalPaths(*r, 0);
        const auto before = explain(r, sums, 0);
        const auto symbols = symbolsOf(*r, {});
        const auto after = explain(r, sums, {0, symbols}, {}, before.get());
        QCOMPARE(after->causes[0].letter, before->causes[0].letter);
        QCOMPARE(after->causes[1].letter, std::string("B"));
        // Under another budget, each keeps its own.
        const auto wider = explain(r, sums, {15'000'000, symbols}, {}, after.get());
        for (const Cause& cause : wider->causes)
            QCOMPARE(cause.letter, cause.function == after->causes[0].function ? std::string("A") : std::string("B"));
    }

    void timeOutsideAnyMarkerIsNamedAndRepaired() {
        // As before, but Frame ends with Work.
        TextRecording t = sampledProgram();
        double at = 0;
        for (int f = 0; f < 40; ++f, at += 40'000) {
            const int more = f == 33 || f == 37 ? 15 : 0;
            t.frame(at, "main").mark(at, at + 7000, "main", "Work").frameEnd(at + 8000 + 1000 * more, "main");
            for (int ms = 0; ms < 8 + more; ++ms)
                sampled(t, at + 1000 * ms + 500,
                        ms > 7 ? std::vector<Sampled>{Sampled::UnpackRows, Sampled::LoadChart, Sampled::RunRegatta}
                               : std::vector<Sampled>{Sampled::RunRegatta});
        }
        const auto e = explainedWithFunctions(t);
        QCOMPARE(titles(*e), std::string("unpack_rows in main, outside any marker\n"));
        QCOMPARE(
            frameSentences(*e, 33)[0].text,
            std::string("main spent 15.0 ms longer than usual outside any marker. 15 of 16 call stacks there are in "
                        "unpack_rows of libsampled_library.so, called from shore::Chart::load: 15.0 ± 1.0 ms more "
                        "than usual."));
        const auto repaired = predict(*e, {{0, false}});
        QCOMPARE(repaired->saved, 2u);
        QCOMPARE(repaired->duration[33], int64_t{8'000'000});
        QCOMPARE(predict(*e, {{0, true}})->duration[33], int64_t{7'000'000});
        QCOMPARE(
            whatIfSentence(*e, *repaired),
            std::string("If this took its usual time, 2 of its 2 late frames would meet their deadline, and no frame "
                        "would be late."));
    }

    void fewOrMissingSamplesNameNothing() {
        // Three samples where there should be twelve.
        TextRecording t = sampledProgram();
        double at = 0;
        for (int f = 0; f < 32; ++f, at += 40'000) sampledFrame(t, at);
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 7000, "main", "Work");
        for (int i = 0; i < 3; ++i)
            sampled(t, at + 8000 + 1000 * i, {Sampled::UnpackRows, Sampled::LoadChart, Sampled::RunRegatta});
        t.end(at + 20'000, "main").frameEnd(at + 20'000, "main");
        const auto e = explainedWithFunctions(t);
        QCOMPARE(titles(*e), std::string("Frame\n"));
        const Confidence sure = confidenceOf(*e, 32, e->causes[0], e->segmentsOf(32));
        QCOMPARE(sure.level, ConfidenceLevel::Low);
        // Frame's own 14 ms; a sample each ms is due.
        QVERIFY2(sure.doubts.back() ==
                     "only 3 call stacks were taken there instead of 14: it was in the system's own code, "
                     "or the machine stood still",
                 sure.doubts.back().c_str());
    }

    // ---- where threads block -----------------------------------------------------------------------

    void blockedTimeIsNamedByItsFunction() {
        for (const bool inside : {true, false}) {
            const auto e = explainedWithFunctions(blockedFrames(inside));
            QCOMPARE(e->recording->stops.size(), size_t{42});
            QVERIFY(e->recording->samples.empty());
            QCOMPARE(titles(*e), std::string(inside ? "Work\n" : "unpack_rows in main, outside any marker\n"));
            const Cause& cause = e->causes[0];
            QCOMPARE(cause.kind, CauseKind::Waiting);
            QCOMPARE(e->symbols->nameOf(cause.function), std::string("unpack_rows"));
            QCOMPARE(cause.ofSamples, size_t{0});
            QCOMPARE(frameSentences(*e, 33)[0].text,
                     "main was blocked 12.0 ms longer than usual in " +
                         std::string(inside ? "Work" : "main, outside any marker") +
                         ", in unpack_rows of libsampled_library.so, called from shore::Chart::load. No wait was "
                         "recorded there.");
            QCOMPARE(predict(*e, {{0, false}})->saved, 2u);

            const auto blockedIn = stacksIn(*e->recording, e->symbols, {TimeRange{0, 2'000'000'000}, true});
            const auto table = functionTable(blockedIn);
            QCOMPARE(table->columns().size(), size_t{6});
            bool found = false;
            for (uint32_t row = 0; row < table->rowLimit(); ++row)
                if (std::get<std::string>(table->value(row, kFunctionName)) == "unpack_rows") {
                    QCOMPARE(std::get<int64_t>(table->value(row, kFunctionSelf)), int64_t{24'000'000});
                    QCOMPARE(std::get<std::string>(table->value(row, kFunctionCaller)),
                             std::string("shore::Chart::load"));
                    QVERIFY(QString::fromStdString(std::get<std::string>(table->value(row, kFunctionSource)))
                                .contains("sampled_library.cpp"));
                    found = true;
                }
            QVERIFY(found);
            const auto frame = tableOfFrame(e, 33);
            found = false;
            for (uint32_t row = 0; row < frame->rowLimit(); ++row)
                if (std::get<std::string>(frame->value(row, kMarkerName)) == "blocked in unpack_rows") {
                    QCOMPARE(std::get<int64_t>(frame->value(row, kMarkerTotal)), int64_t{12'000'000});
                    found = true;
                }
            QVERIFY(found);
            const auto advice = adviceFor(*e);
            const auto mark = std::find_if(advice->begin(), advice->end(), [](const Advice& a) {
                return a.title == "Add a marker around unpack_rows";
            });
            QCOMPARE(mark != advice->end(), !inside);
        }
    }

    void adviceSaysWhereAMarkerShouldBe() {
        const auto e = explainedWithFunctions(sampledFrames());
        const auto advice = adviceFor(*e);
        const auto found = std::find_if(advice->begin(), advice->end(),
                                        [](const Advice& a) { return a.title == "Add a marker around unpack_rows"; });
        QVERIFY(found != advice->end());
        QCOMPARE(found->kind, AdviceKind::Unmarked);
        QCOMPARE(
            found->evidence,
            std::string("No marker tells what takes this time in Frame, but 54 of 66 call stacks of its 3 late frames "
                        "are in unpack_rows of libsampled_library.so, called from shore::Chart::load; 18.0 ms in "
                        "frame 32."));
    }

    // ---- tables ------------------------------------------------------------------------------------

    void tableOfFunctionsAndFrame() {
        const auto e = explainedWithFunctions(sampledFrames());
        const auto stacks = stacksIn(*e->recording, e->symbols, {TimeRange{e->frame(32).begin, e->frame(32).end}});
        const auto table = functionTable(stacks);
        QCOMPARE(table->rowLimit(), 3u);
        const auto text = [&](uint32_t row, size_t column) { return std::get<std::string>(table->value(row, column)); };
        QCOMPARE(text(0, kFunctionName), std::string("unpack_rows"));
        QCOMPARE(std::get<int64_t>(table->value(0, kFunctionSelf)), int64_t{18'000'000});
        QCOMPARE(text(0, kFunctionModule), std::string("libsampled_library.so"));
        QCOMPARE(text(0, kFunctionCaller), std::string("shore::Chart::load"));
        QCOMPARE(text(1, kFunctionName), std::string("shore::runRegatta"));
        QCOMPARE(std::get<int64_t>(table->value(1, kFunctionSamples)), int64_t{28});
        QCOMPARE(std::get<int64_t>(table->value(1, kFunctionSelfSamples)), int64_t{10});
        // Another thread has none.
        Scope core = TimeRange{0, 1'000'000'000};
        core.keepOnly(*e->recording, laneNamed(*e->recording, "core 0"));
        QCOMPARE(stacksIn(*e->recording, e->symbols, {core})->tree.total(), 0u);
        // Each sample once, in whatever stretches.
        const Scope parts({{0, 200'000'000}, {200'000'000, 500'000'000}, {400'000'000, 700'000'000}});
        QCOMPARE(parts.stretches, (std::vector<TimeRange>{{0, 700'000'000}}));
        const auto countIn = [&](const Scope& scope) { return stacksIn(*e->recording, e->symbols, {scope})->taken; };
        QCOMPARE(countIn(Scope({{e->frame(31).begin, e->frame(31).end}, {e->frame(32).begin, e->frame(32).end}})),
                 countIn(TimeRange{e->frame(31).begin, e->frame(31).end}) +
                     countIn(TimeRange{e->frame(32).begin, e->frame(32).end}));

        const auto frame = tableOfFrame(e, 32);
        QStringList rows;
        for (uint32_t row = 0; row < frame->rowLimit(); ++row)
            if (std::get<std::string>(frame->value(row, kMarkerName)).rfind("in ", 0) == 0) {
                const Table::Row above = frame->parentOf(row);
                rows << QString::fromStdString(std::get<std::string>(frame->value(above, kMarkerName)) + ": " +
                                               std::get<std::string>(frame->value(row, kMarkerName))) +
                            QString(" %1").arg(std::get<int64_t>(frame->value(row, kMarkerTotal)) / 1000);
            }
        rows.sort();
        // 18 of 22, and 4 of 22, of the 22 ms that Frame took itself.
        QCOMPARE(rows,
                 (QStringList{"Frame: in shore::runRegatta, 4 samples 4000", "Frame: in unpack_rows, 18 samples 18000",
                              "Work: in shore::runRegatta, 6 samples 6000"}));
    }

    void commandLineTellsFunctions() {
        QTemporaryDir folder;
        const std::string path = folder.filePath("sampled.jsonl").toStdString();
        putBytes(path, QByteArray::fromStdString(sampledFrames().text()));
        qputenv("XDG_CACHE_HOME", folder.path().toUtf8());
        const auto run = [&](std::vector<const char*> arguments, int expected = kExitOk) {
            arguments.insert(arguments.begin(), "fugato-cli");
            std::ostringstream out, err;
            const int code = runCli(static_cast<int>(arguments.size()), arguments.data(), out, err);
            if (code != expected) qFatal("exit code %d: %s", code, err.str().c_str());
            return out.str() + err.str();
        };
        const auto json = nlohmann::json::parse(run({"explain", "--json", path.c_str()}));
        const auto function = json["causes"][0]["function"];
        QCOMPARE(function["name"].get<std::string>(), std::string("unpack_rows"));
        QCOMPARE(function["module"].get<std::string>(), std::string("libsampled_library.so"));
        QCOMPARE(function["samples"].get<int>(), 54);
        QCOMPARE(function["of_samples"].get<int>(), 66);
        QVERIFY(json["causes"][0]["key"].get<std::string>().find("unpack_rows") != std::string::npos);
        const std::string csv = run({"stacks", "--csv", "--from", "1.28", "--to", "1.32", path.c_str()});
        QVERIFY2(csv.find("unpack_rows,18000000,18000000,libsampled_library.so") != std::string::npos, csv.c_str());
        QVERIFY(run({"stacks", "--lane", "nobody", path.c_str()}, kExitNothingFound).find("no lane named") !=
                std::string::npos);
        putBytes(path, QByteArray::fromStdString(contendedFrames().text()));
        QVERIFY(run({"stacks", path.c_str()}, kExitNothingFound).find("FUG_OS_SAMPLES") != std::string::npos);
    }

    // ---- waits for the tick ------------------------------------------------------------------------

    void aTickThatComesLateIsTheCause() {
        // Work takes 4 ms of 16 in every frame; in frame 33 the wait for the tick ends 20 ms late.
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 40; ++f) {
            const double length = 16'000 + (f == 33 ? 20'000 : 0);
            t.frame(at, "main", 16'000).mark(at, at + 4000, "main", "Work");
            t.wait(at + 4000, "main", "Wait for tick", "tick", "pacing").waitEnd(at + length, "main");
            t.frameEnd(at + length, "main");
            at += length;
        }
        const auto e = explained(t.open());
        QCOMPARE(e->figures.over, size_t{1});
        QCOMPARE(titles(*e), std::string("Wait for tick\n"));
        QCOMPARE(
            frameSentences(*e, 33)[0].text,
            std::string("main waited for the next tick 20.0 ms longer than usual in Wait for tick. Its work was done "
                        "in time; this wait ended late."));
        QCOMPARE(e->coverageOf(33).part(), 1.0);
    }
};

QTEST_GUILESS_MAIN(FunctionsTest)
#include "functions_test.moc"
