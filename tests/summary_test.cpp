// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a recording comes to, under names that mean the same in another recording.
#include "core/summary/summary.h"

#include <QRegularExpression>
#include <QTemporaryDir>
#include <QtTest>

#include "core/model/keys.h"
#include "format/recording_file.h"
#include "testing/explaining.h"

using namespace fugato;

namespace {

QString toQString(const std::string& text) { return QString::fromStdString(text); }

/// Twenty usual frames and a late one for `Load`, in which main waits for a lock that saver holds. `other`: lanes and
/// names are told in another order, so that every number is another.
std::shared_ptr<const Explanation> race(bool other, const std::string& id = {}) {
    TextRecording t;
    t.line(R"({"define":"context","key":"program","value":"race"})");
    if (!id.empty()) t.line(R"({"define":"context","key":"recording id","value":")" + id + R"("})");
    if (other) {
        t.lane("saver", 7).lane("pool b", 8, "thread", "worker").lane("pool a", 9, "thread", "worker");
        t.mark(0, 10, "saver", "Tidy/up|\\\\").mark(20, 30, "pool a", "Job");
    } else {
        t.lane("main", 1).lane("pool a", 2, "thread", "worker").lane("pool b", 3, "thread", "worker");
        t.mark(20, 30, "pool a", "Job");
    }
    double at = usualFrames(t, 20, 1'000);
    t.begin(at, "saver", "Save").taken(at + 10, "saver", "scene");
    t.frame(at + 20, "main").begin(at + 20, "main", "Frame").wait(at + 30, "main", "Wait", "scene", "lock");
    t.given(at + 9'000, "saver", "scene").end(at + 9'010, "saver");
    t.waitEnd(at + 9'020, "main").taken(at + 9'020, "main", "scene").given(at + 9'030, "main", "scene");
    t.mark(at + 9'040, at + 15'000, "main", "Work").end(at + 15'010, "main").frameEnd(at + 15'020, "main");
    return explained(t.open());
}

}  // namespace

class SummaryTest : public QObject {
    Q_OBJECT

private slots:
    void keysMeanTheSameInAnotherRecording() {
        const auto one = race(false), two = race(true);
        QVERIFY(laneNamed(*one->recording, "main") != laneNamed(*two->recording, "main"));
        const Summary a = *summaryOf({one}), b = *summaryOf({two});
        QCOMPARE(a.series[0].causes.size(), size_t{1});
        QCOMPARE(toQString(a.series[0].causes[0].key), QString("thread/saver|Save|lock/scene|waiting"));
        QCOMPARE(b.series[0].causes[0].key, a.series[0].causes[0].key);
        QCOMPARE(a.series[0].causes[0].lock, std::string("scene"));
        const auto find = [](const Summary& s, const std::string& key) {
            return std::find_if(s.markers.begin(), s.markers.end(), [&](const auto& m) { return m.key == key; });
        };
        for (const MarkerSummary& marker : a.markers) {
            const auto same = find(b, marker.key);
            QVERIFY2(same != b.markers.end(), marker.key.c_str());
            QCOMPARE(same->count, marker.count);
            QCOMPARE(same->total, marker.total);
        }
        QCOMPARE(find(a, "thread/main|Frame/Work")->count, uint64_t{21});
        QCOMPARE(find(a, "thread/worker|Job")->total, int64_t{10'000});
        // Whatever stands in a name, keys are told apart.
        QVERIFY(find(b, "thread/saver|Tidy\\/up\\|\\\\") != b.markers.end());
    }

    void lanesOfOneRoleAreNumbered() {
        const auto r = race(false)->recording;
        const auto keys = laneKeys(*r);
        QCOMPARE(keys[laneNamed(*r, "main")], std::string("thread/main"));
        QCOMPARE(keys[laneNamed(*r, "pool a")], std::string("thread/worker"));
        QCOMPARE(keys[laneNamed(*r, "pool b")], std::string("thread/worker/1"));
        QCOMPARE(std::set<std::string>(keys.begin(), keys.end()).size(), keys.size());
    }

    void figuresAreThoseOfTheExplanation() {
        TextRecording t;
        t.at(0, "main", R"("do":"state","state":"stage","value":"Harbour")");
        double at = usualFrames(t, 30, 10);
        t.at(at - 1, "main", R"("do":"state","state":"stage","value":"Race")");
        at = usualFrames(t, 10, at);
        t.frame(at, "main").begin(at, "main", "Frame").mark(at, at + 13'000, "main", "Work");
        t.end(at + 14'000, "main").frameEnd(at + 14'000, "main");
        const auto e = explained(t.open());
        const Summary summary = *summaryOf({e});
        const SeriesSummary& series = summary.series.at(0);
        QCOMPARE(series.name, std::string("loop"));
        QCOMPARE(series.figures.over, e->figures.over);
        QCOMPARE(series.stages.size(), size_t{2});
        QCOMPARE(series.stages[0].name, std::string("Harbour"));
        QCOMPARE(series.stages[0].frames, uint64_t{30});
        QCOMPARE(series.stages[0].over, uint64_t{0});
        QCOMPARE(series.stages[1].frames, uint64_t{11});
        QCOMPARE(series.stages[1].over, uint64_t{1});
        QCOMPARE(series.stages[1].median, int64_t{8'000'000});
        QCOMPARE(series.stages[1].worst, int64_t{14'000'000});
        QCOMPARE(series.stages[1].late, e->figures.late);
        QCOMPARE(series.causes[0].saved.value(), uint64_t{1});
        QVERIFY(!summaryOf({e}, {}, [](double) { return false; }));
        QVERIFY(summaryOf({e}, {0, 0})->markers.empty());
        QVERIFY(!summaryOf({e}, {0, 0})->series[0].causes[0].saved);
    }

    void aRecordingsIdStaysWithIt() {
        const std::string id = "0b1f2c3d-4e5f-4a6b-8c7d-9e0f1a2b3c4d";
        QCOMPARE(recordingId(*race(false, id)->recording), id);
        const auto plain = race(false)->recording;
        const QString made = QString::fromStdString(recordingId(*plain));
        QVERIFY2(QRegularExpression("^[0-9a-f]{8}-[0-9a-f]{4}-8[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$")
                     .match(made)
                     .hasMatch(),
                 qPrintable(made));
        QCOMPARE(recordingId(*race(false)->recording), recordingId(*plain));  // the same at every opening
        // Converted and packed it is the same recording.
        QTemporaryDir folder;
        const std::string text = folder.filePath("race.jsonl").toStdString(),
                          binary = folder.filePath("race.fugato").toStdString();
        TextRecording t;
        t.line(R"({"define":"context","key":"recording id","value":")" + id + R"("})").mark(0, 5, "main", "Work");
        QFile file(QString::fromStdString(text));
        QVERIFY(file.open(QIODevice::WriteOnly) && file.write(t.text().c_str()) > 0);
        file.close();
        EventStore store;
        QVERIFY(readRecordingFile(text, store));
        QVERIFY(writeRecordingFile(binary, store));
        QCOMPARE(recordingId(**openRecording(binary)), id);
        QVERIFY(packRecordingFile(binary, binary));
        QCOMPARE(recordingId(**openRecording(binary)), id);
    }
};

QTEST_GUILESS_MAIN(SummaryTest)
#include "summary_test.moc"
