// SPDX-License-Identifier: GPL-3.0-or-later
//
// What panels are made of, without a window: selection and its history, the pictures, the table model.
#include <QAbstractItemModelTester>
#include <QPainter>
#include <QSignalSpy>
#include <QTemporaryDir>
#include <QTextLayout>
#include <QtTest>

#include "app/lanes/lane_picture.h"
#include "app/selection/selection.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/model/lane_order.h"
#include "testing/children.h"
#include "testing/explaining.h"

using namespace fugato;

namespace {

struct Chosen {
    std::shared_ptr<const Recording> recording = sixtyFrames();
    std::shared_ptr<const Explanation> explanation = explained(recording);
    Selection selection;
    Chosen() {
        selection.setRecording(recording);
        selection.setExplanation(explanation, true);
    }
};

bool has(const QImage& image, const QRect& where, const QColor& color) {
    for (int y = where.top(); y <= where.bottom(); ++y)
        for (int x = where.left(); x <= where.right(); ++x)
            if (image.rect().contains(x, y) && image.pixelColor(x, y) == color) return true;
    return false;
}

/// The same, nearly: the edges of letters are blended.
bool hasWords(const QImage& image, const QRect& where, const QColor& color) {
    for (int y = where.top(); y <= where.bottom(); ++y)
        for (int x = where.left(); x <= where.right(); ++x) {
            if (!image.rect().contains(x, y)) continue;
            const QColor there = image.pixelColor(x, y);
            if (std::abs(there.red() - color.red()) + std::abs(there.green() - color.green()) +
                    std::abs(there.blue() - color.blue()) <
                120)
                return true;
        }
    return false;
}

}  // namespace

class PanelsTest : public QObject {
    Q_OBJECT

private slots:
    void init() { applyTheme(false, false); }

    // ---- tracks -----------------------------------------------------------------------------

    static std::shared_ptr<const Recording> tracked() {
        TextRecording t;
        t.lane("main", 1).lane("save", 2).lane("core 0", 3, "core").lane("core 1", 4, "core");
        t.line(R"({"define":"lane","id":1,"name":"main","os":11})")
            .line(R"({"define":"lane","id":2,"name":"save","os":12})");
        t.line(R"({"define":"os_thread","id":99,"process":9,"name":"indexer"})")
            .line(R"({"define":"context","key":"process","value":"5"})");
        t.line(R"({"define":"counter","id":1,"name":"drops","unit":"drops","threshold":50})");
        t.begin(0, "main", "Work").mark(20, 40, "save", "Save");
        t.at(0, "main", R"("do":"count","counter":1,"value":10)");
        t.at(5, "main", R"("do":"operation","operation":7,"site":"Load")");
        t.at(10, "main", R"("do":"state","state":"stage","value":"Race")");
        t.at(10, "main", R"("do":"memory","pool":"sails","address":64,"bytes":5000000,"name":"spinnaker")");
        t.at(30, "main", R"("do":"point_code","severity":"error","code":-5,"text":"refused")");
        t.at(50, "main", R"("do":"count","counter":1,"value":80)");
        t.at(50, "main", R"("do":"picture","picture":1,"width":2,"height":1,"row":0,"pixels":"ff000000ff00")");
        t.end(100, "main");
        t.at(45, "save", R"("do":"step","operation":7,"site":"Unpack")");
        t.at(80, "save", R"("do":"operation_end","operation":7,"code":3,"text":"too late")");
        t.at(0, "core 0", R"("do":"switch","thread":11)");
        t.at(40, "core 0", R"("do":"switch","thread":99,"ready":true)");
        t.at(70, "core 0", R"("do":"switch","thread":11)").at(90, "core 0", R"("do":"switch","thread":0)");
        t.at(20, "core 1", R"("do":"switch","thread":12)").at(60, "core 1", R"("do":"switch","thread":0)");
        return t.open();
    }
    /// The first 100 µs of a recording, 10 pixels a microsecond.
    static QImage paintedTracks(LanePicture& picture, const std::shared_ptr<const Recording>& recording,
                                const QRect& area) {
        picture.setRecording(recording);
        picture.setView(0, 100'000);
        QImage image(area.size(), QImage::Format_RGB32);
        QPainter painter(&image);
        picture.paint(painter, area, 0);
        return image;
    }
    static size_t trackNamed(const LanePicture& picture, const QString& name) {
        const auto& tracks = picture.tracks().tracks();
        for (size_t i = 0; i < tracks.size(); ++i)
            if (tracks[i].name == name) return i;
        return tracks.size();
    }

    void everythingRecordedHasATrackThatIsReadableUnderThePointer() {
        const auto recording = tracked();
        LanePicture picture;
        const QRect area(0, 0, LanePicture::kLabelWidth + 1000, 700);
        const QImage image = paintedTracks(picture, recording, area);
        const auto wordsAt = [&](const char* name, int us, int down = 12) {
            const size_t track = trackNamed(picture, name);
            if (track == picture.tracks().tracks().size()) return QString("no such track");
            const QRect box = picture.trackRect(area, 0, track);
            return picture.wordsAt(area, 0, {LanePicture::kLabelWidth + us * 10 + 2, box.top() + down});
        };
        QVERIFY2(wordsAt("points", 30).contains("refused (code -5)"), qPrintable(wordsAt("points", 30)));
        QVERIFY(wordsAt("points", 60).isEmpty());
        QVERIFY(wordsAt("stage", 50).contains("Race"));
        QVERIFY(wordsAt("stage", 2).isEmpty());
        const QString operation = wordsAt("operations", 20, 8);
        for (const char* part :
             {"Load", "begun on main", "ended on save", "Unpack (save)", "failed with code 3: too late"})
            QVERIFY2(operation.contains(part), qPrintable(operation));
        QVERIFY(wordsAt("drops", 60).contains("80 drops") && wordsAt("drops", 60).contains("threshold 50"));
        QVERIFY(wordsAt("memory: sails", 50).contains("spinnaker: 5.00 MB, never released"));
        QVERIFY2(wordsAt("core 0", 50).contains("indexer (another program)"), qPrintable(wordsAt("core 0", 50)));
        QVERIFY(wordsAt("core 1", 30).contains("save"));
        QVERIFY(wordsAt("screen", 70).contains("The screen at"));
        // Beyond the threshold there is plum; before, none.
        const QRect drops = picture.trackRect(area, 0, trackNamed(picture, "drops"));
        const auto plum = theme().plumMiddle;
        QVERIFY(has(image, QRect(LanePicture::kLabelWidth + 600, drops.top(), 50, drops.height()), plum));
        QVERIFY(!has(image, QRect(LanePicture::kLabelWidth + 200, drops.top(), 50, drops.height()), plum));
        const QRect screen = picture.trackRect(area, 0, trackNamed(picture, "screen"));
        bool red = false;
        for (int x = 500; x < 700; ++x)
            red |= qRed(image.pixel(LanePicture::kLabelWidth + x, screen.center().y())) > 200 &&
                   qGreen(image.pixel(LanePicture::kLabelWidth + x, screen.center().y())) < 80;
        QVERIFY(red);
    }

    /// Ten at once, for four of which there is no row; one lasts the whole recording; thousands are narrower than a
    /// pixel, one of which failed.
    void operationsBeyondTheRowsAreCounted() {
        TextRecording t;
        t.lane("main", 1);
        std::multimap<double, std::string> told;
        const auto operation = [&](double from, double to, int number, int code = 0) {
            const std::string id = R"(,"operation":)" + std::to_string(number);
            told.emplace(from, R"("do":"operation","site":"Load")" + id);
            told.emplace(to, R"("do":"operation_end")" + id + R"(,"code":)" + std::to_string(code));
        };
        operation(0, 99, 1);
        for (int i = 0; i < 9; ++i) operation(20 + i, 40 + i, 10 + i);
        for (int i = 0; i < 2000; ++i) operation(60 + i * 0.01, 60 + i * 0.01 + 0.005, 100 + i, i == 1234 ? 3 : 0);
        for (const auto& [time, what] : told) t.at(time, "main", what);
        const auto r = t.open();
        QCOMPARE(r->operationRows.size(), size_t{10});
        QCOMPARE(r->operationsAt(35'000), size_t{10});
        QCOMPARE(r->operationsAt(50'000), size_t{1});
        size_t all = 0;
        for (size_t row = 0; row < r->operationRows.size(); ++row) all += r->operationRows[row].operations.size();
        QCOMPARE(all, r->operations.size());
        LanePicture picture;
        const QRect area(0, 0, LanePicture::kLabelWidth + 1000, 700);
        const QImage image = paintedTracks(picture, r, area);
        const size_t track = trackNamed(picture, "operations");
        const QRect box = picture.trackRect(area, 0, track);
        QVERIFY(picture.tracks().tracks()[track].detail.endsWith("10 at once"));
        const auto wordsAt = [&](int us, int down) {
            return picture.wordsAt(area, 0, {LanePicture::kLabelWidth + us * 10 + 2, box.top() + down});
        };
        QVERIFY2(wordsAt(50, 8).contains("Load"), qPrintable(wordsAt(50, 8)));  // the one that lasts
        QVERIFY(wordsAt(50, 8 + 15).isEmpty());
        QVERIFY2(wordsAt(35, box.height() - 6).contains("10 operations"), qPrintable(wordsAt(35, box.height() - 6)));
        const auto dark = [&](int us) {
            const QColor color(image.pixel(LanePicture::kLabelWidth + us * 10, box.bottom() - 6));
            return color.lightness() < theme().paper.lightness() - 40;
        };
        QVERIFY(dark(35) && !dark(50));
        const int failed = LanePicture::kLabelWidth + static_cast<int>((60 + 1234 * 0.01) * 10);
        QVERIFY(has(image, QRect(failed - 2, box.top() + 15, 5, 15), theme().plum));
        QVERIFY(!has(image, QRect(failed - 60, box.top() + 15, 50, 15), theme().plum));
    }

    void oneValueAmongHundredsInAColumnIsSeen() {
        TextRecording t;
        t.lane("main", 1);
        t.line(R"({"define":"counter","id":1,"name":"drops","unit":"drops","threshold":50})");
        constexpr int kValues = 60'000, kColumns = 100, kHigh = 30'301;
        for (int i = 0; i < kValues; ++i)
            t.at(i / 600.0, "main", R"("do":"count","counter":1,"value":)" + std::to_string(i == kHigh ? 80 : 10));
        for (int i = 0; i < 1000; ++i)
            t.at(20.1 + i * 0.0005, "main",
                 std::string(R"("do":"point","text":"x","severity":)") + (i == 700 ? R"("error")" : R"("info")"));
        t.mark(0, 100, "main", "Work");
        LanePicture picture;
        const QRect area(0, 0, LanePicture::kLabelWidth + kColumns, 500);
        const QImage image = paintedTracks(picture, t.open(), area);
        const auto columnWith = [&](const char* track, const QColor& color) {
            const QRect box = picture.trackRect(area, 0, trackNamed(picture, track));
            for (int x = 0; x < kColumns; ++x)
                if (has(image, QRect(LanePicture::kLabelWidth + x, box.top(), 1, box.height()), color)) return x;
            return -1;
        };
        QCOMPARE(columnWith("drops", theme().plumMiddle), kHigh / (kValues / kColumns));
        QVERIFY(columnWith("points", theme().plum) >= 0);
    }

    void aThreadsLineTellsRunningReadyAndBlocked() {
        const auto recording = tracked();
        const Lane& lane = recording->lanes[laneNamed(*recording, "main")];
        QCOMPARE(lane.schedule.size(), size_t{4});
        QCOMPARE(int(lane.scheduleAt(20'000)->state), int(ThreadState::Running));
        QCOMPARE(int(lane.scheduleAt(50'000)->state), int(ThreadState::Ready));
        QCOMPARE(int(lane.scheduleAt(80'000)->state), int(ThreadState::Running));
        QCOMPARE(int(lane.scheduleAt(95'000)->state), int(ThreadState::Blocked));
        LanePicture picture;
        const QRect area(0, 0, LanePicture::kLabelWidth + 1000, 700);
        const QImage image = paintedTracks(picture, recording, area);
        const QRect box = picture.laneRect(area, 0, laneNamed(*recording, "main"));
        const int y = box.top() + LanePicture::kRail - 3;
        const auto inked = [&](int from, int to) {
            int count = 0;
            for (int x = from; x < to; ++x) count += qGray(image.pixel(LanePicture::kLabelWidth + x * 10, y)) < 170;
            return count;
        };
        QCOMPARE(inked(5, 35), 30);  // solid
        QVERIFY2(inked(45, 65) < 20, "hatched, not solid");
        QString ready = picture.wordsAt(area, 0, {LanePicture::kLabelWidth + 505, box.top() + 3});
        QVERIFY2(
            ready.contains("ready but waiting for a core") && ready.contains("indexer (another program) had core 0"),
            qPrintable(ready));
    }

    void manySwitchesInAColumnAreShownByAllOfThem() {
        // Each microsecond another thread: until 20 ms main is blocked between, from then on ready; until 30 ms core 1
        // is idle, then busy for a tenth, with the worker.
        TextRecording t;
        t.lane("main", 1).lane("worker", 2).lane("core 0", 3, "core").lane("core 1", 4, "core");
        t.line(R"({"define":"lane","id":1,"name":"main","os":11})");
        t.line(R"({"define":"lane","id":2,"name":"worker","os":98})");
        t.begin(0, "main", "Work").begin(0, "worker", "Work");
        for (int us = 0; us < 40'000; us += 2) {
            t.at(us, "core 0", R"("do":"switch","thread":11)");
            t.at(us + 1, "core 0",
                 us < 20'000 ? R"("do":"switch","thread":99)" : R"("do":"switch","thread":99,"ready":true)");
            t.at(us, "core 1", us < 30'000 ? R"("do":"switch","thread":0)" : R"("do":"switch","thread":98)");
            t.at(us + 0.2, "core 1", R"("do":"switch","thread":0)");
        }
        t.end(40'000, "main").end(40'000, "worker");
        const auto recording = t.open();
        LanePicture picture;
        picture.setRecording(recording);
        picture.setView(0, 40'000'000);
        const QRect area(0, 0, LanePicture::kLabelWidth + 100, 700);
        QImage image(area.size(), QImage::Format_RGB32);
        QPainter painter(&image);
        picture.paint(painter, area, 0);
        const auto lineAt = [&](const char* lane, int percent) {  // how dark its three rows of pixels are
            const QRect box = picture.laneRect(area, 0, laneNamed(*recording, lane));
            QList<int> rows;
            for (int y = 0; y < 3; ++y)
                rows << 255 - qGray(image.pixel(LanePicture::kLabelWidth + percent,
                                                box.top() + LanePicture::kRail - 4 + y));
            return rows;
        };
        const int solid = 255 - qGray(theme().muted.rgb()), paper = 255 - qGray(theme().paper.rgb());
        for (const int half : {5, 30, 48}) {
            const QList<int> line = lineAt("main", half);
            QCOMPARE(line, QList<int>(3, line[0]));  // no hatching
            QVERIFY(line[0] > (solid + paper) / 2 - 10 && line[0] < solid - 10);
        }
        int hatched = 0;
        for (int ready = 52; ready < 96; ++ready) {
            const QList<int> line = lineAt("main", ready);
            hatched += line != QList<int>(3, line[0]);
        }
        QVERIFY2(hatched > 10, qPrintable(QString::number(hatched)));
        const QList<int> tenth = lineAt("worker", 90);
        QCOMPARE(tenth, QList<int>(3, tenth[0]));
        QVERIFY(tenth[0] > paper + 10 && tenth[0] < lineAt("main", 30)[0] - 10);
        const QRect core = picture.trackRect(area, 0, trackNamed(picture, "core 1"));
        const auto darkAt = [&](int percent) {
            return 255 - qGray(image.pixel(LanePicture::kLabelWidth + percent, core.center().y()));
        };
        QVERIFY(darkAt(90) > darkAt(60));
        const QRect busy = picture.trackRect(area, 0, trackNamed(picture, "core 0"));
        QVERIFY(255 - qGray(image.pixel(LanePicture::kLabelWidth + 90, busy.center().y())) > 2 * darkAt(90));
    }

    // ---- selection --------------------------------------------------------------------------

    void aFreshExplanationChoosesTheCostliestCauseAndItsWorstFrame() {
        Chosen c;
        QCOMPARE(c.selection.cause(), 0u);
        QCOMPARE(c.selection.frame() % 10, 9u);
        QVERIFY(!c.selection.canGoBack());
        const Frame& frame = c.explanation->frame(c.selection.frame());
        QVERIFY(c.selection.view().begin < frame.begin && c.selection.view().end > frame.end);
    }

    void withoutLateFramesTheSlowestIsChosen() {
        TextRecording t;
        for (int i = 0; i < 5; ++i) t.frame(i * 20'000, "main").frameEnd(i * 20'000 + (i == 3 ? 9'000 : 5'000), "main");
        const auto r = t.open();
        Selection selection;
        selection.setRecording(r);
        selection.setExplanation(explained(r), true);
        QCOMPARE(selection.frame(), 3u);
        QCOMPARE(selection.cause(), kNone);
    }

    void theViewStaysInsideTheRecording() {
        Chosen c;
        const int64_t begin = c.recording->begin, end = c.recording->end;
        c.selection.showSpan(begin - 1'000'000, begin + 1'000'000);
        QCOMPARE(c.selection.view().begin, begin);
        QCOMPARE(c.selection.view().end, begin + 2'000'000);
        c.selection.showSpan(end, end + 5'000);
        QCOMPARE(c.selection.view().end, end);
        c.selection.showSpan(begin - 10, end + 10);
        QCOMPARE(c.selection.view().begin, begin);
        QCOMPARE(c.selection.view().end, end);
        c.selection.showSpan(5, 5);
        QVERIFY(c.selection.view().end - c.selection.view().begin >= 20);
    }

    void smallMovesBelongToTheViewTheyStartedFrom() {
        Chosen c;
        c.selection.chooseFrame(9);
        c.selection.zoom(0.5, c.explanation->frame(9).begin + 3'000'000);
        c.selection.pan(0.1);
        const View moved = c.selection.view();
        c.selection.chooseFrame(19);
        c.selection.goBack();
        QCOMPARE(c.selection.view().begin, moved.begin);
        QCOMPARE(c.selection.frame(), 9u);
    }

    void aNewChoiceForgetsWhatWasForward() {
        Chosen c;
        c.selection.chooseFrame(9);
        c.selection.chooseFrame(19);
        c.selection.goBack();
        QVERIFY(c.selection.canGoForward());
        c.selection.chooseFrame(29);
        QVERIFY(!c.selection.canGoForward());
        c.selection.goBack();
        QCOMPARE(c.selection.frame(), 9u);
    }

    void spikesAreSteppedThroughFromAnyFrame() {
        Chosen c;
        c.selection.chooseFrame(12);
        c.selection.stepSpike(1);
        QCOMPARE(c.selection.frame(), 19u);
        c.selection.stepSpike(-1);
        QCOMPARE(c.selection.frame(), 9u);
        c.selection.stepSpike(-1);
        QCOMPARE(c.selection.frame(), 9u);  // there is none before
        c.selection.chooseFrame(31);
        c.selection.stepSpike(1);
        QCOMPARE(c.selection.frame(), 35u);
        QCOMPARE(c.explanation->causes[c.selection.cause()].kind, CauseKind::Waiting);
        c.selection.chooseFrame(37);
        c.selection.stepSpike(-1);
        QCOMPARE(c.selection.frame(), 35u);
        c.selection.chooseFrame(59);
        c.selection.stepSpike(1);
        QCOMPARE(c.selection.frame(), 59u);
    }

    void choosingBeyondTheEndDoesNothing() {
        Chosen c;
        const View before = c.selection.view();
        c.selection.chooseFrame(60);
        c.selection.chooseCause(99);
        QVERIFY(c.selection.view() == before);
        Selection empty;
        empty.stepFrame(1);
        empty.stepSpike(1);
        empty.showFrame();
        empty.showWhole();
        empty.goBack();
        QCOMPARE(empty.frame(), kNone);
    }

    // ---- pictures --------------------------------------------------------------------------------

    void timesAndPixelsOfTheLanesAgreeAtAnyZoom() {
        LanePicture picture;
        picture.setRecording(sixtyFrames());
        const QRect area(0, 0, 1000, 400);
        for (const int64_t length : {int64_t{20}, int64_t{1000}, int64_t{1'000'000}, int64_t{36'000'000'000'000}}) {
            const int64_t begin = length == 36'000'000'000'000 ? 0 : 36'000'000'000'000;  // ten hours in
            picture.setView(begin, begin + length);
            for (int x = LanePicture::kLabelWidth; x < 1000; x += 83) {
                const int64_t time = picture.timeAt(area, x);
                QVERIFY(std::abs(picture.xAt(area, time) - x) <= 1.0 + 900.0 / static_cast<double>(length));
            }
            if (length == 20)  // one nanosecond is told from the next
                QVERIFY(picture.xAt(area, begin + 1) - picture.xAt(area, begin) > 40);
        }
    }

    void theCauseIsInkedOnlyInTheChosenFrame() {
        const auto r = sixtyFrames();
        const auto e = explained(r);
        LanePicture picture;
        picture.setRecording(r);
        picture.setExplanation(e);
        picture.setFrame(explainedFrame(e, 19), e->sharesOf(19)[0].cause);
        picture.setView(e->frame(9).begin, e->frame(20).end);
        QImage image(1000, 400, QImage::Format_RGB32);
        QPainter painter(&image);
        picture.paint(painter, image.rect(), 0);
        painter.end();
        const uint32_t main = laneNamed(*r, "main");
        const auto loadIn = [&](uint32_t frame) {
            const MarkerRow& row = r->lanes[main].rows[1];
            const uint32_t index = row.lastBefore(e->frame(frame).end);
            return picture.markerRect(image.rect(), 0, {main, 1, index});
        };
        QVERIFY(has(image, loadIn(19), theme().plum));
        QVERIFY(!has(image, loadIn(9), theme().plum));
        QVERIFY(has(image, QRect(0, 0, 1000, 400), theme().path));
    }

    /// The lanes of a frame, as wide as it is.
    static QImage paintedFrame(LanePicture& picture, const std::shared_ptr<const Explanation>& e, uint32_t frame) {
        picture.setRecording(e->recording);
        picture.setExplanation(e);
        picture.setFrame(explainedFrame(e, frame), e->sharesOf(frame).empty() ? kNone : e->sharesOf(frame)[0].cause);
        picture.setView(e->frame(frame).begin, e->frame(frame).end);
        QImage image(1000, 400, QImage::Format_RGB32);
        QPainter painter(&image);
        picture.paint(painter, image.rect(), 0);
        return image;
    }

    void namesFromRightToLeftDoNotMoveDigits() {
        const std::string boats = "\u05e1\u05d9\u05e8\u05d5\u05ea \u05de\u05e4\u05e8\u05e9";  // two Hebrew words
        QCOMPARE(toQString("Boats, 21.1 ms"), QString("Boats, 21.1 ms"));
        const QString text = toQString(boats + ", 21.1 ms on main");
        QCOMPARE(text, QChar(0x2068) + QString::fromStdString(boats) + QChar(0x2069) + ", 21.1 ms on main");
        // As it is laid out: the name first, then the digits in their order.
        QTextLayout layout(text, textFont());
        layout.beginLayout();
        const QTextLine line = layout.createLine();
        layout.endLayout();
        const auto x = [&](const QString& words) { return line.cursorToX(static_cast<int>(text.indexOf(words))); };
        QVERIFY(x("21.1") < x(".1 ms") && x(".1 ms") < x("ms on") && x("ms on") < x("main"));
        for (int at = 1; at < int(text.indexOf(QChar(0x2069))); ++at) QVERIFY(line.cursorToX(at) <= x("21.1"));
    }

    void linesAreNotDrawnThroughWords() {
        // The deadline lies in the middle of a name of low strokes, and of a name too short to reach it.
        const auto darkAbove = [](const std::string& name, bool waits) {
            TextRecording t;
            for (int f = 0; f < 21; ++f) {
                const double at = f * 40'000.0, work = f == 20 ? 19'000 : 7000;
                t.frame(at, "main").begin(at, "main", "Frame");
                if (waits)
                    t.wait(at + 9500, "main", name, "x", "file").waitEnd(at + work, "main");
                else
                    t.mark(at + 9500, at + work, "main", name);
                t.end(at + work + 100, "main").frameEnd(at + work + 100, "main");
            }
            const auto e = explained(t.open());
            LanePicture picture;
            picture.setRecording(e->recording);
            picture.setExplanation(e);
            picture.setFrame(explainedFrame(e, 20), kNone);
            picture.setView(e->frame(20).begin, e->frame(20).end);
            QImage image(1000, 400, QImage::Format_RGB32);
            QPainter painter(&image);
            picture.paint(painter, image.rect(), 0);
            const QRect box = picture.markerRect(image.rect(), 0, {0, 1, e->recording->lanes[0].rows[1].size() - 1});
            const int x = static_cast<int>(picture.xAt(image.rect(), e->frame(20).begin + 10'000'000));
            int dark = 0;
            for (int y = box.top() + 3; y < box.center().y(); ++y)
                for (int by = -1; by <= 1; ++by) dark += qGray(image.pixel(x + by, y)) < 60;  // darker than plum
            return dark;
        };
        for (const bool waits : {false, true}) {
            QVERIFY(darkAbove("-", waits) > 0);
            QCOMPARE(darkAbove(std::string(24, '_'), waits), 0);
        }
    }

    void aWaitAtFaultIsHatchedAndItsNameCanBeRead() {
        for (const bool dark : {false, true}) {
            applyTheme(dark, false);
            TextRecording t;
            for (int f = 0; f < 21; ++f) {
                const double at = f * 40'000.0, end = at + (f == 20 ? 19'000 : 7000);
                t.frame(at, "main").begin(at, "main", "Frame").mark(at + 500, at + 3000, "main", "Sail");
                t.wait(at + 4000, "main", "Read chart", "chart", "file").waitEnd(end, "main");
                t.end(end + 500, "main").frameEnd(end + 500, "main");
            }
            const auto e = explained(t.open());
            QCOMPARE(e->late, (std::vector<uint32_t>{20}));
            LanePicture picture;
            const auto boxIn = [&](const QImage& image, uint32_t frame) {
                const MarkerRow& row = e->recording->lanes[0].rows[1];
                return picture.markerRect(image.rect(), 0, {0, 1, row.lastBefore(e->frame(frame).end)});
            };
            const QImage late = paintedFrame(picture, e, 20);
            const QRect box = boxIn(late, 20);
            QVERIFY(box.width() > 400);
            QVERIFY(has(late, box, theme().plum));
            QVERIFY(has(late, box, theme().waiting));  // between the lines
            const QRect words(box.left() + 4, box.top() + 2, 50, box.height() - 4);
            QVERIFY(hasWords(late, words, theme().markerText));
            const QImage usual = paintedFrame(picture, e, 19);
            QVERIFY(!has(usual, boxIn(usual, 19), theme().plum));
        }
    }

    void whereACoreWasWantedIsHatched() {
        TextRecording t;
        t.lane("main", 1).lane("core 0", 9, "core");
        t.line(R"({"define":"lane","id":1,"name":"main","os":11})");
        t.line(R"({"define":"os_thread","id":99,"process":9,"name":"indexer"})");
        t.at(0, "core 0", R"("do":"switch","thread":11)");
        for (int f = 0; f < 21; ++f) {
            const double at = f * 40'000.0, end = at + (f == 20 ? 16'000 : 6000);
            t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, end, "main", "Work");
            t.end(end + 1000, "main").frameEnd(end + 1000, "main");
            if (f < 20) continue;
            t.at(at + 3000, "core 0", R"("do":"switch","thread":99,"ready":true)");
            t.at(at + 13'000, "core 0", R"("do":"switch","thread":11)");
        }
        const auto e = explained(t.open());
        QVERIFY(e->causes[0].kind == CauseKind::NoCore);
        LanePicture picture;
        const QImage image = paintedFrame(picture, e, 20);
        const MarkerRow& row = e->recording->lanes[0].rows[1];
        const QRect work = picture.markerRect(image.rect(), 0, {0, 1, row.lastBefore(e->frame(20).end)});
        const int64_t begin = e->frame(20).begin;
        const auto between = [&](int64_t fromMs, int64_t toMs) {
            const auto left = int(picture.xAt(image.rect(), begin + fromMs * 1'000'000)) + 2,
                       right = int(picture.xAt(image.rect(), begin + toMs * 1'000'000)) - 2;
            return QRect(left, work.top() + 1, right - left, work.height() - 2);
        };
        QVERIFY(!has(image, between(1, 3), theme().plum));
        QVERIFY(has(image, between(3, 13), theme().plum));
        QVERIFY(hasWords(image, between(3, 13), theme().markerText));  // who had it
        QVERIFY(!has(image, between(13, 16), theme().plum));
        const QImage usual = paintedFrame(picture, e, 10);
        QVERIFY(!has(usual, usual.rect().adjusted(0, LanePicture::kHeaderHeight + 4, 0, 0), theme().plum));
    }

    void theAccountingCrossesToTheHoldersLane() {
        const auto r = sixtyFrames();
        const auto e = explained(r);
        LanePicture picture;
        picture.setRecording(r);
        picture.setExplanation(e);
        picture.setFrame(explainedFrame(e, 35), 0);
        picture.setView(e->frame(35).begin - 1'000'000, e->frame(35).end + 1'000'000);
        QImage image(1000, 400, QImage::Format_RGB32);
        QPainter painter(&image);
        picture.paint(painter, image.rect(), 0);
        painter.end();
        const QRect save = picture.laneRect(image.rect(), 0, laneNamed(*r, "save")),
                    queue = picture.laneRect(image.rect(), 0, laneNamed(*r, "queue"));
        QVERIFY(has(image, QRect(LanePicture::kLabelWidth, save.top(), 880, LanePicture::kRail), theme().path));
        QVERIFY(!has(image, QRect(LanePicture::kLabelWidth, queue.top() + 2, 880, LanePicture::kRail), theme().path));
    }

    void theOwnLaneComesFirstAndQueuesLast() {
        TextRecording t;
        t.lane("gpu", 1, "queue").lane("side", 2).lane("main", 3);
        t.mark(0, 1, "gpu", "A").mark(0, 1, "side", "A").frame(0, "main").frameEnd(5, "main");
        const auto r = t.open();
        QStringList names;
        for (const uint32_t lane : lanesInOrder(*r)) names << QString::fromStdString(r->lanes[lane].name);
        QCOMPARE(names, (QStringList{"main", "side", "gpu"}));
        LanePicture picture;
        picture.setRecording(r);
        const QRect area(0, 0, 500, 300);
        QVERIFY(picture.laneRect(area, 0, laneNamed(*r, "main")).top() <
                picture.laneRect(area, 0, laneNamed(*r, "gpu")).top());
        QCOMPARE(picture.laneAt(area, 0, picture.laneRect(area, 0, laneNamed(*r, "side")).center().y()),
                 laneNamed(*r, "side"));
        QCOMPARE(picture.laneAt(area, 0, 5), kNone);
    }

    void paintingSurvivesOddRecordings() {
        TextRecording t;
        t.mark(0, 0, "zero", "Nothing").mark(0, 0, "zero", "Nothing");  // zero-length, at the same instant
        for (int d = 0; d < 300; ++d) t.begin(d, "deep", "Down");       // very deep, never ended
        t.begin(5, "whole", "Open for the whole recording")
            .at(9, "whole", R"("do":"lost","events":3)")
            .end(400, "whole");
        t.line(R"({"define":"lane","id":99,"name":""})");  // a lane without an event
        const auto r = t.open();
        LanePicture picture;
        picture.setRecording(r);
        for (const auto& [begin, end] : {std::pair<int64_t, int64_t>{0, 400'000}, {0, 20}, {399'000, 400'000}}) {
            picture.setView(begin, end);
            QImage image(800, 300, QImage::Format_RGB32);
            QPainter painter(&image);
            for (const int scrolled : {0, 500, picture.height()}) picture.paint(painter, image.rect(), scrolled);
            picture.paint(painter, QRect(0, 0, 130, 40), 0);
        }
        const uint32_t deep = laneNamed(*r, "deep");
        picture.setView(0, 400'000);
        QVERIFY(picture.folded(deep) && picture.height() < 100 * LanePicture::kRowHeight);
        LaneArrangement open;
        open.unfolded.insert(picture.keys().lanes[deep]);
        picture.setArrangement(open);
        QVERIFY(!picture.folded(deep) && picture.height() > 300 * LanePicture::kRowHeight);
    }

    // ---- theme ---------------------------------------------------------------------------------------

    void wordsCanBeReadOnTheirGround() {
        for (const Theme* t : {&lightTheme(), &darkTheme(), &lightContrastTheme(), &darkContrastTheme()}) {
            const QList<std::pair<QColor, QColor>> words{
                {t->text, t->paper},      {t->text, t->panel},        {t->text, t->plumLight},     {t->text, t->whatIf},
                {t->text, t->warning},    {t->muted, t->paper},       {t->muted, t->panel},        {t->muted, t->stage},
                {t->muted, t->plumLight}, {t->markerText, t->marker}, {t->markerText, t->waiting}, {t->onPlum, t->plum},
                {t->path, t->paper},      {t->path, t->panel},        {t->path, t->whatIf},        {t->plum, t->paper},
                {t->letter(), t->paper}};
            for (const auto& [word, ground] : words)
                QVERIFY2(contrastOf(word, ground) >= 4.5, qPrintable(word.name() + " on " + ground.name() + ": " +
                                                                     QString::number(contrastOf(word, ground))));
            const QList<std::pair<QColor, QColor>> shapes{{t->markerEdge, t->paper}, {t->handle, t->paper},
                                                          {t->handle, t->panel},     {t->waitingDots, t->waiting},
                                                          {t->plum, t->paper},       {t->plum, t->marker},
                                                          {t->plumMiddle, t->paper}, {t->near, t->paper},
                                                          {t->path, t->paper},       {t->markerEdge, t->marker}};
            for (const auto& [shape, ground] : shapes)
                QVERIFY2(contrastOf(shape, ground) >= 3, qPrintable(shape.name() + " on " + ground.name() + ": " +
                                                                    QString::number(contrastOf(shape, ground))));
            for (int tint = 1; tint <= Theme::kTints; ++tint)
                QVERIFY(contrastOf(wordsOn(t->tint(tint)), t->tint(tint)) >= 4.5);
            // Words on a marker of any strength of plum.
            for (double strength = 0.05; strength <= 1; strength += 0.05)
                QVERIFY(contrastOf(wordsOn(t->highlight(strength)), t->highlight(strength)) >= 4.5);
        }
        QCOMPARE(contrastOf(Qt::black, Qt::white), 21.0);
        QVERIFY(std::abs(contrastOf("#777777", "#ffffff") - 4.48) < 0.01);  // as WCAG's own tools say
        QVERIFY(smallFont().pixelSize() >= 11);
    }
};

QTEST_MAIN(PanelsTest)
#include "panels_test.moc"
