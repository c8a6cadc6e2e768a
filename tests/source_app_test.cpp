// SPDX-License-Identifier: GPL-3.0-or-later
//
// From a marker, a cause or a function to the source, in the real window: shown with the cost of its lines, and opened
// in an editor.
#include <QContextMenuEvent>
#include <QLineEdit>
#include <QMenu>
#include <QStatusBar>

#include "app/drawer/cores_page.h"
#include "app/drawer/source_page.h"
#include "app/drawer/stacks_page.h"
#include "app/settings/settings.h"
#include "app/source/source_dialog.h"
#include "app/theme/words.h"
#include "app/why/why_panel.h"
#include "testing/sampled_recording.h"
#include "window_test.h"

namespace fugato {

class SourceAppTest : public WindowTest {
    Q_OBJECT

    SourcePage& page() { return window_->drawer().page<SourcePage>(); }
    StacksPage& stacks() { return window_->drawer().page<StacksPage>(); }
    /// An editor that writes down with what it was started.
    QString editor() {
        const QString path =
            write("editor", QByteArray("#!/bin/sh\nprintf '%s\\n' \"$@\" > ") + folder_.filePath("opened").toUtf8() +
                                ".part\nmv " + folder_.filePath("opened").toUtf8() + ".part " +
                                folder_.filePath("opened").toUtf8() + "\n");
        QFile(path).setPermissions(QFile::ReadOwner | QFile::WriteOwner | QFile::ExeOwner);
        return path;
    }
    QStringList opened() {
        const QString path = folder_.filePath("opened");
        [&] { EVENTUALLY(QFile::exists(path)); }();
        QFile file(path);
        if (!file.open(QIODevice::ReadOnly)) return {};
        const QStringList lines = toQString(file.readAll().toStdString()).trimmed().split('\n');
        file.remove();
        return lines;
    }
    void openSampled() {
        open(write("sampled.jsonl", QByteArray::fromStdString(sampledFrames().text())));
        settle();
        QVERIFY(window_->document().symbols());
    }
    int64_t chosenLine() {
        const QModelIndex row = page().view().currentIndex();
        return row.isValid() ? int64_t{TableModel::rowOf(row)} + 1 : -1;
    }

private slots:
    void aMarkersSourceIsShown() {
        setSourceFolders({{{}, FUGATO_SOURCE_DIR}});
        openDemo();
        const MarkerRef marker = explanation().recording->innermostBefore(0, explanation().frame(100).end);
        selection().lookAtMarker(marker);
        settle();
        const SourcePlace place = selection().sourceOfMarker();
        QVERIFY(!place.file.empty() && place.line);
        key(Qt::Key_C);
        settle();
        QCOMPARE(window_->drawer().shown(), QString("source"));
        QCOMPARE(page().title(), toQString(place.file));
        QCOMPARE(chosenLine(), int64_t{place.line});
        const auto table = page().view().table();
        QVERIFY(table->value(place.line - 1, kSourceMarkers) != TableValue());
        const std::string name = explanation().recording->nameOf(explanation().recording->pathOf(marker));
        QVERIFY(std::get<std::string>(table->value(place.line - 1, kSourceText)).find(name) != std::string::npos);
        // What is looked at holds here, too.
        ScopeChoice whole;
        whole.of = ScopeChoice::Of::Whole;
        const TableValue before = table->value(place.line - 1, kSourceCalls);
        selection().chooseScope(whole);
        settle();
        QVERIFY(std::get<int64_t>(page().view().table()->value(place.line - 1, kSourceCalls)) >
                std::get<int64_t>(before));
        QCOMPARE(chosenLine(), int64_t{place.line});
    }

    void aCausesSourceIsAClickAway() {
        setSourceFolders({{{}, FUGATO_SOURCE_DIR}});
        openDemo();
        auto& why = *window_->findChild<WhyPanel*>();
        const auto& parts = why.parts().all();
        const auto source =
            std::find_if(parts.begin(), parts.end(), [](const PaintedPart& part) { return part.key == "source"; });
        QVERIFY(source != parts.end());
        QVERIFY(source->role == QAccessible::Link && source->act);
        source->act();
        settle();
        const SourcePlace place = why.placeOf(selection().cause());
        QCOMPARE(window_->drawer().shown(), QString("source"));
        QCOMPARE(chosenLine(), int64_t{place.line});
    }

    void theEditorIsStartedWithThePlace() {
        setSourceFolders({{{}, FUGATO_SOURCE_DIR}});
        settings::editorCommand().set(editor() + " --line {line} \"--at={file}:{line}:{column}\" {file}");
        openDemo();
        const SourcePlace place = window_->findChild<WhyPanel*>()->placeOf(selection().cause());
        key(Qt::Key_C, Qt::ShiftModifier);
        const QString path = QString(FUGATO_SOURCE_DIR) + "/" + toQString(place.file),
                      line = QString::number(place.line);
        QCOMPARE(opened(), (QStringList{"--line", line, "--at=" + path + ":" + line + ":1", path}));
        // From a line of the source: by Return.
        key(Qt::Key_C);
        settle();
        page().view().showRow(9);
        QTest::keyClick(&page().view(), Qt::Key_Return);
        QCOMPARE(opened().value(1), QString("10"));
        settings::editorCommand().set("/no/such/editor {file}");
        key(Qt::Key_C, Qt::ShiftModifier);
        settle();
        QVERIFY2(window_->notice().contains("could not be started"), qPrintable(window_->notice()));
    }

    void whatIsNotHereIsSaid() {
        openDemo();
        key(Qt::Key_C);
        settle();
        QVERIFY(!page().view().table());
        key(Qt::Key_C, Qt::ShiftModifier);
        settle();
        QVERIFY2(window_->notice().contains("is not found here"), qPrintable(window_->notice()));
    }

    void foldersAndEditorAreAskedFor() {
        openDemo();
        inDialog<SourceDialog>([&](SourceDialog& dialog) {
            QVERIFY(dialog.told().contains("is not found so"));
            dialog.command().setEditText("vessel {file} {line}");
            dialog.folders().insertRow(0);
            dialog.folders().setItem(0, 0, new QTableWidgetItem("/build"));
            dialog.folders().setItem(0, 1, new QTableWidgetItem(FUGATO_SOURCE_DIR));
            QVERIFY2(dialog.told().contains(QString(FUGATO_SOURCE_DIR) + "/"), qPrintable(dialog.told()));
            QTest::keyClick(dialog.command().lineEdit(), Qt::Key_Return);
        });
        for (QAction* action : window_->findChildren<QAction*>())
            if (action->text() == "Source and &editor…") action->trigger();
        QCOMPARE(sourceFolders(), (QList<SourceFolder>{{"/build", FUGATO_SOURCE_DIR}}));
        QCOMPARE(editorCommand(), QString("vessel {file} {line}"));
    }

    void pathsAreFoundHere() {
        const QString here = folder_.filePath("here");
        QDir().mkpath(here + "/demo/deep");
        write("here/demo/race.cpp", "int x;");
        write("here/demo/deep/{line}.cpp", "int y;");
        const QList<SourceFolder> none, any{{{}, here}}, mapped{{"/build/regatta", here}};
        QCOMPARE(placeOfSource(here + "/demo/race.cpp", none), here + "/demo/race.cpp");
        QCOMPARE(placeOfSource("demo/race.cpp", none), QString());
        QCOMPARE(placeOfSource("demo/race.cpp", any), here + "/demo/race.cpp");
        QCOMPARE(placeOfSource("/build/regatta/demo/race.cpp", any), here + "/demo/race.cpp");
        QCOMPARE(placeOfSource("/build/regatta/demo/race.cpp", mapped), here + "/demo/race.cpp");
        QCOMPARE(placeOfSource("/build/other/none.cpp", mapped), QString());
        QCOMPARE(placeOfSource("", any), QString());
        // What a path holds is not taken for a place to put something in.
        QCOMPARE(editorWords("edit +{line} {file}", "/a/{line} b.cpp", 7, 1),
                 (QStringList{"edit", "+7", "/a/{line} b.cpp"}));
        QCOMPARE(editorWords("edit", "/a.cpp", 0, 1), (QStringList{"edit", "/a.cpp"}));
        QVERIFY(editorWords("  ", "/a.cpp", 1, 1).isEmpty());
    }

    void stacksAreListedByLineAndAsTreesBothWays() {
        openSampled();
        QVERIFY(window_->drawer().show("stacks"));
        ScopeChoice whole;
        whole.of = ScopeChoice::Of::Whole;
        selection().chooseScope(whole);
        const auto listBy = [&](int by) {
            stacks().by().setCurrentIndex(by);
            emit stacks().by().activated(by);
            settle();
        };
        listBy(1);
        const auto lines = stacks().view().table();
        QVERIFY(std::get<std::string>(lines->value(0, kLineSource)).find(".cpp:") != std::string::npos);
        // A line leads to its source, here and in the editor.
        setSourceFolders({{{}, FUGATO_SOURCE_DIR}});
        stacks().view().showRow(0);
        QTest::keyClick(&stacks().view(), Qt::Key_Return);
        settle();
        QCOMPARE(window_->drawer().shown(), QString("source"));
        QVERIFY(page().view().table());
        QVERIFY(page().view().table()->value(static_cast<Table::Row>(chosenLine() - 1), kSourceSelf) != TableValue());
        QVERIFY(window_->drawer().show("stacks"));
        settle();
        listBy(3);  // who called it
        const auto callers = stacks().view().table();
        QVERIFY(callers->nested());
        FlameGraph& flames = stacks().flames();
        const auto rows = [&] {
            QSet<int> tops;
            for (const FlameGraph::Box& box : flames.boxes()) tops.insert(static_cast<int>(box.place.top()));
            return tops.size();
        };
        QVERIFY(rows() >= 3);
        QVERIFY(flames.wordsOf(flames.boxes().front().node).contains("of "));
        // From the graph to the row and back.
        const uint32_t node = flames.boxes().back().node;
        QTest::mouseClick(flames.viewport(), Qt::LeftButton, {}, flames.boxes().back().place.center().toPoint());
        QCOMPARE(TableModel::rowOf(stacks().view().currentIndex()), node - 1);
        emit stacks().view().rowChosen(flames.boxes().front().node - 1);
        QCOMPARE(flames.function() != kNone, true);
        // Letters are looked for in both.
        stacks().filter().setText("unpack");
        settle();
        QVERIFY2(stacks().about().contains("% found"), qPrintable(stacks().about()));
        const QImage lit = flames.viewport()->grab().toImage();
        stacks().filter().clear();
        settle();
        QVERIFY(flames.viewport()->grab().toImage() != lit);
        listBy(2);
        QVERIFY(stacks().view().currentIndex().isValid());  // the heaviest way down is open
    }

    void coresTellWhoRan() {
        open(write("cores.jsonl", QByteArray::fromStdString(blockedFrames(true).text())));
        settle();
        QVERIFY(window_->drawer().show("cores"));
        ScopeChoice whole;
        whole.of = ScopeChoice::Of::Whole;
        selection().chooseScope(whole);
        settle();
        auto& cores = window_->drawer().page<CoresPage>();
        const auto table = cores.view().table();
        QVERIFY(table && table->rowLimit() == 2);  // the program and its thread
        QCOMPARE(table->value(1, kCoreName), TableValue(std::string("main")));
        QVERIFY2(cores.figures().startsWith("On average "), qPrintable(cores.figures()));
        QVERIFY(std::get<int64_t>(table->value(1, kCoreRan)) > 0);
        // With room the plot is there; a bar leads to its time.
        key(Qt::Key_F4);
        settle();
        QVERIFY(cores.curve().isVisible());
        const auto& bars = cores.curve().contents().bars;
        QVERIFY(bars.size() > 100 && !bars[0].parts.empty() && bars[0].act);
        QVERIFY(bars[0].words.contains("cores busy from"));
        const int64_t before = selection().view().end - selection().view().begin;
        bars[0].act();
        QVERIFY(selection().view().end - selection().view().begin < before);
        key(Qt::Key_F4);
        // The demo tells it by its own scheduler; one that tells nothing of it says so.
        openDemo();
        QVERIFY(window_->drawer().show("cores"));
        settle();
        QVERIFY(cores.view().table() && cores.view().table()->rowLimit() > 6);
        open(write("none.jsonl",
                   "{\"fugato\":\"text\",\"version\":1}\n"
                   "{\"at\":0,\"lane\":\"render\",\"do\":\"begin\",\"site\":\"Draw\"}\n"
                   "{\"at\":9000,\"lane\":\"render\",\"do\":\"end\"}\n"));
        QVERIFY(window_->drawer().show("cores"));
        settle();
        QVERIFY(!cores.view().table());
    }

    void aRowLeadsToItsSourceByTheMenu() {
        setSourceFolders({{{}, FUGATO_SOURCE_DIR}});
        openDemo();
        QVERIFY(window_->drawer().show("markers"));
        settle();
        TableView& view = *window_->drawer().current().findChild<TableView*>();
        // The first row that is a marker.
        for (QModelIndex at = view.model()->index(0, 0); at.isValid(); at = view.indexBelow(at)) {
            view.setCurrentIndex(at);
            if (view.table()->place(TableModel::rowOf(at)).site != kNone ||
                view.table()->place(TableModel::rowOf(at)).marker.valid())
                break;
        }
        QTimer::singleShot(100, this, [&] {
            auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
            if (!menu) return;
            for (QAction* action : menu->actions())
                if (action->text().remove('&') == "Show its source") action->trigger();
            menu->close();
        });
        QContextMenuEvent asked(QContextMenuEvent::Keyboard, QPoint(5, 5), view.mapToGlobal(QPoint(5, 5)));
        QApplication::sendEvent(&view, &asked);
        settle();
        QCOMPARE(window_->drawer().shown(), QString("source"));
        QVERIFY(page().view().table());
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::SourceAppTest)
#include "source_app_test.moc"
