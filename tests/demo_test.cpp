// SPDX-License-Identifier: GPL-3.0-or-later
//
// The demo race under the virtual clock, explained, against the list of what was planted.
#include <QFile>
#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>
#include <nlohmann/json.hpp>
#include <set>

#include "core/explain/causes/explain.h"
#include "core/explain/words/sentences.h"
#include "testing/patience.h"
#include "testing/text_recording.h"

using namespace fugato;
using nlohmann::json;

namespace {

struct Run {
    std::shared_ptr<const Explanation> explanation;
    json truth;
};

json readJson(const QString& path) {
    QFile file(path);
    if (!file.open(QIODevice::ReadOnly)) return {};
    return json::parse(file.readAll().toStdString());
}

std::shared_ptr<const Explanation> explainFile(const QString& path) {
    auto opened = openRecording(path.toStdString());
    if (!opened) return nullptr;
    return explain(*opened, sumCriticalPaths(**opened, 0), 0);
}

}  // namespace

class DemoTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;

    void sail(const QStringList& arguments, int expected = 0) {
        QProcess process;
        process.start(SKERRY_PROGRAM, arguments);
        QVERIFY(process.waitForFinished(kPatience));
        QCOMPARE(process.exitCode(), expected);
    }
    Run run(const QString& troubles, int seed, int seconds = 26) {
        const QString file = folder_.filePath("run.fugato"), truth = folder_.filePath("truth.json");
        sail({"--virtual", "--seed", QString::number(seed), "--seconds", QString::number(seconds), "--troubles",
              troubles, "--overwrite", "--out", file, "--truth", truth});
        return {explainFile(file), readJson(truth)};
    }
    static bool named(const Explanation& e, const Cause& cause, const json& planted) {
        const Recording& r = *e.recording;
        return r.groups[cause.group].name == planted["lane"].get<std::string>() &&
               r.namesOf(cause.path) == planted["path"].get<std::vector<std::string>>() &&
               causeKindName(cause.kind) == planted["kind"].get<std::string>();
    }

private slots:
    void eachTroubleAloneIsNamedFirst_data() {
        QTest::addColumn<QString>("trouble");
        QTest::addColumn<int>("seed");
        for (const char* trouble : {"autosave", "gust", "rounding", "gulls", "spray", "log", "table"})
            for (const int seed : {1, 2, 3})
                QTest::newRow(qPrintable(QString("%1 %2").arg(trouble).arg(seed))) << trouble << seed;
    }
    void eachTroubleAloneIsNamedFirst() {
        QFETCH(QString, trouble);
        QFETCH(int, seed);
        const Run made = run(trouble, seed);
        QVERIFY(made.explanation);
        const Explanation& e = *made.explanation;
        QVERIFY(!e.causes.empty());
        const json& planted = made.truth["causes"].at(0);
        const std::string words = causeTitle(e, e.causes[0]) + " (" + causeKindName(e.causes[0].kind) + ")";
        QVERIFY2(named(e, e.causes[0], planted), words.c_str());
        QVERIFY2(e.causes.size() == 1, qPrintable(QString::number(e.causes.size())));  // and nothing else is blamed
        // Every late frame lies where the trouble was at work, or shortly after (a queue runs full first).
        std::set<uint32_t> frames = planted["frames"].get<std::set<uint32_t>>();
        for (const uint32_t late : e.causes[0].frames) {
            const auto before = frames.upper_bound(late);
            QVERIFY(before != frames.begin() && late - *std::prev(before) <= 3);
        }
    }

    void lateFramesOfTheRaceTableFollowFromTheFrameThatAskedForIt() {
        const Run made = run("table", 1);
        const auto frames = made.truth["causes"].at(0)["frames"].get<std::set<uint32_t>>();
        QVERIFY(!made.explanation->spikes.empty());
        for (const Spike& spike : made.explanation->spikes) {
            QCOMPARE(spike.origin, spike.first - 2);
            QVERIFY(frames.count(spike.origin));
        }
    }

    void aRaceWithoutTroublesHasNoCause() {
        for (const int seed : {1, 2, 3, 4, 5}) {
            const Run made = run("none", seed);
            QCOMPARE(made.explanation->figures.over, size_t{0});
            QVERIFY(made.explanation->causes.empty());
        }
    }

    void theDemoRecordingNamesEveryTrouble() {
        const auto e = explainFile(FUGATO_DEMO_RECORDING);
        QVERIFY(e);
        QVERIFY(e->figures.frames >= 120 * 60);
        QVERIFY(e->recording->stages());
        QVERIFY(!e->recording->repairs.any());
        QVERIFY(!e->recording->damage.any());
        const json truth = readJson(FUGATO_DEMO_TRUTH);
        QCOMPARE(e->causes.size(), truth["causes"].size());
        for (const json& planted : truth["causes"])
            QVERIFY2(std::any_of(e->causes.begin(), e->causes.end(),
                                 [&](const Cause& cause) { return named(*e, cause, planted); }),
                     planted["trouble"].get<std::string>().c_str());
    }

    void theSameSeedGivesTheSameBytesAnotherSeedOthers() {
        const auto bytes = [&](int seed) {
            const QString file = folder_.filePath("bytes.fugato");
            // Without call stacks: the code lies elsewhere in each run.
            sail({"--virtual", "--seed", QString::number(seed), "--seconds", "12", "--system", "none", "--overwrite",
                  "--out", file});
            QFile made(file);
            return made.open(QIODevice::ReadOnly) ? made.readAll() : QByteArray();
        };
        const QByteArray one = bytes(7);
        QVERIFY(one.size() > 10'000);
        QVERIFY(one == bytes(7));
        QVERIFY(one != bytes(8));
    }

    void aRunInRealTimeRecordsEveryThread() {
        const QString file = folder_.filePath("real.fugato");
        sail({"--seconds", "2", "--overwrite", "--out", file});
        const auto e = explainFile(file);
        QVERIFY(e);
        for (const char* lane :
             {"main", "render", "worker 1", "worker 2", "autosave", "audio", "GPU graphics", "GPU compute"})
            QVERIFY2(laneNamed(*e->recording, lane) != kNone, lane);
        QCOMPARE(e->figures.frames, size_t{120});
        // Where the machine is so busy that the kernel's own buffers overflow, lanes of cores say so.
        for (const Lane& lane : e->recording->lanes)
            QVERIFY2(lane.lost.empty() || lane.kind == LaneKind::Core, lane.name.c_str());
    }

    void wrongUseIsToldInOneSentence() {
        sail({"--virtual", "--troubles", "storm", "--out", folder_.filePath("x.fugato")}, 2);
        sail({"--truth", folder_.filePath("t.json"), "--out", folder_.filePath("x.fugato")}, 2);
        sail({"--virtual", "--out", "/nowhere/x.fugato"}, 1);
    }
};

QTEST_GUILESS_MAIN(DemoTest)
#include "demo_test.moc"
