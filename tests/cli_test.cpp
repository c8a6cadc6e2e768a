// SPDX-License-Identifier: GPL-3.0-or-later
//
// fugato-cli against stored output, and its exit codes.
#include <sys/stat.h>
#include <unistd.h>

#include <QFile>
#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

#include "cli/commands.h"
#include "core/ask/nested_markers.h"
#include "core/model/open_recording.h"
#include "testing/children.h"
#include "testing/patience.h"
#include "testing/text_recording.h"

using namespace fugato;
using nlohmann::json;

namespace {

struct Ran {
    int code;
    QString out, err;
};

Ran run(const QStringList& words) {
    std::vector<std::string> kept{"fugato-cli"};
    for (const QString& word : words) kept.push_back(word.toStdString());
    std::vector<const char*> argv;
    for (const std::string& word : kept) argv.push_back(word.c_str());
    std::ostringstream out, err;
    const int code = runCli(static_cast<int>(argv.size()), argv.data(), out, err);
    return {code, QString::fromStdString(out.str()), QString::fromStdString(err.str())};
}

QByteArray contents(const QString& path) {
    QFile file(path);
    return file.open(QIODevice::ReadOnly) ? file.readAll() : QByteArray("(missing)");
}

}  // namespace

class CliTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    QString demo_ = FUGATO_DEMO_RECORDING;

    static QString stored(const char* name) { return QString(FUGATO_SOURCE_DIR "/tests/stored/") + name; }
    /// Compares with tests/stored/NAME; with FUGATO_STORE=1 in the environment writes it instead.
    static void compareStored(const char* name, const QString& text) {
        if (qEnvironmentVariableIsSet("FUGATO_STORE")) {
            QFile file(stored(name));
            QVERIFY(file.open(QIODevice::WriteOnly));
            file.write(text.toUtf8());
            return;
        }
        QCOMPARE(text, QString::fromUtf8(contents(stored(name))));
    }

private slots:
    void initTestCase() {
        if (!kAddressSanitizer) return;
        demo_ = folder_.filePath("race.fugato");  // every event costs ten times as much: a shorter race has to do
        QProcess skerry;
        skerry.start(SKERRY_PROGRAM, {"--virtual", "--seconds", "10", "--out", demo_});
        QVERIFY(skerry.waitForFinished(kPatience) && skerry.exitCode() == 0);
    }

    void infoTellsWhatARecordingHolds() {
        const Ran ran = run({"info", stored("lock.jsonl")});
        QCOMPARE(ran.code, 0);
        QCOMPARE(ran.err, QString());
        compareStored("lock-info.txt", ran.out);
    }

    void explainNamesTheCauseInWords() {
        const Ran ran = run({"explain", stored("lock.jsonl")});
        QCOMPARE(ran.code, 0);
        compareStored("lock-explain.txt", ran.out);
    }

    void explainAsJsonHasTheDocumentedFields() {
        const Ran ran = run({"explain", "--json", stored("lock.jsonl")});
        QCOMPARE(ran.code, 0);
        compareStored("lock-explain.json", ran.out);
        const json all = json::parse(ran.out.toStdString());
        const json& frame = all["spikes"][0]["frames"][0];
        int64_t sum = 0;
        for (const json& part : frame["parts"]) sum += part["excess_ns"].get<int64_t>();
        QCOMPARE(sum, frame["duration_ns"].get<int64_t>() - frame["usual_ns"].get<int64_t>());
    }

    void aBudgetChangesWhatIsLate() {
        const auto over = [](const Ran& ran) {
            return json::parse(ran.out.toStdString())["series"][0]["over"].get<int>();
        };
        QCOMPARE(over(run({"explain", "--json", stored("lock.jsonl")})), 1);
        QCOMPARE(over(run({"explain", "--json", "--budget", "100", stored("lock.jsonl")})), 0);
        QCOMPARE(over(run({"explain", "--json", "--budget", "1", stored("lock.jsonl")})), 12);
    }

    void aPartIsExplainedAlone() {
        const auto part = [&](QStringList options, int code = kExitOk) {
            const Ran ran = run(QStringList{"explain", "--series", "0", demo_} + options);
            if (ran.code != code) qFatal("exit code %d: %s", ran.code, qPrintable(ran.err));
            return code == kExitOk ? json::parse(ran.out.toStdString()) : json();
        };
        const json whole = part({"--json"}), race = part({"--json", "--stage", "Race"}),
                   early = part({"--json", "--from", "0", "--to", "8"});
        QVERIFY(!whole.contains("scope"));
        QCOMPARE(race["scope"]["stage"].get<std::string>(), std::string("Race"));
        QCOMPARE(early["scope"]["end_ns"].get<int64_t>() - early["scope"]["begin_ns"].get<int64_t>(),
                 int64_t{8'000'000'000});
        for (const json& stage : whole["series"][0]["stages"])
            if (stage["name"] == "Race") {
                QCOMPARE(race["series"][0]["frames"], stage["frames"]);
                QCOMPARE(race["series"][0]["over"], stage["over"]);
            }
        QVERIFY(early["series"][0]["over"].get<int>() > 0);
        QVERIFY(early["series"][0]["over"].get<int>() < whole["series"][0]["over"].get<int>());
        part({"--stage", "Nowhere"}, kExitWrongUse);
        part({"--from", "9", "--to", "3"}, kExitWrongUse);
    }

    void convertGoesBothWaysWithoutLoss() {
        const QString binary = folder_.filePath("a.fugato"), text = folder_.filePath("a.jsonl"),
                      again = folder_.filePath("b.fugato");
        QCOMPARE(run({"convert", stored("lock.jsonl"), binary}).code, 0);
        QCOMPARE(run({"convert", binary, text}).code, 0);
        QCOMPARE(run({"convert", text, again}).code, 0);
        QCOMPARE(contents(again), contents(binary));
        QCOMPARE(run({"explain", "--json", binary}).out, run({"explain", "--json", stored("lock.jsonl")}).out);
    }

    void theDemoRecordingSurvivesTheWayThroughText() {
        const QString text = folder_.filePath("demo.jsonl"), back = folder_.filePath("demo.fugato"),
                      text2 = folder_.filePath("demo2.jsonl");
        QCOMPARE(run({"convert", demo_, text}).code, 0);
        QCOMPARE(run({"convert", text, back}).code, 0);
        QCOMPARE(run({"convert", back, text2}).code, 0);
        QVERIFY(contents(text) == contents(text2));
        QVERIFY(run({"explain", "--json", back}).out == run({"explain", "--json", demo_}).out);
    }

    void packingMakesItSmallerAndSaysTheSame() {
        const QString packed = folder_.filePath("packed.fugato"), plainText = folder_.filePath("plain.jsonl"),
                      packedText = folder_.filePath("packed.jsonl");
        const Ran ran = run({"pack", demo_, "--out", packed});
        QCOMPARE(ran.code, int(kExitOk));
        QVERIFY2(ran.out.contains("bytes became"), qPrintable(ran.out));
        QVERIFY(QFileInfo(packed).size() * 2 < QFileInfo(demo_).size());
        QCOMPARE(run({"convert", demo_, plainText}).code, int(kExitOk));
        QCOMPARE(run({"convert", packed, packedText}).code, int(kExitOk));
        QVERIFY(contents(plainText) == contents(packedText));
        const qint64 once = QFileInfo(packed).size();
        QCOMPARE(run({"pack", packed}).code, int(kExitOk));  // in place, and nothing more to gain
        QCOMPARE(QFileInfo(packed).size(), once);
        const Ran info = run({"info", packed});
        QVERIFY(info.out.contains("memory        sails"));
        QVERIFY(info.out.contains("never released"));
        QVERIFY(info.out.contains("operations    "));
    }

    void whatCannotBePackedIsToldAndLeftAlone() {
        const Ran text = run({"pack", stored("lock.jsonl"), "--out", folder_.filePath("no.fugato")});
        QCOMPARE(text.code, int(kExitUnreadable));  // the input is at fault
        QVERIFY(text.err.contains("is not a recording in binary form"));
        QVERIFY(!QFileInfo::exists(folder_.filePath("no.fugato")));
        const QString cut = folder_.filePath("cut.fugato");
        QFile whole(FUGATO_DEMO_RECORDING), file(cut);
        QVERIFY(whole.open(QIODevice::ReadOnly) && file.open(QIODevice::WriteOnly));
        file.write(whole.read(whole.size() / 2));
        file.close();
        const qint64 before = QFileInfo(cut).size();
        const Ran damaged = run({"pack", cut});
        QCOMPARE(damaged.code, int(kExitUnreadable));
        QVERIFY(damaged.err.contains("was not closed"));
        QCOMPARE(QFileInfo(cut).size(), before);
        QCOMPARE(run({"pack", "/nowhere.fugato"}).code, int(kExitUnreadable));
        QCOMPARE(run({"pack", FUGATO_DEMO_RECORDING, "--out", "/nowhere/packed.fugato"}).code, int(kExitNotWritten));
    }

    void packingInPlaceKeepsPermissionsAndOtherNames() {
        const QString file = folder_.filePath("kept.fugato"), hard = folder_.filePath("hard.fugato"),
                      soft = folder_.filePath("soft.fugato"), aside = folder_.filePath("aside.fugato");
        for (const bool linked : {false, true}) {
            for (const QString& old : {file, hard, soft, aside}) QFile::remove(old);
            QVERIFY(QFile::copy(demo_, file));
            ::chmod(qPrintable(file), 0640);
            if (linked) QCOMPARE(::link(qPrintable(file), qPrintable(hard)), 0);
            QVERIFY(QFile::link(file, soft));
            QCOMPARE(run({"pack", soft}).code, int(kExitOk));
            struct stat status {};
            QCOMPARE(::stat(qPrintable(file), &status), 0);
            QCOMPARE(int(status.st_mode & 0777), 0640);
            QCOMPARE(int(status.st_nlink), linked ? 2 : 1);
            QVERIFY(QFileInfo(soft).isSymLink());
            QVERIFY(QFileInfo(file).size() * 2 < QFileInfo(demo_).size());
            if (linked) QVERIFY(contents(file) == contents(hard));
        }
        // What stands where an older version put its temporary file is not followed.
        QVERIFY(QFile::link(folder_.filePath("victim"), file + ".part"));
        QCOMPARE(run({"pack", file}).code, int(kExitOk));
        QVERIFY(!QFile::exists(folder_.filePath("victim")));
        QCOMPARE(QDir(folder_.path()).entryList({".fugato-*"}, QDir::Files | QDir::Hidden), QStringList());
    }

    void wrongValuesAndCommandsAreNamed_data() {
        QTest::addColumn<QStringList>("words");
        QTest::addColumn<QString>("named");
        const QString file = FUGATO_DEMO_RECORDING;
        QTest::newRow("command") << QStringList{"dance"} << "\"dance\"";
        QTest::newRow("none") << QStringList{} << "a command is missing";
        QTest::newRow("negative") << QStringList{"marker", file, "Gust", "--longest", "-5"} << "--longest: \"-5\"";
        QTest::newRow("nan") << QStringList{"explain", file, "--budget", "nan"} << "--budget: \"nan\"";
        QTest::newRow("infinite") << QStringList{"table", file, "--from", "inf"} << "--from: \"inf\"";
        QTest::newRow("comma") << QStringList{"explain", file, "--budget", "16,7"} << "--budget: \"16,7\"";
        QTest::newRow("series") << QStringList{"explain", file, "--series", "-1"} << "--series: \"-1\"";
        QTest::newRow("option") << QStringList{"info", file, "--colour"} << "--colour";
        QTest::newRow("level") << QStringList{"info", file, "--log-level", "loud"} << "no level \"loud\"";
    }
    void wrongValuesAndCommandsAreNamed() {
        QFETCH(QStringList, words);
        QFETCH(QString, named);
        const Ran wrong = run(words);
        QCOMPARE(wrong.code, int(kExitWrongUse));
        QVERIFY2(wrong.err.contains(named), qPrintable(wrong.err));
    }

    void theLogTellsWhatIsOtherwiseKeptQuiet() {
        QTemporaryDir cache;
        QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
        environment.insert("XDG_CACHE_HOME", cache.path());
        const auto errorsOf = [&](const QStringList& arguments) {
            QProcess process;
            process.setProcessEnvironment(environment);
            process.start(FUGATO_CLI_PROGRAM, arguments);
            if (!process.waitForFinished(kPatience) || process.exitCode() != 0) qFatal("fugato-cli failed");
            return QString::fromUtf8(process.readAllStandardError());
        };
        const QString file = FUGATO_DEMO_RECORDING;
        QCOMPARE(errorsOf({"info", file}), QString());
        for (const QStringList& asked :
             {QStringList{"--log-level", "info", "info", file}, QStringList{"info", file, "--log-level", "info"}}) {
            const QString said = errorsOf(asked);
            QVERIFY2(said.contains("markers were read after") && said.contains(" info: "), qPrintable(said));
        }
        QCOMPARE(errorsOf({"--log-level", "error", "info", file}), QString());
        // What is in a name does not reach the terminal as a command to it.
        const QString odd = cache.filePath("a\x1b[31mb.jsonl");
        QVERIFY(QFile::copy(FUGATO_SOURCE_DIR "/tests/stored/lock.jsonl", odd));
        const QString said = errorsOf({"--log-level", "info", "info", odd});
        QVERIFY(said.contains("markers were read") && said.contains("\\x1b[31m") && !said.contains('\x1b'));
    }

    void theVersionIsTold() {
        const Ran version = run({"--version"});
        QCOMPARE(version.code, int(kExitOk));
        QVERIFY(version.out.startsWith("fugato-cli "));
    }

    void aTableSaysWhatItLeavesOut() {
        const Ran shallow = run({"table", FUGATO_DEMO_RECORDING, "--depth", "1"});
        QVERIFY2(shallow.err.contains("left out") && shallow.err.contains("--depth shows more"),
                 qPrintable(shallow.err));
        QVERIFY(!run({"table", FUGATO_DEMO_RECORDING, "--depth", "1000"}).err.contains("left out"));
    }

    void aFullOrClosedOutputIsTold() {
        struct Full final : std::streambuf {
            int overflow(int) override { return EOF; }
        } full;
        std::ostream out(&full);
        std::ostringstream err;
        const char* words[] = {"fugato-cli", "info", FUGATO_DEMO_RECORDING};
        QCOMPARE(runCli(3, words, out, err), int(kExitNotWritten));
        QVERIFY(err.str().find("could not be written") != std::string::npos);
        for (const char* into : {" > /dev/full", " | true"}) {
            QProcess process;
            process.start("bash", {"-c", QString("set -o pipefail; %1 table %2 --depth 1000%3")
                                             .arg(FUGATO_CLI_PROGRAM, FUGATO_DEMO_RECORDING, into)});
            QVERIFY(process.waitForFinished(kPatience));
            QCOMPARE(process.exitCode(), int(kExitNotWritten));
        }
    }

    void lackOfMemoryIsASentence() {
        if (kAddressSanitizer) QSKIP("a sanitizer takes addresses without end");
        int told = 0;
        for (int megabytes = 20; megabytes <= 300; megabytes += 4) {
            QProcess process;
            process.start("bash", {"-c", QString("ulimit -v %1; exec %2 explain %3")
                                             .arg(megabytes * 1024)
                                             .arg(FUGATO_CLI_PROGRAM, FUGATO_DEMO_RECORDING)});
            QVERIFY(process.waitForFinished(kPatience));
            QVERIFY2(process.exitStatus() == QProcess::NormalExit, qPrintable(QString::number(megabytes)));
            const int code = process.exitCode();
            const QString said = process.readAllStandardError();
            if (code == 127) continue;  // not even its libraries fit
            QVERIFY2(code == int(kExitOk) || code == int(kExitNoMemory), qPrintable(QString::number(code) + said));
            if (code == int(kExitNoMemory)) QVERIFY2(said.contains("not enough memory"), qPrintable(said));
            told += code == int(kExitNoMemory);
        }
        QVERIFY(told > 0);
    }

    void controlCharactersNeverReachTheTerminal() {
        const QString file = folder_.filePath("escapes.jsonl");
        QFile text(file);
        QVERIFY(text.open(QIODevice::WriteOnly));
        text.write(
            "{\"fugato\":\"text\",\"version\":1}\n"
            "{\"define\":\"context\",\"key\":\"build\",\"value\":\"\\u001b]0;owned\\u0007\"}\n"
            "{\"define\":\"lane\",\"id\":1,\"name\":\"\\u001b[31mred\\nlane\"}\n"
            "{\"at\":0,\"lane\":1,\"do\":\"point\",\"severity\":\"error\",\"text\":\"one\\ntwo\\u202etxt\"}\n"
            "{\"at\":1,\"lane\":1,\"do\":\"begin\",\"site\":\"a\\u0085b\"}\n"
            "{\"at\":9,\"lane\":1,\"do\":\"end\"}\n");
        text.close();
        for (const QStringList& words : {QStringList{"info", file},
                                         {"table", file},
                                         {"find", file, "o"},
                                         {"info", folder_.filePath("\x1b[31mnot there")}}) {
            const Ran said = run(words);
            const QString all = said.out + said.err;
            for (const QChar c : all) QVERIFY2(c == '\n' || c.category() != QChar::Other_Control, qPrintable(all));
            QVERIFY(!all.contains(QChar(0x202e)));
        }
        QVERIFY(run({"table", file}).out.contains("\\x1b[31mred\\nlane"));
    }

    void exitCodesTellWhatWentWrong() {
        QCOMPARE(run({}).code, int(kExitWrongUse));
        QCOMPARE(run({"dance"}).code, int(kExitWrongUse));
        QCOMPARE(run({"explain"}).code, int(kExitWrongUse));
        QCOMPARE(run({"explain", stored("lock.jsonl"), "--budget", "-3"}).code, int(kExitWrongUse));
        QCOMPARE(run({"--help"}).code, int(kExitOk));
        const Ran missing = run({"info", "/nowhere.fugato"});
        QCOMPARE(missing.code, int(kExitUnreadable));
        QCOMPARE(missing.err,
                 QString("fugato-cli: Cannot open /nowhere.fugato: there is no such file. Check the path.\n"));
        QCOMPARE(run({"convert", stored("lock.jsonl"), "/nowhere/x.fugato"}).code, int(kExitNotWritten));
        QCOMPARE(run({"convert", stored("lock.jsonl"), folder_.filePath("x.zip")}).code, int(kExitNotWritten));
        QCOMPARE(run({"explain", stored("lock.jsonl"), "--series", "7"}).code, int(kExitNothingFound));
        const QString noFrames = folder_.filePath("none.jsonl");
        QFile file(noFrames);
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(R"({"at":1,"lane":"main","do":"begin","site":"A"})");
        file.close();
        const Ran ran = run({"explain", noFrames});
        QCOMPARE(ran.code, int(kExitNothingFound));
        QVERIFY(ran.err.contains("holds no frames"));
        QVERIFY(ran.err.contains("never ended"));  // what was repaired is told as well
    }

    void whatIsAskedAboutIsChosenAsInTheApplication() {
        const QString demo = FUGATO_DEMO_RECORDING;
        const auto rows = [&](const QStringList& what, const QStringList& how = {}) {
            const Ran ran = run(QStringList{"table", demo} + what + how + QStringList{"--json", "--depth", "9"});
            return ran.code ? json() : json::parse(ran.out.toStdString())["rows"];
        };
        const auto spray = [](const json& from) -> json {
            for (const json& row : from)
                if (row["marker"] == "Spray") return row;
            return {};
        };
        const QStringList flat{"--by", "marker"};
        const json one = spray(rows({"--frame", "7734"}, flat)), spike = spray(rows({"--spike", "7734"}, flat)),
                   cause = spray(rows({"--cause", "A"}, flat)), late = spray(rows({"--late"}, flat)),
                   all = spray(rows({"--usual"}, flat));
        QCOMPARE(one["calls"].get<int>(), 1);
        QCOMPARE(spike["calls"].get<int>(), 14);
        QCOMPARE(cause["calls"].get<int>(), 132);
        QCOMPARE(late["calls"].get<int>(), 485);
        QVERIFY(all["calls"].get<int>() > 7000);
        QCOMPARE(one["excess_ns"].get<int64_t>(), one["total_ns"].get<int64_t>() - one["usual_ns"].get<int64_t>());
        QVERIFY(cause["of_frame_permille"].get<int>() > 500 && all["of_frame_permille"].get<int>() < 300);
        QVERIFY(!spray(rows({"--from", "10", "--to", "20"}, flat)).contains("usual_ns"));  // nothing was explained
        // Put together in other ways it is as much.
        const json leaves = spray(rows({"--late"}, {"--by", "leaves"}));
        QCOMPARE(leaves["self_ns"], late["self_ns"]);
        QCOMPARE(leaves["below"][0]["marker"].get<std::string>(), std::string("Scene"));
        const json around = rows({"--late"}, {"--around", "Spray"});
        QCOMPARE(around[0]["total_ns"], late["total_ns"]);
        QCOMPARE(around[1]["marker"].get<std::string>(), std::string("Called from"));
        QVERIFY(rows({"--stage", "Harbour"}, {"--role", "worker", "--by", "role"}).size() == 1);
        QVERIFY(rows({"--stage", "Harbour"}, {"--by", "category"}).size() > 2);
        QVERIFY(run({"marker", demo, "Spray", "--cause", "A"}).out.contains("132 times"));
    }

    void waitsAreToldWithTheirHolders() {
        const Ran ran = run({"waits", FUGATO_DEMO_RECORDING, "--cause", "C", "--json"});
        QCOMPARE(ran.code, 0);
        bool held = false;
        for (const json& row : json::parse(ran.out.toStdString()))
            if (row["what"] == "scene lock")
                for (const json& below : row["below"])
                    held |= below["what"] == "held by autosave, in Replay ▸ Flush" && below["total_ns"] > 0;
        QVERIFY(held);
        QVERIFY(run({"waits", FUGATO_DEMO_RECORDING, "--by", "lane"}).out.contains("autosave timer"));
        QCOMPARE(run({"waits", FUGATO_DEMO_RECORDING, "--lane", "main", "--to", "0.000001"}).code,
                 int(kExitNothingFound));
    }

    void operationsAreToldWithTheirLayers() {
        const Ran ran = run({"operations", FUGATO_DEMO_RECORDING, "--at-least", "400", "--json"});
        QCOMPARE(ran.code, 0);
        const json rows = json::parse(ran.out.toStdString());
        QVERIFY(rows.size() > 10 && rows[0]["what"] == "Position report" && rows[0]["below"].size() == 2);
        for (const json& row : rows) QVERIFY(row["duration_ns"].get<int64_t>() >= 400'000'000);
        QVERIFY(run({"operations", FUGATO_DEMO_RECORDING, "--by", "path"}).out.contains("sails.pak"));
        const Ran none = run({"operations", FUGATO_DEMO_RECORDING, "--at-least", "100000"});
        QCOMPARE(none.code, int(kExitNothingFound));
        QVERIFY2(none.err.contains("took less than --at-least"), qPrintable(none.err));
    }

    void eventsAreListedInOrderOfTime() {
        const Ran ran = run({"events", FUGATO_DEMO_RECORDING, "--frame", "20", "--kind", "markers,frames", "--json"});
        QCOMPARE(ran.code, 0);
        const json rows = json::parse(ran.out.toStdString());
        QVERIFY(rows.size() > 40);
        int64_t before = 0;
        for (const json& row : rows) {
            QVERIFY(row["time_ns"] >= before);
            before = row["time_ns"];
            const std::string event = row["event"];
            QVERIFY2(event == "begins" || event == "ends" || event.starts_with("frame"), event.c_str());
        }
        const Ran drops = run({"events", FUGATO_DEMO_RECORDING, "--frame", "7734", "--filter", "spray drops"});
        QVERIFY2(drops.out.contains("counter") && !drops.out.contains("Read input"), qPrintable(drops.out));
        const Ran last = run({"events", FUGATO_DEMO_RECORDING, "--last", "3", "--lane", "autosave", "--csv"});
        QVERIFY2(last.out.startsWith("depth,name,") && last.out.count("\r\n") == 5, qPrintable(last.out));
        QCOMPARE(run({"events", FUGATO_DEMO_RECORDING, "--severity", "error", "--kind", "points", "--frame", "0"}).code,
                 int(kExitNothingFound));
        const Ran sorted = run({"events", FUGATO_DEMO_RECORDING, "--frame", "20", "--sort", "name", "--csv"});
        QStringList names;
        for (const QString& line : sorted.out.split("\r\n").mid(1)) names << line.section(',', 3, 3).toLower();
        names.removeAll(QString());
        QStringList inOrder = names;
        std::sort(inOrder.begin(), inOrder.end());
        QVERIFY(sorted.code == 0 && names.size() > 50);
        QCOMPARE(names, inOrder);
        const Ran many = run({"events", FUGATO_DEMO_RECORDING, "--sort", "name", "--csv"});
        QVERIFY(many.code == 0 && many.err.contains("more come after these in that order"));
        QCOMPARE(many.out.count("\r\n"), 300'001);
        QCOMPARE(run({"events", FUGATO_DEMO_RECORDING, "--kind", "gusts"}).code, int(kExitWrongUse));
    }

    void memoryIsToldByPoolAndByMarker() {
        const Ran pools = run({"memory", FUGATO_DEMO_RECORDING, "--at", "131", "--json"});
        QCOMPARE(pools.code, 0);
        const json told = json::parse(pools.out.toStdString());
        QCOMPARE(told[0]["name"].get<std::string>(), std::string("sails"));
        int64_t resources = 0;
        for (const json& one : told[0]["below"]) resources += one["now_bytes"].get<int64_t>();
        QCOMPARE(told[0]["now_bytes"].get<int64_t>(), resources);
        QVERIFY(run({"memory", FUGATO_DEMO_RECORDING, "--by", "marker"}).out.contains("Load sails ▸ Unpack cloth"));
        const Ran none = run({"memory", FUGATO_DEMO_RECORDING, "--by", "marker", "--frame", "20"});
        QVERIFY(none.code == int(kExitNothingFound) && none.err.contains("released by its end"));
    }

    void whatNoMarkerTellsOfIsListed() {
        const Ran unmarked = run({"coverage", FUGATO_DEMO_RECORDING, "--cause", "A", "--csv"});
        QCOMPARE(unmarked.code, 0);
        QVERIFY2(unmarked.out.split("\r\n").value(1).startsWith("Scene ▸ Spray,GPU graphics,"),
                 qPrintable(unmarked.out.left(300)));
        QVERIFY(run({"coverage", FUGATO_DEMO_RECORDING, "--frame", "20", "--missing"}).out.contains("Unpack cloth"));
        const Ran never = run({"coverage", FUGATO_DEMO_RECORDING, "--missing", "--csv"});  // declared
        QCOMPARE(never.out.count("\r\n"), 2);
        QVERIFY2(never.out.contains("Rescue boat"), qPrintable(never.out));
        const QTemporaryDir folder;
        const QString whole = folder.filePath("whole.jsonl");
        QFile file(whole);
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(
            "{\"fugato\":\"text\",\"version\":1}\n"
            "{\"at\":0,\"lane\":\"main\",\"do\":\"begin\",\"site\":\"Sail\"}\n"
            "{\"at\":9000,\"lane\":\"main\",\"do\":\"end\"}\n");
        file.close();
        QCOMPARE(run({"coverage", whole, "--missing"}).code, int(kExitNothingFound));
    }

    void oneInstantCoresAndNotesAreTold() {
        const Ran instant = run({"instant", FUGATO_DEMO_RECORDING, "--at", "131.335", "--json"});
        QCOMPARE(instant.code, 0);
        bool spray = false;
        for (const json& group : json::parse(instant.out.toStdString()))
            for (const json& row : group.value("below", json::array()))
                spray = spray || (row["what"] == "GPU graphics" && row["value"] == "Scene ▸ Spray");
        QVERIFY2(spray, qPrintable(instant.out.left(400)));
        QCOMPARE(run({"instant", FUGATO_DEMO_RECORDING, "--at", "99999"}).code, int(kExitWrongUse));
        QCOMPARE(run({"cores", stored("lock.jsonl")}).code, int(kExitNothingFound));
        const Ran demo = run({"cores", FUGATO_DEMO_RECORDING, "--csv"});  // by its own scheduler
        QVERIFY2(demo.out.contains("worker 2") && !demo.out.contains("GPU graphics"), qPrintable(demo.out));
        QTemporaryDir folder;
        const QString system = folder.filePath("system.fugato");
        QProcess made;
        made.start(SKERRY_PROGRAM, {"--scale", "100000", "--scale-system", "--out", system});
        QVERIFY(made.waitForFinished(kPatience));
        const Ran cores = run({"cores", system});
        QCOMPARE(cores.code, 0);
        QVERIFY2(cores.out.startsWith("On average ") && cores.out.contains("ferry"), qPrintable(cores.out.left(400)));
        QCOMPARE(run({"notes", system}).code, int(kExitNothingFound));
        QFile notes(system + ".notes.json");
        QVERIFY(notes.open(QIODevice::WriteOnly));
        notes.write(R"({"fugato_notes":1,"notes":[{"id":"a","about":"frame","name":"frame 3","text":"late"}]})");
        notes.close();
        const Ran noted = run({"notes", system, "--csv"});
        QCOMPARE(noted.code, 0);
        QVERIFY2(noted.out.contains("late,,frame 3,frame"), qPrintable(noted.out));
        for (const char* by : {"function", "line", "calls", "callers"})
            QCOMPARE(run({"stacks", system, "--by", by}).code, 0);
        QCOMPARE(run({"stacks", system, "--by", "colour"}).code, int(kExitWrongUse));
    }

    void framesAreToldBesideAll() {
        const Ran ran = run({"frames", FUGATO_DEMO_RECORDING, "--cause", "A", "--json"});
        QCOMPARE(ran.code, 0);
        const json told = json::parse(ran.out.toStdString());
        QCOMPARE(told["frames"].get<int>(), 132);
        QCOMPARE(told["over"].get<int>(), 132);
        QCOMPARE(told["differs"][0]["marker"].get<std::string>(), std::string("Scene ▸ Spray"));
        QVERIFY(run({"frames", FUGATO_DEMO_RECORDING}).out.contains("485 over"));
    }

    void countersAndStatesAreToldAtAnInstantAndOverTime() {
        const Ran ran = run({"counters", FUGATO_DEMO_RECORDING, "--at", "131.1", "--cause", "A", "--json"});
        QCOMPARE(ran.code, 0);
        bool drops = false, stage = false;
        for (const json& row : json::parse(ran.out.toStdString())) {
            if (row["name"] == "spray drops, drops")
                drops = row["now"].is_number() && row["greatest"] >= row["mean"] && row["mean"] >= row["least"];
            if (row["name"] == "stage") stage = row["now"] == "Finish and replay" && row["below"].size() == 3;
        }
        QVERIFY2(drops && stage, qPrintable(ran.out));
        QVERIFY(run({"counters", FUGATO_DEMO_RECORDING, "--csv"}).out.startsWith("depth,name,now,least,"));
    }

    void whatCannotBeAskedAboutIsSaid() {
        const QString demo = FUGATO_DEMO_RECORDING;
        const auto says = [&](const QStringList& what, int code, const QString& words) {
            const Ran ran = run(QStringList{"table", demo} + what);
            QCOMPARE(ran.code, code);
            QVERIFY2(ran.err.contains(words), qPrintable(ran.err));
        };
        says({"--frame", "1000000"}, kExitNothingFound, "There is no frame 1000000; the last one is ");
        says({"--spike", "100"}, kExitNothingFound, "The selected frame is not late");
        says({"--cause", "Z"}, kExitNothingFound, "There is no cause \"Z\".");
        says({"--stage", "Lunch"}, kExitNothingFound, "The recording has no stage Lunch.");
        says({"--role", "cook"}, kExitNothingFound, "There is no lane of the role \"cook\".");
        says({"--lane", "cook"}, kExitNothingFound, "There is no lane named \"cook\".");
        says({"--around", "Cook"}, kExitNothingFound, "There is no marker named \"Cook\".");
        says({"--late", "--frame", "3"}, kExitWrongUse, "--frame");
        says({"--by", "colour"}, kExitWrongUse, "colour");
    }

    void tableMarkerAndFindAnswerAsTheCoreDoes() {
        const Ran table = run({"table", stored("lock.jsonl"), "--json"});
        QCOMPARE(table.code, 0);
        const json told = json::parse(table.out.toStdString());
        const auto opened = openRecording(stored("lock.jsonl").toStdString());
        const auto made = nestedMarkers(**opened, wholeOf(**opened));
        QCOMPARE(told["rows"].size(), made->lanes.size());
        for (size_t i = 0; i < made->lanes.size(); ++i) {
            QCOMPARE(told["rows"][i]["total_ns"].get<int64_t>(), made->rows[made->lanes[i]].total);
            QCOMPARE(told["rows"][i]["below"].size(), made->rows[made->lanes[i]].children.size());
        }
        const std::string name = told["rows"][0]["below"][0]["marker"];
        const Ran marker = run({"marker", stored("lock.jsonl"), QString::fromStdString(name), "--json"});
        QCOMPARE(marker.code, 0);
        const auto figures = nlohmann::json::parse(marker.out.toStdString())[0];
        QCOMPARE(figures["total_ns"], told["rows"][0]["below"][0]["total_ns"]);
        QCOMPARE(figures["longest_ns"], figures["occurrences"][0]["duration_ns"]);
        const Ran words = run({"marker", stored("lock.jsonl"), QString::fromStdString(name)});
        QVERIFY2(words.out.contains(", total "), qPrintable(words.out));
        const Ran found = run({"find", stored("lock.jsonl"), QString::fromStdString(name).left(4).toUpper(), "--json"});
        QCOMPARE(found.code, 0);
        bool there = false;
        const auto all = nlohmann::json::parse(found.out.toStdString());
        for (const auto& row : all) there |= row["kind"] == "marker" && row["what"] == name;
        QVERIFY(there);
        QVERIFY(run({"find", stored("lock.jsonl"), QString::fromStdString(name)}).out.contains("marker"));
        QVERIFY(run({"table", stored("lock.jsonl"), "--depth", "1"}).out.contains(QString::fromStdString(name)));
    }

    void repairsAreTriedByTheirLetters() {
        const Ran ran = run({"explain", "--series", "0", "--json", "--repair", "A,B=gone", FUGATO_DEMO_RECORDING});
        QCOMPARE(ran.code, 0);
        const json told = json::parse(ran.out.toStdString());
        QCOMPARE(told["what_if"].size(), size_t{1});
        const auto& what = told["what_if"][0];
        QCOMPARE(what["repairs"][0]["cause"], "A");
        QCOMPARE(what["repairs"][0]["gone"].get<bool>(), false);
        QCOMPARE(what["repairs"][1]["cause"], "B");
        QCOMPARE(what["repairs"][1]["gone"].get<bool>(), true);
        const auto before = told["series"][0]["over"].get<uint32_t>();
        QCOMPARE(what["over"].get<uint32_t>() + what["saved"].get<uint32_t>(), before);
        // Together they save at least what each saves alone.
        for (int cause = 0; cause < 2; ++cause)
            QVERIFY(what["saved"].get<uint32_t>() >= told["causes"][cause]["saved"].get<uint32_t>());
        QVERIFY(what["next_cause"] != "A" && what["next_cause"] != "B" && what["next_cause"].is_string());
        uint32_t met = 0;
        for (const auto& frame : what["frames"]) met += frame["overrun_ns"].get<int64_t>() == 0;
        QVERIFY(met >= what["saved"].get<uint32_t>());
        // In words, and for letters that are not there.
        const Ran words = run({"explain", "--repair", "A", stored("lock.jsonl")});
        QCOMPARE(words.code, 0);
        QVERIFY2(words.out.contains("What if: If this took its usual time, its late frame would meet its deadline, and "
                                    "no frame would be late."),
                 qPrintable(words.out));
        for (const char* wrong : {"Z", "A=usual", "=gone"}) {
            const Ran none = run({"explain", "--repair", wrong, stored("lock.jsonl")});
            QCOMPARE(none.code, int(kExitNothingFound));
            QVERIFY2(none.err.contains("there is no cause"), qPrintable(none.err));
        }
    }

    void adviceIsGivenInWordsAndAsJson() {
        const Ran ran = run({"advice", "--json", FUGATO_DEMO_RECORDING});
        QCOMPARE(ran.code, 0);
        const json told = json::parse(ran.out.toStdString());
        std::set<std::string> kinds;
        int64_t before = INT64_MAX;
        for (const auto& finding : told) {
            kinds.insert(finding["kind"].get<std::string>());
            QVERIFY(finding["cost_ns"].get<int64_t>() <= before);  // what costs most first
            before = finding["cost_ns"].get<int64_t>();
            for (const char* words : {"title", "evidence", "next", "confidence"})
                QVERIFY(!finding[words].get<std::string>().empty());
            if (finding.contains("lane")) QVERIFY(finding["begin_ns"] < finding["end_ns"]);
        }
        for (const char* kind : {"comes_before", "too_long", "changed_nothing", "slow_file", "first_use"})
            QVERIFY2(kinds.count(kind), kind);
        const Ran words = run({"advice", FUGATO_DEMO_RECORDING});
        QVERIFY(words.out.startsWith(QString::fromStdString(told[0]["title"].get<std::string>()) + " ("));
        QVERIFY(words.out.contains("waits long for a file"));
        QVERIFY(!run({"advice", "--slow-file", "60000", FUGATO_DEMO_RECORDING}).out.contains("waits long for a file"));
        QCOMPARE(run({"advice", "--slow-file", "-1", FUGATO_DEMO_RECORDING}).code, int(kExitWrongUse));
        QCOMPARE(run({"advice", "/nowhere.fugato"}).code, int(kExitUnreadable));
        QFile empty(folder_.filePath("empty.jsonl"));
        QVERIFY(empty.open(QIODevice::WriteOnly));
        empty.write("{\"fugato\":\"text\",\"version\":1}\n{\"define\":\"lane\",\"id\":1,\"name\":\"main\"}\n");
        empty.close();
        const Ran none = run({"advice", empty.fileName()});
        QCOMPARE(none.code, int(kExitNothingFound));
        QVERIFY2(none.err.contains("holds no frames"), qPrintable(none.err));
    }

    void questionsAboutWhatIsNotThereAreAnsweredPlainly() {
        const QString file = stored("lock.jsonl");
        QCOMPARE(run({"marker", file, "No such marker"}).code, int(kExitNothingFound));
        QVERIFY(run({"marker", file, "No such marker"}).err.contains("fugato-cli find"));
        QCOMPARE(run({"find", file, "zzzz"}).code, int(kExitNothingFound));
        QCOMPARE(run({"table", file, "--lane", "nobody"}).code, int(kExitNothingFound));
        QCOMPARE(run({"table", file, "--from", "5000"}).code, int(kExitWrongUse));
        QCOMPARE(run({"table", "/nowhere.fugato"}).code, int(kExitUnreadable));
    }
};

QTEST_GUILESS_MAIN(CliTest)
#include "cli_test.moc"
