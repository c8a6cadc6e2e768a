// SPDX-License-Identifier: GPL-3.0-or-later
//
// Which marker is named as a cause where the critical path met another, and which arguments go with a cause. Each
// answer is worked out by hand.
#include <QtTest>

#include "core/ask/search.h"
#include "core/explain/simulation/what_if.h"
#include "core/explain/words/sentences.h"
#include "testing/explaining.h"

using namespace fugato;

class CausePlacesTest : public QObject {
    Q_OBJECT

private slots:
    // ---- what ran long is named, not what was met of it ------------------------------------------------

    /// The Job that a frame waits for is asked for at the end of the one before and usually long done. The one that
    /// frame 30 waits for gathers for 14 ms; most of that lies before the frame, which meets the rest of the Job.
    /// (Frame 29 is a usual one, so the mean there is 1.33 ms.)
    void workIsNamedAtTheLeafThatRanLongBeforeTheFrame() {
        TextRecording t;
        for (int f = 0; f < 40; ++f) {
            const double at = f * 20'000.0, gather = f == 29 ? 14'000 : 1000;
            const double waited = f == 30 ? at + 8010 : at + 5010, asked = waited + 4900, begun = at + 10'000;
            t.frame(at, "main", 12'000).begin(at, "main", "Frame");
            t.wait(at + 5000, "main", "Wait for job", "job", "job").waitEnd(waited, "main", f ? 10 * f - 9 : 0);
            t.mark(waited, waited + 4800, "main", "Work").linkOut(asked, "main", 10 * f);
            t.end(waited + 5000, "main").frameEnd(waited + 5000, "main");
            const double from = std::max(begun, asked);
            t.begin(from, "worker", "Job").linkIn(from, "worker", 10 * f);
            t.mark(from, from + gather, "worker", "Gather");
            t.mark(from + gather, from + gather + 2000, "worker", "Trace");
            t.mark(from + gather + 2000, from + gather + 4000, "worker", "Store");
            t.linkOut(from + gather + 4000, "worker", 10 * f + 1).end(from + gather + 4000, "worker");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, std::vector<uint32_t>{30});
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Job ▸ Gather"));
        QVERIFY(e->causes[0].kind == CauseKind::Slower);
        QCOMPARE(
            firstSentence(*e, 30),
            std::string("Job ▸ Gather on worker took ×10.5 its usual time, beside or before what this frame waited "
                        "for; that cost it 3.0 ms."));
        QCOMPARE(predict(*e, {{0, false}})->over, 0u);
    }

    /// Each frame has render upload for 0.2 ms, then draw for 8 ms, of which it meets the last 3.4. In frame 30 the
    /// upload takes 6 ms: more of the drawing is met, which is no slower.
    void workThatIsMetForLongerButNoLongerIsNotSlower() {
        TextRecording t;
        for (int f = 0; f < 40; ++f) {
            const double at = f * 20'000.0, upload = f == 30 ? 6000 : 200, drawn = at + 200 + upload + 8000;
            t.frame(at, "main", 11'000).begin(at, "main", "Frame").linkOut(at + 100, "main", 10 * f);
            t.begin(at + 200, "render", "Upload").linkIn(at + 200, "render", 10 * f).end(at + 200 + upload, "render");
            t.begin(at + 200 + upload, "render", "Picture").linkIn(at + 200 + upload, "render", 10 * f);
            t.linkOut(drawn, "render", 10 * f + 1).end(drawn, "render");
            t.mark(at + 100, at + 5000, "main", "Work")
                .wait(at + 5000, "main", "Wait for picture", "picture", "condition");
            t.waitEnd(drawn + 10, "main", 10 * f + 1).end(drawn + 1000, "main").frameEnd(drawn + 1000, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, std::vector<uint32_t>{30});
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Upload"));
        QCOMPARE(e->causes[0].late, e->figures.late);
        QCOMPARE(predict(*e, {{0, false}})->over, 0u);
    }

    /// Two workers do the four Jobs of a frame, 2 ms each. In frame 30 one of them is busy with a Survey that usually
    /// takes 1 ms, so the other does all four: the frame meets more Jobs, though there are no more and none is longer.
    void slowWorkOfAPoolThatOnlyShiftsOthersIsFound() {
        TextRecording t;
        t.lane("worker 1", 11, "thread", "worker").lane("worker 2", 12, "thread", "worker");
        for (int f = 0; f < 40; ++f) {
            const double at = f * 19'000.0;
            const bool slow = f == 30;
            t.frame(at, "main", 10'000).begin(at, "main", "Frame").linkOut(at + 50, "main", 10 * f);
            const auto job = [&](const char* lane, double from, bool last) {
                t.begin(from, lane, "Job").linkIn(from, lane, 10 * f);
                if (last) t.linkOut(from + 2000, lane, 10 * f + 1);
                t.end(from + 2000, lane);
            };
            const double done = at + (slow ? 8100 : 4100);
            if (!slow) job("worker 1", at + 100, false), job("worker 1", at + 2100, false);
            for (double from = at + 100; from < done; from += 2000) job("worker 2", from, from + 2000 >= done);
            // The next frame's Survey; that of frame 30 begins a millisecond before it.
            const double survey = f == 29 ? 13'000 : 1000, surveyAt = at + 18'000;
            t.begin(surveyAt, "worker 1", "Survey").linkIn(surveyAt, "worker 1", 10 * f + 2);
            t.end(surveyAt + survey, "worker 1");
            t.mark(at + 100, at + 3000, "main", "Work").wait(at + 3000, "main", "Wait for jobs", "jobs", "job");
            t.waitEnd(done + 10, "main", 10 * f + 1)
                .linkOut(done + 20, "main", 10 * f + 2)
                .end(done + 4000, "main")
                .frameEnd(done + 4000, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late, std::vector<uint32_t>{30});
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Survey"));
        QVERIFY(e->causes[0].kind == CauseKind::Slower);
    }

    // ---- arguments ---------------------------------------------------------------------------------

    void argumentsThatGoWithACauseAreTold() {
        // Load takes 1 ms of a frame of 8; the reef's picture 9 ms, three times in six late frames, the bay's in two,
        // and one other. It then sets 40 boats or more, otherwise 10 to 14. "tries" is the same everywhere, "lucky" is
        // told in one frame only.
        TextRecording t;
        const std::map<int, std::string> late{{33, "reef.png"}, {35, "bay.png"}, {37, "reef.png"},
                                              {39, "reef.png"}, {41, "bay.png"}, {43, "rock.png"}};
        for (int f = 0; f < 50; ++f) {
            const double at = f * 40'000.0;
            const auto picture = late.find(f);
            const bool slow = picture != late.end();
            const double length = slow ? 9000 : 1000;
            t.frame(at, "main").begin(at, "main", "Frame").begin(at + 1000, "main", "Load");
            const std::string file = slow ? picture->second : "sea " + std::to_string(f % 4) + ".png";
            t.argument(at + 1000, "main", "file", TextRecording::quoted(file));
            t.argument(at + 1000, "main", "boats", std::to_string(slow ? 40 + f : 10 + f % 5));
            t.argument(at + 1000, "main", "tries", "1");
            if (f == 33) t.argument(at + 1000, "main", "lucky", TextRecording::quoted("yes"));
            t.end(at + 1000 + length, "main").mark(at + 1000 + length, at + 7000 + length, "main", "Work");
            t.end(at + 7000 + length, "main").frameEnd(at + 7000 + length, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->late.size(), size_t{6});
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Frame ▸ Load"));
        QStringList told;
        for (const CauseArgument& argument : e->causes[0].arguments)
            told << QString::fromStdString(argumentWords(argument)) +
                        QString(": %1 of %2").arg(argument.frames).arg(argument.ofFrames);
        QCOMPARE(told, (QStringList{"file = reef.png (3) or bay.png (2): 5 of 6", "boats = 77, usually 12: 6 of 6"}));
        QCOMPARE(
            firstSentence(*e, 35),
            std::string("Frame ▸ Load on main took 8.0 ms longer than usual in its one call. It had file = bay.png, "
                        "boats = 75, tries = 1."));
        QVERIFY(sentencesOf(*e, 35).contains("In 5 of 6 frames of A ‘Load’ had file = reef.png (3) or bay.png (2)."));
        // Searched for, the longest come first.
        const auto found = search(*e->recording, "file=png");
        QCOMPARE(found->arguments.size(), size_t{50});
        QCOMPARE(found->arguments[0].duration, int64_t{9'000'000});
        QCOMPARE(found->arguments[6].duration, int64_t{1'000'000});
    }

    void argumentsOfMarkersAroundAndInsideGoWithACauseToo() {
        // Open pack ▸ Read takes 9 ms where the pack is sails.pak; inside it, Seek is told how far.
        TextRecording t;
        for (int f = 0; f < 50; ++f) {
            const double at = f * 40'000.0, length = f == 33 || f == 37 || f == 41 ? 9000 : 1000;
            t.frame(at, "main").begin(at, "main", "Frame").argument(at, "main", "number", std::to_string(f % 7));
            t.begin(at + 1000, "main", "Open pack");
            t.argument(at + 1000, "main", "pack", TextRecording::quoted(length > 1000 ? "sails.pak" : "hulls.pak"));
            t.begin(at + 1100, "main", "Read").begin(at + 1200, "main", "Seek");
            t.argument(at + 1200, "main", "blocks", length > 1000 ? "900" : "3").end(at + 1300, "main");
            t.end(at + 1100 + length, "main").end(at + 1200 + length, "main");
            t.mark(at + 1300 + length, at + 7000 + length, "main", "Work");
            t.end(at + 7000 + length, "main").frameEnd(at + 7000 + length, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Open pack ▸ Read"));
        QStringList told;
        for (const CauseArgument& argument : e->causes[0].arguments)
            told << QString::fromStdString(argumentWords(argument));
        QCOMPARE(told, (QStringList{"pack of ‘Open pack’ = sails.pak", "blocks of ‘Seek’ = 900, usually 3"}));
        QVERIFY(firstSentence(*e, 37).ends_with(" ‘Open pack’ around it had pack = sails.pak."));
        QVERIFY(sentencesOf(*e, 37).contains("In 3 of 3 frames of A ‘Open pack’, around it, had pack = sails.pak."));
        QVERIFY(sentencesOf(*e, 37).contains("In 3 of 3 frames of A ‘Seek’, inside it, had blocks = 900, usually 3."));
    }

    void anotherValueInEachLateFrameSaysNothing() {
        TextRecording t;
        for (int f = 0; f < 50; ++f) {
            const double at = f * 40'000.0, length = f == 33 || f == 37 || f == 41 ? 9000 : 1000;
            t.frame(at, "main").begin(at, "main", "Frame").begin(at + 1000, "main", "Load");
            t.argument(at + 1000, "main", "file", TextRecording::quoted("sea " + std::to_string(f)));
            t.end(at + 1000 + length, "main").mark(at + 1000 + length, at + 7000 + length, "main", "Work");
            t.end(at + 7000 + length, "main").frameEnd(at + 7000 + length, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(e->causes[0].frames.size(), size_t{3});
        QVERIFY(e->causes[0].arguments.empty());
    }

    void argumentsThatSayNothingAreNotTold() {
        // Late or not, every picture is loaded in turn.
        TextRecording t;
        for (int f = 0; f < 60; ++f) {
            const double at = f * 40'000.0, length = f >= 32 && f % 4 == 1 ? 9000 : 1000;
            t.frame(at, "main").begin(at, "main", "Frame").begin(at + 1000, "main", "Load");
            t.argument(at + 1000, "main", "file", TextRecording::quoted("sea " + std::to_string(f / 4 % 8)));
            t.end(at + 1000 + length, "main").mark(at + 1000 + length, at + 7000 + length, "main", "Work");
            t.end(at + 7000 + length, "main").frameEnd(at + 7000 + length, "main");
        }
        const auto e = explained(t.open());
        QCOMPARE(causeTitle(*e, e->causes[0]), std::string("Frame ▸ Load"));
        QCOMPARE(e->causes[0].frames.size(), size_t{7});
        QVERIFY(e->causes[0].arguments.empty());
    }
};

QTEST_GUILESS_MAIN(CausePlacesTest)
#include "cause_places_test.moc"
