// SPDX-License-Identifier: GPL-3.0-or-later
//
// The causes of programs nobody prepared, as a person sees them in the real window: who had the cores, what is too
// small for a row of its own.
#include <QHelpEvent>
#include <QToolTip>

#include "app/causes/causes_panel.h"
#include "app/settings/settings.h"
#include "core/explain/words/sentences.h"
#include "testing/explaining.h"
#include "window_test.h"

using namespace fugato;

class CausesAppTest : public WindowTest {
    Q_OBJECT

    CausesPanel& panel() { return *window_->findChild<CausesPanel*>(); }
    const CausesPanel::Row* rowOf(uint32_t cause, uint32_t part) {
        for (const auto& row : panel().rows())
            if (row.cause == cause && row.part == part && row.spike == kNone) return &row;
        return nullptr;
    }

private slots:
    void contentionUnfoldsByProgram() {
        open(write("contended.jsonl", QByteArray::fromStdString(contendedFrames().text())));
        settle();
        QCOMPARE(explanation().causes.size(), size_t{2});
        // The costliest is chosen: who had the cores stands below it, then its spikes.
        QCOMPARE(selection().cause(), 0u);
        QVERIFY(rowOf(0, 0) && rowOf(0, 1) && rowOf(0, 2) && !rowOf(0, 3));
        QVERIFY(rowOf(0, 2)->box.top() > rowOf(0, 0)->box.top());
        // In full under the pointer.
        const QPoint at = rowOf(0, kNone)->box.center();
        QHelpEvent help(QEvent::ToolTip, at, panel().viewport()->mapToGlobal(at));
        QApplication::sendEvent(panel().viewport(), &help);
        EVENTUALLY_EQUAL(QToolTip::text(),
                         QString("CPU contention by other programs\nfind, updater and kworker ran, main "
                                 "waited\nfind: 6.5 ms late\nupdater: 2.5 ms late\nkworker: 1.0 ms late"));
        QTest::mouseClick(panel().viewport(), Qt::LeftButton, {}, rowOf(1, kNone)->box.center());
        QCOMPARE(selection().cause(), 1u);
        QVERIFY(rowOf(1, 0) && !rowOf(1, 1) && !rowOf(0, 0));
        QCOMPARE(selection().frame(), 26u);
    }

    void threadsWithoutMarkersAreOneLaneThatOpens() {
        TextRecording t = contendedFrames();
        t.line(R"({"define":"context","key":"process","value":"77"})");  // whose thread 200 is "updater"
        t.line(R"({"define":"os_thread","id":201,"process":77,"name":"helper"})");
        t.at(1'700'000, "core 0", onCore(201)).at(1'701'000, "core 0", onCore(100));
        open(write("unmarked.jsonl", QByteArray::fromStdString(t.text())));
        settle();
        LanesView& lanes = window_->lanes();
        const Recording& r = *window_->document().recording();
        const uint32_t helper = laneNamed(r, "helper"), updater = laneNamed(r, "updater");
        QVERIFY(helper != kNone && updater != kNone);
        const LanePicture& picture = lanes.picture();
        const uint32_t one = picture.standsFor(updater) == 2 ? updater : helper;
        QCOMPARE(picture.standsFor(one), size_t{2});
        const auto click = [&] {
            const QRect box = picture.laneRect(lanes.viewport()->rect(), lanes.scrolled(), one);
            QTest::mouseClick(lanes.viewport(), Qt::LeftButton, {}, box.center());
        };
        click();
        QCOMPARE(picture.standsFor(helper), size_t{1});
        QCOMPARE(picture.standsFor(updater), size_t{1});
        click();
        QCOMPARE(picture.standsFor(one), size_t{2});
    }

    void otherProgramsHaveTracksWhenAskedFor() {
        open(write("contended.jsonl", QByteArray::fromStdString(contendedFrames().text())));
        LanesView& lanes = window_->lanes();
        const auto programs = [&] {
            QStringList names;
            for (const TrackPicture::Track& track : lanes.picture().tracks().tracks())
                if (track.kind == TrackPicture::Kind::Program) names << track.name + ", " + track.detail;
            return names;
        };
        QVERIFY(programs().isEmpty());
        const int before = lanes.picture().height();
        key(Qt::Key_O);
        // find had the core for 2, 4 and 3 ms, updater for 3, kworker for 2; hauler is the program's own.
        const QStringList all{"find, ran 9.0 ms", "updater, ran 3.0 ms", "kworker, ran 2.0 ms"};
        EVENTUALLY_EQUAL(programs(), all);
        QVERIFY(lanes.picture().height() > before);
        QVERIFY(settings::otherPrograms().get());
        // Frame 24: find from 2 to 5 ms after its begin, then updater.
        selection().chooseFrame(24);
        selection().showFrame();
        settle();
        const QRect area = lanes.viewport()->rect();
        const int64_t begin = explanation().frame(24).begin;
        const auto wordsAt = [&](size_t track, int64_t ms) {
            const QRect box = lanes.picture().trackRect(area, lanes.scrolled(), track);
            const int x = static_cast<int>(lanes.picture().xAt(area, begin + ms * 1'000'000));
            return lanes.picture().wordsAt(area, lanes.scrolled(), {x, box.center().y()});
        };
        QCOMPARE(wordsAt(0, 3),
                 QString("<b>find</b>, another program: ran 9.0 ms in all<br>had a core for 3.0 ms here"));
        QCOMPARE(wordsAt(0, 6), QString("<b>find</b>, another program: ran 9.0 ms in all"));
        QCOMPARE(wordsAt(1, 6),
                 QString("<b>updater</b>, another program: ran 3.0 ms in all<br>had a core for 3.0 ms here"));
        const QImage shown = lanes.grab().toImage();
        key(Qt::Key_O);
        QVERIFY(programs().isEmpty());
        QCOMPARE(lanes.picture().height(), before);
        QVERIFY(lanes.grab().toImage() != shown);
        // Where the system did not tell, it can't be asked for.
        TextRecording none;
        usualFrames(none, 3);
        open(write("none.jsonl", QByteArray::fromStdString(none.text())));
        int found = 0;
        for (QAction* action : window_->findChildren<QAction*>()) {
            if (action->text() != "Other &programs on the cores") continue;
            QVERIFY(!action->isEnabled());
            ++found;
        }
        QCOMPARE(found, 1);
    }

    void smallCausesShareARowThatOpens() {
        TextRecording t;
        double at = usualFrames(t, 30);
        for (const auto& [site, ms] : {std::pair("Load", 400.0), {"Flush", 2.5}, {"Sort", 2.2}}) {
            t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 7000, "main", "Work");
            t.mark(at + 7000, at + 7000 + ms * 1000, "main", site).end(at + 8000 + ms * 1000, "main");
            t.frameEnd(at + 8000 + ms * 1000, "main");
            at += 500'000;
        }
        open(write("small.jsonl", QByteArray::fromStdString(t.text())));
        settle();
        QCOMPARE(explanation().causes.size(), size_t{3});
        const auto causes = [&] {
            return std::count_if(panel().rows().begin(), panel().rows().end(), [](const CausesPanel::Row& row) {
                return row.cause != kNone && row.spike == kNone && row.part == kNone && !row.more;
            });
        };
        QCOMPARE(causes(), 1);
        const auto smaller = panel().rows().back();
        QVERIFY(smaller.cause == kNone && smaller.more);
        QCOMPARE(smallerCausesText(explanation()), std::string("2 smaller causes: 700 µs late in all"));
        QTest::mouseClick(panel().viewport(), Qt::LeftButton, {}, smaller.box.center());
        QCOMPARE(causes(), 3);
    }

    void aPartIsExplainedAlone() {
        open(write("contended.jsonl", QByteArray::fromStdString(contendedFrames().text())));
        settle();
        QCOMPARE(explanation().late.size(), size_t{5});
        const auto explainAlone = [&](Qt::Key which, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
            QSignalSpy explained(&window_->document(), &Document::explanationChanged);
            key(which, modifiers);
            QVERIFY(explained.wait(kPatience));
            settle();
        };
        selection().selectRange(TimeRange{explanation().frame(24).begin, explanation().frame(27).begin});
        explainAlone(Qt::Key_E);
        QCOMPARE(explanation().late, (std::vector<uint32_t>{24, 26}));
        QVERIFY(selection().frame() == 24 || selection().frame() == 26);
        QVERIFY(toldInVerdict("only from 960 ms to 1.08 s · mostly bound by CPU work on main"));
        // A narrower budget keeps to it.
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        window_->document().setBudget(7'000'000);
        QVERIFY(explained.wait(kPatience));
        QCOMPARE(explanation().late, (std::vector<uint32_t>{24, 25, 26}));
        explainAlone(Qt::Key_E, Qt::ShiftModifier);
        QCOMPARE(explanation().late.size(), size_t{40});
    }

    void aStageIsExplainedAloneFromTheMenu() {
        TextRecording t;
        for (int f = 0; f < 80; ++f) {
            const double at = f * 20'000.0, more = f == 35 || f == 75 ? 6000 : 0;
            if (f == 0) t.at(at, "main", R"("do":"state","state":"stage","value":"Harbour")");
            if (f == 40) t.at(at, "main", R"("do":"state","state":"stage","value":"Race")");
            t.frame(at, "main").begin(at, "main", "Work").argument(at, "main", "boats", std::to_string(more ? 40 : 8));
            t.end(at + 7000 + more, "main").frameEnd(at + 8000 + more, "main");
        }
        open(write("stages.jsonl", QByteArray::fromStdString(t.text())));
        settle();
        // What goes with the cause is told under the pointer.
        const QPoint at = rowOf(0, kNone)->box.center();
        QHelpEvent help(QEvent::ToolTip, at, panel().viewport()->mapToGlobal(at));
        QApplication::sendEvent(panel().viewport(), &help);
        EVENTUALLY(QToolTip::text().contains("with boats = 40, usually 8"));

        QMenu* stages = nullptr;
        for (QMenu* menu : window_->findChildren<QMenu*>())
            if (menu->title() == "Explain one &stage alone") stages = menu;
        QVERIFY(stages);
        emit stages->aboutToShow();
        QCOMPARE(stages->actions().size(), 2);
        QCOMPARE(stages->actions()[1]->text(), QString("Race"));
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        stages->actions()[1]->trigger();
        QVERIFY(explained.wait(kPatience));
        settle();
        QCOMPARE(explanation().late, std::vector<uint32_t>{75});
        QVERIFY(toldInVerdict("only stage Race · mostly bound by CPU work on main"));
    }
};

QTEST_MAIN(CausesAppTest)
#include "causes_app_test.moc"
