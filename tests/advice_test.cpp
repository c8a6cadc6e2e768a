// SPDX-License-Identifier: GPL-3.0-or-later
//
// Each finding beyond spikes: there where it is, and not where it falls just short.
#include "core/explain/advice/advice.h"

#include <QtTest>
#include <functional>

#include "core/explain/words/sentences.h"
#include "testing/explaining.h"

using namespace fugato;

namespace {

/// A frame of 8 ms each 20 ms on main: `inside` tells what happens in frame f, which begins at `at` µs.
TextRecording frames(int count, const std::function<void(TextRecording&, int f, double at)>& inside,
                     const std::function<double(int f)>& lengthOf = {}) {
    TextRecording t;
    for (int f = 0; f < count; ++f) {
        const double at = f * 40'000.0, end = at + (lengthOf ? lengthOf(f) : 8000);
        t.frame(at, "main").begin(at, "main", "Frame");
        inside(t, f, at);
        t.end(end, "main").frameEnd(end, "main");
    }
    return t;
}

/// Fills the frame with markers so close that no long time lies between them.
void sail(TextRecording& t, double from, double to) {
    for (double at = from; at + 800 <= to; at += 800) t.mark(at, at + 790, "main", "Sail");
}

struct Planted {
    TextRecording recording;
    AdviceLimits limits{};
};

/// A recording in which there is something to find, or almost.
using Make = std::function<Planted(bool there)>;

}  // namespace
Q_DECLARE_METATYPE(Make)

class AdviceTest : public QObject {
    Q_OBJECT
    static void add(const char* kind, const char* title, const char* evidence, const Make& make) {
        QTest::newRow(kind) << make << QString(kind) << QString(title) << QString(evidence);
    }
    static double lateInTenth(int f) { return f % 10 == 9 ? 14'000.0 : 8000.0; }

    static void addWhatGoesWithLateFrames() {
        add("comes_before", "‘gust’ comes just before A",
            "Before 6 of the 6 spikes of Frame ▸ Haul, and 0 times elsewhere.", [=](bool there) {
                return Planted{frames(
                    60,
                    [=](TextRecording& t, int f, double at) {
                        t.mark(at + 10, at + lateInTenth(f) - 100, "main", "Haul");
                        if (there ? f % 10 == 9 : f % 2 == 1)
                            t.at(at - 500, "lookout", R"("do":"point","text":"gust")");
                    },
                    lateInTenth)};
            });
        add("out_of_range", "‘drops’ is high just when frames are late",
            "Above 20 in 100 % of the late frames and in 0.0 % of the others.", [=](bool there) {
                return Planted{frames(
                    60,
                    [=](TextRecording& t, int f, double at) {
                        const bool high = f % 10 == 9 || (!there && f % 2);
                        t.at(at + 1, "main",
                             R"("do":"count","counter":"drops","value":)" + std::string(high ? "500" : "20"));
                        t.mark(at + 10, at + lateInTenth(f) - 100, "main", "Haul");
                    },
                    lateInTenth)};
            });
    }
    static void addContention() {
        add("lock_queue", "Threads queue up for ‘gate’",
            "120 waits on 2 lanes, 258 ms in all, the longest 2.3 ms; 60 began while another was still waiting.",
            [](bool there) {
                return Planted{frames(60, [=](TextRecording& t, int, double at) {
                    sail(t, at, at + 8000);
                    t.taken(at, "saver", "gate").given(at + 3000, "saver", "gate");
                    for (int w = 1; w <= 2; ++w) {
                        const std::string lane = "worker " + std::to_string(w);
                        const double from = there || w == 1 ? at + 1000 : at + 5000;  // else one after the other
                        const double to = from + (w == 1 ? 2000 : 2300);
                        t.wait(from, lane, "Wait", "gate", "lock").waitEnd(to, lane);
                    }
                })};
            });
        add("queues_wait", "pixels and copies wait for each other",
            "pixels waited 120 ms for copies, and copies 60.0 ms for pixels.", [](bool there) {
                Planted planted;
                planted.recording.lane("pixels", 5, "queue").lane("copies", 6, "queue");
                const TextRecording made = frames(60, [=](TextRecording& t, int f, double at) {
                    sail(t, at, at + 8000);
                    t.begin(at, "copies", "Upload").linkOut(at + 3000, "copies", 1 + 2 * f);
                    t.begin(at, "pixels", "Scene").wait(at + 1000, "pixels", "Wait", "copied", "gpu");
                    t.waitEnd(at + 3000, "pixels", 1 + 2 * f).linkOut(at + 5000, "pixels", 2 + 2 * f);
                    t.end(at + 6000, "pixels");
                    if (there)
                        t.wait(at + 4000, "copies", "Wait too", "drawn", "gpu").waitEnd(at + 5000, "copies", 2 + 2 * f);
                    t.end(at + 6000, "copies");
                });
                planted.recording.line(made.text().substr(made.text().find('\n') + 1));
                return planted;
            });
        // The core is taken from main for 4 ms of each frame by a thread of the program's own, or another's.
        const auto taken = [](int thread) {
            return [thread](bool there) {
                Planted planted;
                threadsAndCore(planted.recording);
                planted.recording.at(0, "core 0", onCore(100));
                const TextRecording made = frames(60, [=](TextRecording& t, int, double at) {
                    sail(t, at, at + 8000);
                    if (!there) return;
                    t.at(at + 2000, "core 0", onCore(thread, true)).at(at + 6000, "core 0", onCore(100));
                });
                planted.recording.line(made.text().substr(made.text().find('\n') + 1));
                return planted;
            };
        };
        add("too_many_threads", "More threads want to run than there are cores",
            "2 threads of this program on 1 core: ready for 240 ms while others of its threads had the cores, and "
            "running for 240 ms.",
            taken(300));
        add("other_programs", "Other programs had the cores",
            "While threads of this program were ready to run, others ran: updater, for 240 ms in all. No frame was "
            "late.",
            taken(200));
    }
    static void addNeedlessWork() {
        add("repeated", "Frame ▸ Fetch does the same again within a frame", "1.0 times a frame", [](bool there) {
            return Planted{frames(60, [=](TextRecording& t, int, double at) {
                for (int i = 0; i < 2; ++i) {
                    t.begin(at + i * 1000, "main", "Fetch")
                        .at(at + i * 1000 + 1, "main",
                            R"("do":"argument","key":"buoy","value":)" + std::to_string(there ? 4 : i));
                    t.end(at + i * 1000 + 900, "main");
                }
                sail(t, at + 2000, at + 8000);
            })};
        });
        add("changed_nothing", "Frame ▸ Check did work that changed nothing",
            "1.0 times a frame, 1.2 % of the frames' time", [](bool there) {
                return Planted{frames(60, [=](TextRecording& t, int, double at) {
                    t.begin(at, "main", "Check").at(at + 20, "main", R"("do":"outcome","changed_nothing":true)");
                    t.end(at + (there ? 100 : 30), "main");  // 0.4 % is not worth saying
                    sail(t, at + 200, at + 8000);
                })};
            });
        add("allocations", "Frame ▸ Gather takes memory in a loop",
            "More than 20 times in 60 frames, at most 21 times in frame 0.", [](bool there) {
                Planted planted{frames(60, [=](TextRecording& t, int, double at) {
                    t.begin(at, "main", "Gather");
                    for (int i = 0; i < (there ? 21 : 20); ++i)
                        t.at(at + i, "main",
                             R"("do":"memory","pool":"heap","address":)" + std::to_string(1 + i) + R"(,"bytes":16)");
                    t.end(at + 500, "main");
                    sail(t, at + 600, at + 8000);
                })};
                planted.limits.allocations = 20;
                return planted;
            });
        add("logging", "main writes many messages within a frame",
            "8 or more in 60 frames, 0 of them late; at most 8 in frame 0.", [](bool there) {
                return Planted{frames(60, [=](TextRecording& t, int, double at) {
                    for (int i = 0; i < (there ? 8 : 7); ++i)
                        t.at(at + 100 + i, "main", R"("do":"point","text":"line )" + std::to_string(i) + R"(.")");
                    sail(t, at + 200, at + 8000);
                })};
            });
    }
    static void addWhatTakesLong() {
        add("slow_file", "Frame ▸ Read chart waits long for a file on a frame's own lane",
            "60 requests over 5.0 ms, 306 ms in all, the longest 5.1 ms.", [](bool there) {
                return Planted{frames(60, [=](TextRecording& t, int, double at) {
                    t.wait(at + 100, "main", "Read chart", "chart", "file").waitEnd(at + (there ? 5200 : 5000), "main");
                    sail(t, at + 5200, at + 8000);
                })};
            });
        add("first_use", "Open chest ▸ Read map loads when first needed",
            "6 times inside work that usual frames do not have, 27.0 ms in all.", [=](bool there) {
                return Planted{frames(
                    60,
                    [=](TextRecording& t, int f, double at) {
                        sail(t, at, at + 7200);
                        if (f % 10 != 9) return;
                        t.begin(at + 8000, "main", "Open chest");
                        there ? t.wait(at + 8100, "main", "Read map", "map", "file").waitEnd(at + 12'600, "main")
                              : t.mark(at + 8100, at + 12'600, "main", "Read map");
                        t.end(at + 13'900, "main");
                    },
                    lateInTenth)};
            });
        add("too_long", "‘Plan’ takes longer than its author expected", "60 calls over 1.0 ms, the longest 1.1 ms.",
            [](bool there) {
                Planted planted;
                planted.recording.line(
                    R"({"define":"site","id":50,"name":"Plan","category":"x","longest_ns":1000000})");
                const TextRecording made = frames(60, [=](TextRecording& t, int, double at) {
                    t.mark(at, at + (there ? 1100 : 1000), "main", "Plan");
                    sail(t, at + 1100, at + 8000);
                });
                planted.recording.line(made.text().substr(made.text().find('\n') + 1));
                return planted;
            });
    }
    static void addWhatTellsLittle() {
        add("unmarked", "Much time without a marker on main",
            "25 % of the frames' time lies inside Frame, between its markers, in pieces of more than a millisecond.",
            [](bool there) {
                return Planted{frames(60, [=](TextRecording& t, int, double at) {
                    sail(t, at, at + 4000);
                    sail(t, at + (there ? 6000 : 4800), at + 8000);
                })};
            });
        add("measuring", "Measuring itself takes 2.2 % of the frames",
            "Measuring took 2.2 % of the frames, most of it in ‘Drop’, 890 times a frame.", [](bool there) {
                Planted planted;
                planted.recording.line(R"({"define":"context","key":"marker cost ns","value":"200"})");
                const TextRecording made = frames(12, [=](TextRecording& t, int, double at) {
                    for (int i = 0; i < (there ? 890 : 700); ++i) t.mark(at + i * 8, at + i * 8 + 7, "main", "Drop");
                });
                planted.recording.line(made.text().substr(made.text().find('\n') + 1));
                return planted;
            });
        add("weak", "Few frames met their deadline", "29 frames are all there is to compare with.", [](bool there) {
            return Planted{frames(
                there ? 30 : 31,
                [=](TextRecording& t, int f, double at) { sail(t, at, at + (f == 9 ? 14'000 : 8000)); },
                [](int f) { return f == 9 ? 14'000.0 : 8000.0; })};
        });
    }

private slots:
    void eachKindOfAdviceIsFoundWhereItIsPlanted() {
        TextRecording t;
        t.line(R"({"define":"site","id":50,"name":"Plan","category":"x","longest_ns":1000000})");
        t.line(R"({"define":"counter","id":1,"name":"drops","unit":"drops","threshold":100})");
        for (int f = 0; f < 60; ++f) {
            const double at = f * 40'000.0;
            const bool late = f % 10 == 9;
            const double end = at + (late ? 16'000 : 9000);
            t.frame(at, "main").begin(at, "main", "Frame").mark(at + 100, at + 2100, "main", "Plan");
            for (int i = 0; i < 2; ++i) {
                t.begin(at + 2200 + i * 1000, "main", "Fetch")
                    .at(at + 2300 + i * 1000, "main", R"("do":"argument","key":"buoy","value":4)");
                t.end(at + 3100 + i * 1000, "main");
            }
            t.begin(at + 4300, "main", "Check")
                .at(at + 4800, "main", R"("do":"outcome","changed_nothing":true)")
                .end(at + 4900, "main");
            for (int i = 0; i < 120; ++i)
                t.at(at + 5000 + i, "main",
                     R"("do":"memory","pool":"heap","address":)" + std::to_string(1 + i) + R"(,"bytes":16)");
            for (int i = 0; i < 9; ++i)
                t.at(at + 5200 + i, "main", R"("do":"point","text":"line)" + std::to_string(i) + R"(.")");
            t.at(at + 10, "main", R"("do":"count","counter":"drops","value":)" + std::string(late ? "500" : "20"));
            if (late) t.wait(at + 7000, "main", "Read", "file", "file").waitEnd(at + 15'000, "main");
            for (int w = 1; w <= 2; ++w) {  // both want the gate while save holds it
                const std::string lane = "worker " + std::to_string(w);
                t.wait(at + 1000 + w, lane, "Wait", "gate", "lock").waitEnd(at + 3000 + w * 300, lane);
                t.taken(at + 3000 + w * 300, lane, "gate").given(at + 3100 + w * 300, lane, "gate");
            }
            t.end(end, "main").frameEnd(end, "main");
        }
        const auto e = explained(t.open());
        const auto found = adviceFor(*e);
        QStringList kinds;
        for (const Advice& advice : *found) {
            kinds << adviceKindName(advice.kind);
            QVERIFY(!advice.title.empty() && !advice.evidence.empty() && !advice.next.empty() && !advice.key.empty());
            QVERIFY(advice.begin == advice.end || advice.lane != kNone);
        }
        for (const char* kind : {"out_of_range", "lock_queue", "repeated", "changed_nothing", "allocations", "logging",
                                 "slow_file", "too_long"})
            QVERIFY2(kinds.contains(kind), qPrintable(QString(kind) + " not in " + kinds.join(", ")));
        QVERIFY(!adviceFor(*e, {}, [](double) { return false; }));
        // Nothing of it where there is nothing.
        TextRecording good;
        for (int f = 0; f < 40; ++f)
            good.frame(f * 20'000, "main")
                .mark(f * 20'000, f * 20'000 + 8000, "main", "Work")
                .frameEnd(f * 20'000 + 8000, "main");
        QVERIFY(adviceFor(*explained(good.open()))->empty());
    }

    void eachIsFoundAloneAndNotWhereItFallsShort_data() {
        QTest::addColumn<Make>("make");
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("title");
        QTest::addColumn<QString>("evidence");
        addWhatGoesWithLateFrames();
        addContention();
        addNeedlessWork();
        addWhatTakesLong();
        addWhatTellsLittle();
    }
    void eachIsFoundAloneAndNotWhereItFallsShort() {
        QFETCH(Make, make);
        QFETCH(QString, kind);
        QFETCH(QString, title);
        QFETCH(QString, evidence);
        const auto found = [&](bool there) {
            const Planted planted = make(there);
            const auto e = explained(planted.recording.open());
            const auto all = adviceFor(*e, planted.limits);
            std::vector<Advice> out;
            std::copy_if(all->begin(), all->end(), std::back_inserter(out),
                         [&](const Advice& a) { return kind == adviceKindName(a.kind); });
            for (const Advice& a : out)  // where it leads to lies in the recording
                if (a.begin != a.end && !(a.lane < e->recording->lanes.size() && a.begin < a.end &&
                                          a.begin >= e->recording->begin - 1'000'000 && a.end <= e->recording->end))
                    qWarning("a place outside the recording");
            return out;
        };
        const auto there = found(true);
        QCOMPARE(there.size(), size_t{1});
        QCOMPARE(QString::fromStdString(there[0].title), title);
        QVERIFY2(QString::fromStdString(there[0].evidence).startsWith(evidence), there[0].evidence.c_str());
        const auto again = found(true);
        QCOMPARE(there[0].key, again[0].key);
        const auto nearly = found(false);
        QVERIFY2(nearly.empty(), nearly.empty() ? "" : nearly[0].evidence.c_str());
    }

    void whatComesJustBeforeSpikesIsNamed() {
        TextRecording t;
        double at = 0;
        for (int f = 0; f < 60; ++f, at += 20'000) {
            const bool gust = f % 15 == 14;
            if (gust) t.at(at - 500, "main", R"("do":"input","text":"gust")");  // and so is a point
            if (f % 7 == 0) t.at(at + 20, "main", R"("do":"point","text":"gull")");
            t.frame(at, "main").mark(at, at + (gust ? 14'000 : 6000), "main", "Work");
            t.frameEnd(at + (gust ? 14'000 : 6000), "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->causes.at(0).before.what, std::string("‘gust’"));
        QCOMPARE(e->causes[0].before.spikes, size_t{4});
        QCOMPARE(e->causes[0].before.elsewhere, size_t{0});
        bool told = false;
        for (const Sentence& sentence : frameSentences(*e, 14))
            told |= sentence.text == "‘gust’ came just before 4 of the 4 spikes of A, and never otherwise.";
        QVERIFY(told);
        const auto advice = adviceFor(*e);
        QVERIFY(std::any_of(advice->begin(), advice->end(), [](auto& a) {
            return a.kind == AdviceKind::ComesBefore && a.confidence == ConfidenceLevel::Low &&
                   a.title == "‘gust’ comes just before A";
        }));
    }
};

QTEST_GUILESS_MAIN(AdviceTest)
#include "advice_test.moc"
