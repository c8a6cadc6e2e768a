// SPDX-License-Identifier: GPL-3.0-or-later
//
// The application without a pointer and without eyes: by keys alone, and as assistive programs meet it.
#include <QAccessible>
#include <QClipboard>
#include <QComboBox>
#include <QLineEdit>
#include <QMenuBar>
#include <QScrollBar>
#include <set>

#include "app/causes/causes_panel.h"
#include "app/drawer/drawer.h"
#include "app/drawer/marker_page.h"
#include "app/drawer/markers_page.h"
#include "app/drawer/search_page.h"
#include "app/lanes/lanes_view.h"
#include "app/lanes/marker_steps.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/words.h"
#include "app/verdict/verdict_bar.h"
#include "app/why/why_panel.h"
#include "core/ask/marker_statistics.h"
#include "testing/text_recording.h"
#include "window_test.h"

namespace fugato {

namespace {

/// Everything below an object, as assistive programs find it.
void collect(QAccessibleInterface* from, QList<QAccessibleInterface*>& all) {
    for (int i = 0; i < from->childCount(); ++i) {
        QAccessibleInterface* child = from->child(i);
        if (!child || !child->isValid()) continue;
        all << child;
        collect(child, all);
    }
}

QList<QAccessibleInterface*> below(QWidget* widget) {
    QList<QAccessibleInterface*> all;
    collect(QAccessible::queryAccessibleInterface(widget), all);
    return all;
}

QString nameOf(QAccessibleInterface* one) { return one->text(QAccessible::Name); }

QAccessibleInterface* named(const QList<QAccessibleInterface*>& all, const QString& begin) {
    for (QAccessibleInterface* one : all)
        if (nameOf(one).startsWith(begin)) return one;
    return nullptr;
}

void press(QAccessibleInterface* one) {
    QAccessibleActionInterface* action = one->actionInterface();
    if (action && !action->actionNames().isEmpty()) action->doAction(action->actionNames().front());
}

}  // namespace

class KeysAppTest : public WindowTest {
    Q_OBJECT

    QWidget* focus() { return QApplication::focusWidget(); }
    void type(Qt::Key which, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
        QTest::keyClick(focus(), which, modifiers);
    }

private slots:
    // ---- as assistive programs meet it --------------------------------------------------------------

    void everyCauseSpikeAndHolderIsFoundAndActs() {
        openDemo();
        const auto all = below(&window_->causes());
        for (const Cause& cause : explanation().causes) {
            QAccessibleInterface* one = named(all, toQString(cause.letter) + ": ");
            QVERIFY2(one, cause.letter.c_str());
            QCOMPARE(one->role(), QAccessible::ListItem);
            QVERIFY(nameOf(one).contains(toQString(causeTitle(explanation(), cause))));
            QCOMPARE(bool(one->state().selected), cause.letter == "A");
            QCOMPARE(one->actionInterface()->actionNames(), QStringList{QAccessibleActionInterface::pressAction()});
        }
        // Its spikes lie in the selected one; the parent of each is the cause.
        QAccessibleInterface* first = named(all, "A: ");
        QCOMPARE(first->childCount(), 7);  // six, and those that are not shown yet
        QVERIFY(nameOf(first->child(0)).startsWith("frame 7\u202f734, 28.1 ms"));
        QVERIFY(first->child(0)->parent() == first);
        press(first->child(1));
        QVERIFY(selection().frame() != 7734u);
        press(named(below(&window_->causes()), "C: "));
        QCOMPARE(explanation().causes[selection().cause()].letter, std::string("C"));
        QVERIFY(named(below(&window_->causes()), "C: ")->state().selected);
        // Where it says that it is.
        QAccessibleInterface* cause = named(below(&window_->causes()), "C: ");
        const QPoint middle = cause->rect().center();
        QAccessibleInterface* panel = QAccessible::queryAccessibleInterface(&window_->causes());
        QVERIFY(panel->childAt(middle.x(), middle.y()) == cause);
    }

    void everySentenceFigureAndSwitchIsFound() {
        openDemo();
        EVENTUALLY(window_->why().whatIfWords().startsWith("If this"));
        const auto all = below(&window_->why());
        QVERIFY(named(all, "Why frame 7\u202f734 took 28.1 ms"));
        QCOMPARE(named(all, "Why frame")->role(), QAccessible::Heading);
        for (const auto& spoken : window_->why().spoken()) {
            QAccessibleInterface* one = named(all, toQString(spoken.sentence.text));
            QVERIFY2(one, spoken.sentence.text.c_str());
            QCOMPARE(one->role() == QAccessible::Link, spoken.sentence.lane != kNone);
        }
        QVERIFY(named(all, "Scene ▸ Spray: +16.2 ms"));
        QVERIFY(named(all, "If this took its usual time, "));
        QVERIFY(named(all, "demo/regatta.cpp:"));
        QAccessibleInterface* trial = named(all, "Simulate usual time");
        QVERIFY(trial && trial->role() == QAccessible::Button && trial->state().checkable && !trial->state().checked);
        QCOMPARE(trial->actionInterface()->actionNames(), QStringList{QAccessibleActionInterface::toggleAction()});
        press(trial);
        QCOMPARE(window_->document().trials().repairs().size(), size_t{1});
        QVERIFY(named(below(&window_->why()), "Simulate usual time")->state().checked);
        // A sentence leads to its place.
        selection().showWhole();
        press(named(below(&window_->why()), "Scene ▸ Spray on GPU graphics took"));
        QVERIFY(selection().view().end - selection().view().begin < 100'000'000);
    }

    void everyLaneAndMarkerInViewIsFound() {
        openDemo();
        (void)window_->lanes().grab();
        const auto all = below(&window_->lanes());
        for (const uint32_t lane : window_->lanes().picture().lanesFromTop())
            QVERIFY(named(all, toQString(explanation().recording->lanes[lane].name)));
        const auto drawn = window_->lanes().picture().drawnAlone();
        QVERIFY(drawn.size() > 20);
        size_t markers = 0;
        for (QAccessibleInterface* one : all) markers += one->role() == QAccessible::ListItem;
        QCOMPARE(markers, drawn.size());
        QAccessibleInterface* spray = named(all, "Spray, 21.1 ms on GPU graphics, begins at ");
        QVERIFY(spray && !spray->state().selected);
        QVERIFY(nameOf(spray->parent()) == "GPU graphics");
        press(spray);
        QVERIFY(selection().marker().valid());
        QVERIFY(named(below(&window_->lanes()), "Spray, 21.1 ms")->state().selected);
    }

    void partsOfAnotherRecordingAreItsOwn() {
        // Asked as soon as there is another recording, before anything of it is painted.
        openDemo();
        (void)window_->lanes().grab();
        selection().chooseMarker(window_->lanes().picture().drawnAlone().back());
        QStringList names;
        connect(&window_->document(), &Document::recordingChanged, this, [&] {
            for (const PaintedPart& part : window_->lanes().parts().all()) names << part.name;
        });
        TextRecording t;
        t.frame(0, "main").mark(10, 8000, "main", "Alone").frameEnd(9000, "main");
        open(write("another.jsonl", QByteArray::fromStdString(t.text())));
        disconnect(&window_->document(), nullptr, this, nullptr);
        QCOMPARE(names, QStringList{"main"});  // its markers are not drawn yet
        (void)window_->lanes().grab();
        QVERIFY(named(below(&window_->lanes()), "Alone, 8.0 ms on main"));
    }

    void everySpikeAndStageOfTheStripIsFound() {
        openDemo();
        const auto all = below(&window_->strip());
        size_t spikes = 0;
        for (QAccessibleInterface* one : all) spikes += nameOf(one).startsWith("spike at frame ");
        QCOMPARE(spikes, explanation().spikes.size());
        QVERIFY(named(all, "Frame 7\u202f734 · 28.1 ms"));
        QVERIFY(named(all, "stage Harbour, from "));
        press(all.back());
        QCOMPARE(selection().frame(), explanation().worstFrameOf(explanation().spikes.back()));
    }

    void whatCanHaveTheKeyboardHasAName() {
        openDemo();
        for (QAccessibleInterface* one : below(window_.get())) {
            const auto state = one->state();
            if (!state.focusable || state.invisible || state.disabled) continue;
            const QString what = one->object() ? one->object()->metaObject()->className() : "part";
            // A row or a cell says what stands in it, which may be nothing; headers of columns without a name too.
            if (one->role() == QAccessible::Cell || one->role() == QAccessible::TreeItem ||
                one->role() == QAccessible::ColumnHeader)
                continue;
            QVERIFY2(!nameOf(one).isEmpty(), qPrintable(what));
        }
    }

    void everyMenuEntryHasAMnemonic() {
        const auto look = [](const QMenu* menu, const auto& self) -> void {
            std::set<QChar> taken;
            for (const QAction* action : menu->actions()) {
                if (action->isSeparator() || action->text().isEmpty()) continue;
                const QString text = QString(action->text()).replace("&&", "");
                const qsizetype at = text.indexOf('&');
                QVERIFY2(at >= 0, qPrintable(menu->title() + " ▸ " + action->text()));
                QVERIFY2(taken.insert(text[at + 1].toLower()).second,
                         qPrintable(menu->title() + " ▸ " + action->text() + ": another entry has the same letter"));
                if (action->menu() && action->menu()->title() != tr("Open &recent")) self(action->menu(), self);
            }
        };
        for (const QAction* action : window_->menuBar()->actions())
            if (action->menu()) look(action->menu(), look);
    }

    // ---- by keys alone -----------------------------------------------------------------------------

    void tabGoesThroughEveryFieldAndPanel() {
        openDemo();
        QVERIFY(window_->lanes().hasFocus());  // from the start
        std::set<QWidget*> met;
        for (int i = 0; i < 40; ++i) {
            met.insert(focus());
            type(Qt::Key_Tab);
        }
        for (QWidget* wanted : QList<QWidget*>{&window_->verdict().budget(), &window_->verdict().find(),
                                               &window_->strip(), &window_->causes(), &window_->lanes(),
                                               &window_->why(), &window_->drawer().page<MarkersPage>().view(),
                                               &window_->drawer().page<MarkersPage>().filter()})
            QVERIFY2(met.count(wanted), qPrintable(wanted->accessibleName()));
        window_->lanes().setFocus();
        type(Qt::Key_F6);
        QVERIFY(window_->drawer().page<MarkersPage>().view().hasFocus());
        type(Qt::Key_F6);
        QVERIFY(window_->why().hasFocus());
        type(Qt::Key_F6, Qt::ShiftModifier);
        type(Qt::Key_F6, Qt::ShiftModifier);
        QVERIFY(window_->lanes().hasFocus());
    }

    void lettersAreTypedInFieldsAndActInPictures() {
        openDemo();
        const uint32_t frame = selection().frame();
        window_->lanes().setFocus();
        type(Qt::Key_B);
        QLineEdit& budget = window_->verdict().budget();
        QVERIFY(budget.hasFocus());
        QTest::keyClicks(focus(), "n8");
        QCOMPARE(budget.text(), QString("n8"));
        QCOMPARE(selection().frame(), frame);
        // Not a budget: the field keeps the keyboard and what was typed. Escape leaves it as it was.
        type(Qt::Key_Return);
        QVERIFY(budget.hasFocus() && budget.text() == "n8");
        type(Qt::Key_Escape);
        QVERIFY(window_->lanes().hasFocus());
        QVERIFY(budget.text().startsWith("16.67 ms"));
        // Nor in a table, where letters look for a row, and Home goes to the first.
        const View view = selection().view();
        window_->drawer().page<MarkersPage>().view().setFocus();
        for (const Qt::Key letter : {Qt::Key_N, Qt::Key_P, Qt::Key_Home, Qt::Key_PageDown, Qt::Key_R}) type(letter);
        QCOMPARE(selection().view(), view);
        QVERIFY(window_->document().trials().repairs().empty());
        type(Qt::Key_Escape);
        QVERIFY(window_->lanes().hasFocus());
        type(Qt::Key_P);
        QVERIFY(selection().frame() < frame);
        // A budget that is one gives the keyboard back.
        type(Qt::Key_B);
        QTest::keyClicks(focus(), "10");
        type(Qt::Key_Return);
        QVERIFY(window_->lanes().hasFocus());
        EVENTUALLY_EQUAL(explanation().budget, int64_t{10'000'000});
        settle();
        // Going to a frame, and searching, too.
        type(Qt::Key_F, Qt::ControlModifier);
        QTest::keyClicks(focus(), "4104");
        type(Qt::Key_Return);
        QCOMPARE(selection().frame(), 4104u);
        QVERIFY(window_->lanes().hasFocus());
        type(Qt::Key_F, Qt::ControlModifier);
        QTest::keyClicks(focus(), "spray");
        type(Qt::Key_Return);
        QVERIFY(window_->lanes().hasFocus());
        QCOMPARE(window_->drawer().shown(), QString("search"));
    }

    void theWindowIsClosedWithAFieldHalfTyped() {
        openDemo();
        for (const char* typed : {"12.", "12 ms", "no budget"}) {
            window_->verdict().budget().setFocus();
            window_->verdict().budget().selectAll();
            QTest::keyClicks(&window_->verdict().budget(), typed);
            window_ = std::make_unique<MainWindow>();
            window_->show();
            QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
            openDemo();
        }
    }

    void arrowsGoFromMarkerToMarker() {
        openDemo();
        const Recording& r = *explanation().recording;
        const auto name = [&] { return r.nameOf(r.pathOf(selection().marker())); };
        window_->lanes().setFocus();
        type(Qt::Key_Down);  // the first in sight
        QCOMPARE(name(), std::string("Race frame"));
        QCOMPARE(r.lanes[selection().marker().lane].name, std::string("main"));
        type(Qt::Key_Down);
        QCOMPARE(name(), std::string("Read input"));
        type(Qt::Key_Right);
        QCOMPARE(name(), std::string("Simulate"));
        type(Qt::Key_Left);
        QCOMPARE(name(), std::string("Read input"));
        type(Qt::Key_Up);
        QCOMPARE(name(), std::string("Race frame"));
        // Down to the bottom of a lane and on to the next.
        const uint32_t lane = selection().marker().lane;
        for (int i = 0; i < 30 && selection().marker().lane == lane; ++i) type(Qt::Key_Down);
        QCOMPARE(r.lanes[selection().marker().lane].name, std::string("render"));
        type(Qt::Key_Up);
        QCOMPARE(selection().marker().lane, lane);
        // Copied as it is told; filling the view.
        type(Qt::Key_C, Qt::ControlModifier);
        QVERIFY2(QApplication::clipboard()->text().startsWith("Race frame, 28.1 ms on main, begins at "),
                 qPrintable(QApplication::clipboard()->text()));
        type(Qt::Key_Down);
        type(Qt::Key_Return);
        const MarkerRow& row = r.lanes[lane].rows[1];
        QVERIFY(selection().view().end - selection().view().begin < 2 * row.duration(selection().marker().index));
        // To where no more are.
        selection().showWhole();
        selection().chooseMarker({lane, 0, 0});
        type(Qt::Key_Left);
        QCOMPARE(selection().marker().index, 0u);
    }

    void causesSentencesAndSwitchesGoByArrowsAndEnter() {
        openDemo();
        window_->causes().setFocus(Qt::TabFocusReason);
        QVERIFY(window_->causes().parts().current()->name.startsWith("A: "));
        type(Qt::Key_Down);  // its first spike, which is the selected frame already
        QVERIFY(window_->causes().parts().current()->name.startsWith("frame 7\u202f734"));
        type(Qt::Key_Down);
        QCOMPARE(selection().frame(), 4104u);
        for (int i = 0; i < 5; ++i) type(Qt::Key_Down);
        QCOMPARE(window_->causes().parts().current()->name, QString("4 more spikes"));
        const size_t rows = window_->causes().rows().size();
        type(Qt::Key_Return);
        QCOMPARE(window_->causes().rows().size(), rows + 3);
        for (int i = 0; i < 30 && selection().cause() == 0; ++i) type(Qt::Key_Down);
        QCOMPARE(selection().cause(), 1u);
        selection().chooseCause(0);
        settle();
        EVENTUALLY(window_->why().whatIfWords().startsWith("If this"));
        window_->why().setFocus(Qt::TabFocusReason);
        const auto goTo = [&](const QString& begin) {
            for (int i = 0; i < 40 && !window_->why().parts().current()->name.startsWith(begin); ++i)
                type(Qt::Key_Down);
            return window_->why().parts().current()->name.startsWith(begin);
        };
        QVERIFY(goTo("Scene ▸ Spray on GPU"));
        type(Qt::Key_C, Qt::ControlModifier);
        QVERIFY(QApplication::clipboard()->text().startsWith("Scene ▸ Spray on GPU graphics took 16.2 ms longer"));
        selection().showWhole();
        type(Qt::Key_Return);
        QVERIFY(selection().view().end - selection().view().begin < 100'000'000);
        QVERIFY(goTo("Simulate usual time"));
        type(Qt::Key_Return);
        QCOMPARE(window_->document().trials().repairs(), (std::vector<Repair>{{0, false}}));
        type(Qt::Key_Return);
        QVERIFY(window_->document().trials().repairs().empty());
        // The part with the keyboard is in sight, with a frame around it.
        const PaintedPart& part = *window_->why().parts().current();
        QVERIFY(window_->why()
                    .viewport()
                    ->rect()
                    .translated(0, window_->why().verticalScrollBar()->value())
                    .contains(part.box));
        const QImage with = window_->why().grab().toImage();
        window_->lanes().setFocus();
        QVERIFY(window_->why().grab().toImage() != with);
    }

    void theStripStepsFramesAndSpikes() {
        openDemo();
        window_->strip().setFocus(Qt::TabFocusReason);
        const uint32_t frame = selection().frame();
        type(Qt::Key_Right);
        QCOMPARE(selection().frame(), frame + 1);
        type(Qt::Key_Left);
        type(Qt::Key_Left);
        QCOMPARE(selection().frame(), frame - 1);
        type(Qt::Key_N);
        QVERIFY(selection().frame() > frame - 1);
        type(Qt::Key_C, Qt::ControlModifier);
        QVERIFY(QApplication::clipboard()->text().startsWith("Frame "));
    }

    // ---- what is selected is seen -------------------------------------------------------------------

    void occurrencesAreSteppedThroughWhereverTheyLie() {
        // "Needle" lies on the last of thirty lanes, and once in the first; the lanes of the blue line are far apart.
        TextRecording t;
        for (int f = 0; f < 12; ++f) {
            const double at = f * 20'000.0, work = f == 9 ? 19'000 : 8000;
            t.frame(at, "main").begin(at, "main", "Frame");
            if (f == 5) t.mark(at + 100, at + 400, "main", "Needle");
            for (int w = 0; w < 30; ++w) {
                const std::string lane = "worker " + std::to_string(w);
                t.begin(at + 200, lane, "Job").begin(at + 210, lane, "Part");
                if (w == 29 && f % 4 == 2) t.mark(at + 300, at + 900, lane, "Needle");
                t.end(at + 2000, lane).end(at + 2100, lane);
            }
            t.end(at + work, "main").frameEnd(at + work, "main");
        }
        open(write("needles.jsonl", QByteArray::fromStdString(t.text())));
        const Recording& r = *window_->document().recording();
        LanesView& lanes = window_->lanes();
        const uint32_t last = laneNamed(r, "worker 29"), first = laneNamed(r, "main");
        QVERIFY(!lanes.viewport()->rect().contains(
            lanes.picture().laneRect(lanes.viewport()->rect(), lanes.scrolled(), last).center()));
        lanes.setFocus();
        type(Qt::Key_F3);
        QVERIFY(window_->statusBar()->currentMessage().contains("Select a marker first"));
        window_->findMarker("Needle");
        settle();
        selection().showWhole();
        // In the order of time: frames 2 (worker 29), 5 (main), 6, 10; and no further.
        const auto seen = [&](uint32_t lane, uint32_t frame) {
            settle();
            const MarkerRef& marker = selection().marker();
            if (!marker.valid() || marker.lane != lane) return false;
            const QRect box = lanes.picture().markerRect(lanes.viewport()->rect(), lanes.scrolled(), marker);
            return selection().frame() == frame && box.height() == LanePicture::kRowHeight - 1 &&
                   lanes.picture().axisOf(lanes.viewport()->rect()).intersects(box) && !lanes.picture().slim(lane) &&
                   box.bottom() <= lanes.viewport()->height();
        };
        lanes.setFocus();
        for (const auto& [lane, frame] :
             std::initializer_list<std::pair<uint32_t, uint32_t>>{{last, 2}, {first, 5}, {last, 6}, {last, 10}}) {
            type(Qt::Key_F3);
            EVENTUALLY_ELSE_SAY(seen(lane, frame), qPrintable(QString("frame %1").arg(frame)));
        }
        type(Qt::Key_F3);
        EVENTUALLY_EQUAL(window_->statusBar()->currentMessage(), QString("That was the last one."));
        type(Qt::Key_F3, Qt::ShiftModifier);
        EVENTUALLY(seen(last, 6));
        // A marker selected in the lanes outside the selected frame: the status line says so.
        const auto row = &r.lanes[first].rows[0];
        selection().chooseMarker({first, 0, row->size() - 1});
        QVERIFY2(window_->statusText().contains("in frame 11; frame 6 is the selected one"),
                 qPrintable(window_->statusText()));
    }

    void aRowOfATableIsSelectedWithoutLeavingIt() {
        openDemo();
        MarkersPage& page = window_->drawer().page<MarkersPage>();
        settle();
        TableView& view = page.view();
        const QModelIndex index = view.currentIndex();
        QVERIFY(index.isValid());
        view.scrollTo(index);
        QTest::mouseClick(view.viewport(), Qt::LeftButton, {}, view.visualRect(index).center());
        QCOMPARE(window_->drawer().shown(), QString("markers"));
        QVERIFY(selection().site() != kNone);
        // Away and back: the same row.
        const QString words = index.data().toString();
        window_->drawer().show("marker");
        window_->drawer().show("markers");
        settle();
        QCOMPARE(view.currentIndex().data().toString(), words);
    }

    void anotherSeriesShowsItsFrameAtThatTime() {
        openDemo();
        selection().chooseFrame(4104);
        const Frame before = explanation().frame(4104);
        auto* series = window_->verdict().findChild<QComboBox*>();
        QVERIFY(series->isVisible() && series->count() > 1);
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        series->setFocus();
        type(Qt::Key_Down);
        QVERIFY(explained.wait(kPatience));
        settle();
        const Frame now = explanation().frame(selection().frame());
        QVERIFY(now.begin < before.end && now.end > before.begin);
        QCOMPARE(series->currentData().toUInt(), explanation().series);
    }

    void labelsOfLanesCanBeMadeWider() {
        openDemo();
        LanesView& lanes = window_->lanes();
        const int before = lanes.picture().labelWidth();
        QTest::mousePress(lanes.viewport(), Qt::LeftButton, {}, QPoint(before, 120));
        QTest::mouseMove(lanes.viewport(), QPoint(before + 80, 122));
        QTest::mouseRelease(lanes.viewport(), Qt::LeftButton, {}, QPoint(before + 80, 122));
        QCOMPARE(lanes.picture().labelWidth(), before + 80);
        MainWindow another;  // it is remembered
        QCOMPARE(another.lanes().picture().labelWidth(), before + 80);
    }

    void lanesKeepNoRowsForWhatIsNotInView() {
        TextRecording t;
        for (int depth = 0; depth < 8; ++depth) t.begin(1000 + depth, "main", "Deep");
        for (int depth = 0; depth < 8; ++depth) t.end(2000 + depth, "main");
        for (int i = 0; i < 20; ++i) t.mark(5000 + i * 1000, 5500 + i * 1000, "main", "Flat");
        t.mark(0, 30'000, "other", "Long");
        open(write("depth.jsonl", QByteArray::fromStdString(t.text())));
        LanesView& lanes = window_->lanes();
        const uint32_t main = laneNamed(*window_->document().recording(), "main");
        const auto height = [&] { return lanes.picture().laneRect(lanes.viewport()->rect(), 0, main).height(); };
        const int deep = height();
        selection().showSpan(5'000'000, 9'000'000);
        QCOMPARE(height(), deep - 7 * LanePicture::kRowHeight);
        selection().showSpan(0, 9'000'000);
        QCOMPARE(height(), deep);
        // While the hand drags them they keep still; then they close up.
        selection().showSpan(1'000'000, 5'000'000);
        const QPoint from(600, LanePicture::kHeaderHeight + 20);
        QTest::mousePress(lanes.viewport(), Qt::LeftButton, {}, from);
        QTest::mouseMove(lanes.viewport(), from - QPoint(300, 0));
        QVERIFY(selection().view().begin > 2'100'000);
        QCOMPARE(height(), deep);
        (void)lanes.grab();  // nor does painting
        QCOMPARE(height(), deep);
        QTest::mouseRelease(lanes.viewport(), Qt::LeftButton, {}, from - QPoint(300, 0));
        QCOMPARE(height(), deep - 7 * LanePicture::kRowHeight);
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::KeysAppTest)
#include "keys_app_test.moc"
