// SPDX-License-Identifier: GPL-3.0-or-later
//
// The menus of the window, with every key, and the page that lists the keys.
#include <QActionGroup>
#include <QApplication>
#include <QClipboard>
#include <QDialog>
#include <QGridLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMenuBar>
#include <QScreen>
#include <QScrollArea>
#include <QScrollBar>
#include <QStatusBar>
#include <QVBoxLayout>

#include "app/causes/causes_panel.h"
#include "app/drawer/drawer.h"
#include "app/drawer/events_page.h"
#include "app/drawer/page_windows.h"
#include "app/lanes/lanes_view.h"
#include "app/record/device_dialog.h"
#include "app/record/presets_dialog.h"
#include "app/record/session_bar.h"
#include "app/scope/scope_bar.h"
#include "app/settings/settings.h"
#include "app/start/start_page.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "app/verdict/verdict_bar.h"
#include "app/why/why_panel.h"
#include "main_window.h"

namespace fugato {

void MainWindow::makeRecordMenu() {
    QMenu* record = menuBar()->addMenu(tr("&Record"));
    commands_.add(record, tr("&Start a program…"), {QKeySequence(Qt::CTRL | Qt::Key_R)},
                  tr("start a program and record it"), [this] { askForProgram(); });
    QAction* again =
        commands_.add(record, tr("Start &again as before"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_R)},
                      tr("start the program again that was started last, with the same settings"), [this] {
                          if (const auto before = StartForm::before()) startProgram(*before);
                      });
    commands_.add(record, tr("&Join a running program…"), {QKeySequence(Qt::CTRL | Qt::Key_J)},
                  tr("record a program that runs already"), [this] { askToJoin({}); });
    commands_.add(record, tr("&Connect to a device…"), {}, tr("list and record the programs of another device"),
                  [this] { DeviceDialog(device_, this).exec(); });
    commands_.add(record, tr("&What to collect…"), {},
                  tr("look at and change the presets of what is collected, with what each costs here"), [this] {
                      PresetsDialog(this).exec();
                      start_->form().takePresets();
                  });
    connect(&device_, &DeviceLink::said, this, &MainWindow::showNotice);
    record->addSeparator();
    QAction* end = commands_.add(record, tr("&End the program"), {QKeySequence(Qt::CTRL | Qt::Key_E)},
                                 tr("end the program that was started here, or leave the one that was joined"),
                                 [this] { session_.end(); });
    QAction* save =
        commands_.add(record, tr("Save the &last seconds"), {QKeySequence(Qt::CTRL | Qt::Key_M)},
                      tr("save the last seconds, where only moments are kept"), [this] { session_.saveMoment(); });
    const auto enable = [this, again, end, save] {
        again->setEnabled(StartForm::before().has_value());
        end->setEnabled(session_.runs());
        end->setText(session_.joined() ? tr("L&eave the program running") : tr("&End the program"));
        save->setEnabled(session_.runs() && session_.keepsMoments());
    };
    connect(record, &QMenu::aboutToShow, this, enable);
    connect(&session_, &RecordingSession::changed, this, enable);
    enable();
    connect(start_, &StartPage::programWanted, this, &MainWindow::startProgram);
    connect(start_, &StartPage::joinWanted, this, &MainWindow::askToJoin);
    connect(&session_, &RecordingSession::appeared, this, [this](const QString& path) {
        followed_ = path;
        open(path);
    });
    connect(&session_, &RecordingSession::said, this, &MainWindow::showNotice);
    connect(&session_, &RecordingSession::changed, this, [this] {
        if (!session_.runs() && start_->isVisible()) {
            showStatus();
            start_->fill();
        }
    });
    connect(sessionBar_, &SessionBar::recordingWanted, this, &MainWindow::open);
}

void MainWindow::makeFileMenu() {
    QMenu* file = menuBar()->addMenu(tr("&File"));
    commands_.add(file, tr("&Open…"), {QKeySequence::Open}, tr("open a recording"), [this] { chooseFile(); });
    recent_ = file->addMenu(tr("Open &recent"));
    connect(recent_, &QMenu::aboutToShow, this, &MainWindow::fillRecent);
    fillRecent();
    commands_.add(file, tr("&All recordings"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_O)},
                  tr("all recordings, and programs to record; again: back to the open one"), [this] {
                      if (document_.recording()) showStart(!start_->isVisible());
                  });
    commands_.add(file, tr("Re&load"), {QKeySequence(Qt::Key_F5)}, tr("reload the recording"), [this] {
        if (!document_.path().isEmpty()) open(document_.path());
    });
    commands_.add(file, tr("&Merge recordings…"), {},
                  tr("make one recording of several programs that ran at the same time"), [this] { askToMerge(); });
    commands_.add(file, tr("Save a &picture…"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_P)},
                  tr("save a view as a picture, PNG or SVG"), [this] { askForPicture(); });
    commands_.addGesture("Esc", tr("cancel opening; else the keyboard goes back to the lanes"));
    file->addSeparator();
    commands_.add(file, tr("&Quit"), {QKeySequence(Qt::CTRL | Qt::Key_Q)}, tr("quit"), [this] { close(); });
}

void MainWindow::makeEditMenu() {
    QMenu* edit = menuBar()->addMenu(tr("&Edit"));
    const QString steps =
        tr("undo, redo: the budget, the selected time, what is simulated or explained alone, how lanes are "
           "arranged, notes");
    QAction* undo = commands_.add(edit, tr("&Undo"), {QKeySequence::Undo}, steps, [this] { undo_.undo(); });
    QAction* redo = commands_.add(edit, tr("&Redo"), {QKeySequence::Redo}, steps, [this] { undo_.redo(); });
    edit->addSeparator();
    commands_.add(edit, tr("&Add a note…"), {QKeySequence(Qt::Key_A)},
                  tr("a note on the selected marker, cause, frame, spike or time; a name for the time"),
                  [this] { askForNote({}); });
    commands_.add(edit, tr("&Notes"), {QKeySequence(Qt::CTRL | Qt::Key_N)}, tr("all notes of the recording"),
                  [this] { drawer_->show("notes"); });
    const auto enable = [this, undo, redo] {
        undo->setEnabled(undo_.canUndo());
        redo->setEnabled(undo_.canRedo());
    };
    connect(&undo_, &Undo::changed, this, enable);
    enable();
}

void MainWindow::makeGoMenu() {
    QMenu* go = menuBar()->addMenu(tr("&Go"));
    const QString spikes = tr("next, previous spike"), frames = tr("next, previous frame"),
                  views = tr("view back, view forward");
    commands_.add(go, tr("&Next spike"), {QKeySequence(Qt::Key_N)}, spikes, [this] { selection_.stepSpike(1); });
    commands_.add(go, tr("&Previous spike"), {QKeySequence(Qt::Key_P)}, spikes, [this] { selection_.stepSpike(-1); });
    commands_.add(go, tr("Worst fram&e"), {QKeySequence(Qt::Key_W)}, tr("the worst frame"),
                  [this] { selection_.chooseWorstFrame(); });
    commands_.add(go, tr("Next f&rame"), {QKeySequence(Qt::Key_PageDown)}, frames, [this] { selection_.stepFrame(1); });
    commands_.add(go, tr("Previous fra&me"), {QKeySequence(Qt::Key_PageUp)}, frames,
                  [this] { selection_.stepFrame(-1); });
    commands_.add(go, tr("&Find, or go to frame…"), {QKeySequence::Find, QKeySequence(Qt::CTRL | Qt::Key_G)},
                  tr("find a marker, an argument or a point; go to a frame by its number"), [this] {
                      QLineEdit& field = start_->isVisible() ? start_->list().search() : verdict_->find();
                      field.setFocus(Qt::ShortcutFocusReason);
                      field.selectAll();
                  });
    const QString occurrences = tr("next, previous occurrence of the selected marker, on any lane");
    commands_.add(go, tr("Next &occurrence"), {QKeySequence(Qt::Key_F3)}, occurrences,
                  [this] { stepOccurrence(true); });
    commands_.add(go, tr("Previous o&ccurrence"), {QKeySequence(Qt::SHIFT | Qt::Key_F3)}, occurrences,
                  [this] { stepOccurrence(false); });
    commands_.add(go, tr("&Go to a connected marker"), {QKeySequence(Qt::Key_G)},
                  tr("to who ended a wait, asked for work, held a lock, and from there back"),
                  [this] { lanes_->goAlong(); });
    makeInstantMenu(go->addMenu(tr("&Instant, measuring")));
    makeSourceMenu(go->addMenu(tr("So&urce")));
    go->addSeparator();
    const QString scope = tr("explain the selected time, or a stage, alone; all frames again");
    QAction* time = commands_.add(go, tr("Explain the selected &time alone"), {QKeySequence(Qt::Key_E)}, scope, [this] {
        if (const auto& range = selection_.range()) document_.setScope({range->begin, range->end, {}});
    });
    QMenu* stages = go->addMenu(tr("Explain one &stage alone"));
    connect(stages, &QMenu::aboutToShow, this, [this, stages] {
        stages->clear();
        if (!document_.recording()) return;
        for (const std::string& name : document_.recording()->stageNames())
            stages->addAction(toQString(name), this, [this, name] {
                ExplainScope of;
                of.stage = name;
                document_.setScope(of);
            });
        if (stages->isEmpty()) stages->addAction(tr("The recording has no stages"))->setEnabled(false);
    });
    QAction* all = commands_.add(go, tr("Explain &all frames"), {QKeySequence(Qt::SHIFT | Qt::Key_E)}, scope,
                                 [this] { document_.setScope({}); });
    const auto enableScope = [this, time, all] {
        time->setEnabled(selection_.range().has_value());
        all->setEnabled(!document_.scope().whole());
    };
    connect(&selection_, &Selection::rangeChanged, this, enableScope);
    connect(&document_, &Document::explanationChanged, this, enableScope);
    enableScope();
    go->addSeparator();
    QAction* back = commands_.add(go, tr("View &back"), {QKeySequence(Qt::ALT | Qt::Key_Left)}, views,
                                  [this] { selection_.goBack(); });
    QAction* forward = commands_.add(go, tr("View for&ward"), {QKeySequence(Qt::ALT | Qt::Key_Right)}, views,
                                     [this] { selection_.goForward(); });
    const auto enable = [this, back, forward] {
        back->setEnabled(selection_.canGoBack());
        forward->setEnabled(selection_.canGoForward());
    };
    connect(&selection_, &Selection::historyChanged, this, enable);
    enable();
}

void MainWindow::makeSourceMenu(QMenu* menu) {
    const QString help = tr("the source of the selected marker or cause, with the cost of its lines; in the editor");
    commands_.add(menu, tr("&Show the source"), {QKeySequence(Qt::Key_C)}, help, [this] {
        const SourcePlace place = selectedSource();
        if (place.file.empty()) statusBar()->showMessage(tr("Where that stands in the source is not known."), 6000);
        selection_.lookAtSource(place);
    });
    commands_.add(menu, tr("&Open it in the editor"), {QKeySequence(Qt::SHIFT | Qt::Key_C)}, help,
                  [this] { openSource(selectedSource()); });
    commands_.add(menu, tr("Source and &editor…"), {}, {}, [this] { askForEditor(); });
}

/// One instant, and the time from another to it.
void MainWindow::makeInstantMenu(QMenu* menu) {
    commands_.add(menu, tr("&Measure from here, or end measuring"), {QKeySequence(Qt::Key_M)},
                  tr("measure from the chosen instant, or the marker's begin, to the pointer or another instant"),
                  [this] { lanes_->measure(); });
    commands_.add(menu, tr("Copy the measured &time"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_C)},
                  tr("copy the measured time"), [this] {
                      const QString measured = lanes_->measuredText();
                      if (!measured.isEmpty()) QApplication::clipboard()->setText(measured);
                      statusBar()->showMessage(
                          measured.isEmpty() ? tr("Nothing is measured; M begins it.") : tr("Copied: %1").arg(measured),
                          6000);
                  });
    menu->addSeparator();
    const auto steps = [&](EdgeOf of, Qt::KeyboardModifiers with, const QString& next, const QString& previous,
                           const QString& help) {
        for (const bool forward : {true, false})
            commands_.add(menu, forward ? next : previous,
                          {QKeySequence(QKeyCombination(with, forward ? Qt::Key_Period : Qt::Key_Comma))}, help,
                          [this, of, forward] { lanes_->stepInstant(of, forward); });
    };
    steps(EdgeOf::Markers, Qt::NoModifier, tr("&Next edge of a marker"), tr("&Previous edge of a marker"),
          tr("the instant goes to the next, previous begin or end of a marker on the selected lane"));
    steps(EdgeOf::Frames, Qt::ControlModifier, tr("Next edge of a &frame"), tr("Previous edge of a f&rame"),
          tr("the instant goes to the next, previous edge of a frame"));
    steps(EdgeOf::Points, Qt::AltModifier, tr("Next p&oint"), tr("Previous po&int"),
          tr("the instant goes to the next, previous point"));
    steps(EdgeOf::Counters, Qt::ControlModifier | Qt::AltModifier, tr("Next change of a &counter"),
          tr("Previous change of a co&unter"), tr("the instant goes to the next, previous change of a counter"));
    menu->addSeparator();
    commands_.add(menu, tr("C&lear the instant"), {}, {}, [this] {
        selection_.setAnchor(std::nullopt);
        selection_.chooseInstant(std::nullopt);
    });
    commands_.addGesture(tr("Click in the lanes"), tr("selects the marker there, and the instant"));
}

void MainWindow::makeWhatIfMenu() {
    QMenu* whatIf = menuBar()->addMenu(tr("What &if"));
    const auto repair = [this](bool gone) {
        if (const auto& e = document_.explanation(); e && selection_.cause() < e->causes.size())
            document_.trials().toggle({selection_.cause(), gone});
    };
    const QString trial = tr("what if the selected cause took its usual time, or were removed; again: reset");
    commands_.add(whatIf, tr("Selected cause at its &usual time"), {QKeySequence(Qt::Key_R)}, trial,
                  [repair] { repair(false); });
    commands_.add(whatIf, tr("Selected cause &removed"), {QKeySequence(Qt::SHIFT | Qt::Key_R)}, trial,
                  [repair] { repair(true); });
    commands_.add(whatIf, tr("Re&set simulation"), {QKeySequence(Qt::Key_Backspace)},
                  tr("reset the simulation: everything as recorded"), [this] { document_.trials().setRepairs({}); });
}

void MainWindow::makeViewMenu() {
    QMenu* view = menuBar()->addMenu(tr("&View"));
    const QString zooming = tr("zoom in, zoom out");
    commands_.add(view, tr("Selected &frame"), {QKeySequence(Qt::Key_F)}, tr("the selected frame fills the view"),
                  [this] { selection_.showFrame(); });
    commands_.add(view, tr("&Whole recording"), {QKeySequence(Qt::Key_Home)}, tr("the whole recording"),
                  [this] { selection_.showWhole(); });
    const auto zoom = [this](double factor) {
        selection_.zoom(factor, (selection_.view().begin + selection_.view().end) / 2);
    };
    commands_.add(view, tr("Zoom &in"), {QKeySequence(Qt::Key_Plus), QKeySequence::ZoomIn}, zooming,
                  [zoom] { zoom(0.7); });
    commands_.add(view, tr("Zoom &out"), {QKeySequence(Qt::Key_Minus), QKeySequence::ZoomOut}, zooming,
                  [zoom] { zoom(1 / 0.7); });
    QAction* follow =
        commands_.addSwitch(view, tr("Follow t&he end"), QKeySequence(Qt::Key_End),
                            tr("follow the end of a recording that is being made; looking elsewhere stops it"), false,
                            [this](bool on) { selection_.followEnd(on); });
    const auto showFollowing = [this, follow] {
        follow->setChecked(selection_.followsEnd());
        follow->setEnabled(document_.recording() && document_.recording()->growing);
        showStatus();
    };
    connect(&selection_, &Selection::followingChanged, this, showFollowing);
    connect(&document_, &Document::contentChanged, this, [this, showFollowing] {
        if (!document_.recording() || !document_.recording()->growing) selection_.followEnd(false);
        showFollowing();
    });
    showFollowing();
    commands_.addGesture("Ctrl+wheel", zooming);
    commands_.addGesture("Left, Right, Up, Down",
                         tr("in the lanes: the marker before, after, around and inside; in the strip: frame before, "
                            "frame after; in the causes and sentences: from one to the other"));
    commands_.addGesture("Enter", tr("what a click does; in the lanes: the selected marker fills the view"));
    commands_.addGesture("Shift+Left, Shift+Right, Shift+wheel, drag", tr("earlier, later"));
    commands_.addGesture("Ctrl+Up, Ctrl+Down, wheel", tr("lanes up and down"));
    commands_.addGesture("Tab, Shift+Tab", tr("through every field and panel"));
    commands_.addGesture("Double click", tr("a marker fills the view"));
    commands_.add(view, tr("&Edit budget"), {QKeySequence(Qt::Key_B)}, tr("edit the budget"), [this] {
        verdict_->budget().setFocus(Qt::ShortcutFocusReason);
        verdict_->budget().selectAll();
    });
    commands_.add(view, tr("&Select the time in view, or clear the selection"), {QKeySequence(Qt::Key_S)},
                  tr("select the time in view, or clear the selection"), [this] {
                      selection_.selectRange(selection_.range() ? std::nullopt
                                                                : std::optional(TimeRange{selection_.view().begin,
                                                                                          selection_.view().end}));
                  });
    commands_.addGesture("Shift+drag", tr("select a span of time"));
    makeLanesMenu(view->addMenu(tr("Arran&ge lanes")));
    view->addSeparator();
    const QString panels = tr("the keyboard goes to the next panel, to the one before");
    commands_.add(view, tr("Ne&xt panel"), {QKeySequence(Qt::Key_F6)}, panels, [this] { stepPanel(1); });
    commands_.add(view, tr("Previous pa&nel"), {QKeySequence(Qt::SHIFT | Qt::Key_F6)}, panels,
                  [this] { stepPanel(-1); });
    view->addSeparator();
    makeRoomMenu(view);
    view->addSeparator();
    makeLookMenu(view);
}

/// How the lanes are arranged.
void MainWindow::makeLanesMenu(QMenu* menu) {
    const auto add = [&](const QString& name, const QKeySequence& key, const QString& help, void (LanesView::*act)()) {
        commands_.add(menu, name, {key}, help, [this, act] { (lanes_->*act)(); });
    };
    const QString hiding = tr("hide the selected lane, show all lanes"),
                  folding = tr("fold the selected lane, its whole role");
    add(tr("&Hide the lane"), Qt::Key_H, hiding, &LanesView::hideLane);
    add(tr("&Show all lanes"), Qt::SHIFT | Qt::Key_H, hiding, &LanesView::showAllLanes);
    add(tr("&Keep the lane at the top"), Qt::Key_K, tr("keep the selected lane at the top; again: no longer"),
        &LanesView::pinLane);
    add(tr("Fol&d the lane"), Qt::Key_D, folding, &LanesView::foldLane);
    add(tr("Fold all lanes of its &role"), Qt::SHIFT | Qt::Key_D, folding, &LanesView::foldRole);
    for (const int by : {-1, 1})
        commands_.add(menu, by < 0 ? tr("Move the lane &up") : tr("Move the lane dow&n"),
                      {QKeySequence(Qt::ALT | (by < 0 ? Qt::Key_Up : Qt::Key_Down))},
                      tr("move the selected lane up, down; or drag its name"), [this, by] { lanes_->moveLane(by); });
    const bool gather = settings::gatherLanes().get();
    commands_.addSwitch(menu, tr("&Gather the lanes of the blue line"), QKeySequence(Qt::Key_L),
                        tr("where the lanes of the blue line lie far apart, the others become slim, or not"), gather,
                        [this](bool on) {
                            settings::gatherLanes().set(on);
                            lanes_->setGathering(on);
                        });
    lanes_->setGathering(gather);
    const bool programs = settings::otherPrograms().get();
    QAction* shown =
        commands_.addSwitch(menu, tr("Other &programs on the cores"), QKeySequence(Qt::Key_O),
                            tr("when other programs had a core, below the lanes, or not"), programs, [this](bool on) {
                                settings::otherPrograms().set(on);
                                lanes_->setPrograms(on);
                            });
    lanes_->setPrograms(programs);
    const auto enable = [this, shown] {
        shown->setEnabled(document_.recording() && tellsOtherPrograms(*document_.recording()));
    };
    connect(&document_, &Document::recordingChanged, this, enable);
    connect(&document_, &Document::recordingGrew, this, enable);
    enable();
    auto* more = menu->addMenu(tr("&Order, and what is hidden"));
    connect(more, &QMenu::aboutToShow, this, [this, more] {
        more->clear();
        lanes_->fillLaneMenu(*more);
    });
    commands_.addGesture(tr("Click on a lane's name"), tr("selects the lane"));
}

/// Which panels have how much room.
void MainWindow::makeRoomMenu(QMenu* view) {
    const QString folding = tr("fold the causes, the explanation, or show them again");
    const auto fold = [&](const QString& name, const QKeySequence& key, const QString& help,
                          const Setting<bool>& shown) {
        commands_.addSwitch(view, name, key, help, shown.get(), [this, shown](bool on) {
            shown.set(on);
            arrangePanels();
        });
    };
    fold(tr("Ca&uses"), Qt::Key_F7, folding, settings::causesShown());
    fold(tr("Exp&lanation"), Qt::Key_F8, folding, settings::whyShown());
    fold(tr("St&rip of frames"), {}, {}, settings::stripShown());
    fold(tr("What is looked &at"), {}, {}, settings::scopeShown());
    tablesLarge_ = commands_.addSwitch(view, tr("Room for the ta&bles"), QKeySequence(Qt::Key_F4),
                                       tr("the tables take the room of the lanes and panels, or give it back"), false,
                                       [this](bool on) { enlargeTables(on); });
    commands_.add(view, tr("Ta&ke the page into its own window"), {QKeySequence(Qt::SHIFT | Qt::Key_F4)},
                  tr("the page of the tables in a window of its own, for a second screen"),
                  [this] { pageWindows_->open(drawer_->shown()); });
    arrangePanels();
}

/// Colours, size of text, memory.
void MainWindow::makeLookMenu(QMenu* view) {
    commands_.add(view, tr("&Memory limit…"), {}, {}, [this] { askMemoryLimit(); });
    commands_.addSwitch(view, tr("&Dark colours"), {}, {}, theme().dark, [this](bool dark) {
        settings::darkColours().set(dark);
        showTheme();
    });
    commands_.addSwitch(view, tr("High &contrast"), {}, {}, settings::highContrast().get(), [this](bool on) {
        settings::highContrast().set(on);
        showTheme();
    });
    QMenu* size = view->addMenu(tr("&Text size"));
    auto* sizes = new QActionGroup(size);
    constexpr std::pair<int, const char*> kSizes[] = {
        {0, QT_TR_NOOP("&As the system")}, {100, "1&00 %"}, {125, "&125 %"}, {150, "1&50 %"}, {200, "&200 %"}};
    for (const auto& [percent, name] : kSizes) {
        QAction* action = size->addAction(tr(name));
        action->setCheckable(true);
        action->setChecked(percent == settings::textPercent().get());
        sizes->addAction(action);
        connect(action, &QAction::triggered, this, [this, percent = percent] {
            settings::textPercent().set(percent);
            showNotice(tr("The text size changes when Fugato starts again."));
        });
    }
}

/// The pages of the drawer, by their groups, and what can be done with the one in sight.
void MainWindow::makeTablesMenu() {
    QMenu* tables = menuBar()->addMenu(tr("&Tables"));
    const QStringList groups = drawer_->groups();
    for (int at = 0; at < groups.size(); ++at) {
        QMenu* menu = tables->addMenu("&" + QString::number(at + 1) + " " + groups[at]);
        QStringList names;
        for (const DrawerPage* page : drawer_->pages()) {
            const DrawerPage::Words words = page->words();
            if (words.group != groups[at]) continue;
            names << words.tab;
            commands_.add(menu, words.menu, {}, words.help, [this, id = words.id] { drawer_->show(id); });
        }
        menu->addSeparator();
        commands_.add(menu, tr("The ne&xt page here"), {QKeySequence(Qt::CTRL | static_cast<Qt::Key>(Qt::Key_1 + at))},
                      tr("%1, one after the other").arg(names.join(", ")),
                      [this, group = groups[at]] { drawer_->showGroup(group); });
    }
    commands_.add(tables, tr("Last e&vents of each lane"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_L)},
                  tr("the last events of each lane, as before a crash"), [this] {
                      drawer_->show("events");
                      drawer_->page<EventsPage>().showLast();
                  });
    commands_.addGesture(tr("Shift+Right in a table"), tr("opens the heaviest way down"));
    QMenu* looking = tables->addMenu(tr("&Look at"));
    connect(looking, &QMenu::aboutToShow, this, [this, looking] {
        looking->clear();
        scopeBar_->fillMenu(*looking);
    });
    commands_.add(tables, tr("Ch&oose what is looked at"), {QKeySequence(Qt::CTRL | Qt::Key_L)},
                  tr("the keyboard goes to what is looked at; Left and Right choose"),
                  [this] { scopeBar_->setFocus(Qt::ShortcutFocusReason); });
    tables->addSeparator();
    commands_.addGesture("Ctrl+C", tr("copy the selected rows, marker, cause, sentence or frame"));
    commands_.addGesture(tr("Right click"), tr("what can be done there: copy, zoom, simulate, save, choose columns"));
    tables->addSeparator();
    auto* inSight = tables->addMenu(QString());
    connect(tables, &QMenu::aboutToShow, this, [this, inSight] {
        inSight->clear();
        inSight->setTitle(tr("&In “%1”").arg(drawer_->current().words().tab));
        drawer_->current().fillMenu(*inSight);
    });
}

void MainWindow::makeHelpMenu() {
    QMenu* help = menuBar()->addMenu(tr("&Help"));
    commands_.add(help, tr("&Keys and first steps"), {QKeySequence::HelpContents}, tr("this page"),
                  [this] { showKeys(); });
    commands_.add(help, tr("&About Fugato"), {}, {}, [this] { showAbout(); });
}

void MainWindow::showKeys() {
    QDialog dialog(this);
    dialog.setWindowTitle(tr("Keys and first steps"));
    auto* page = new QWidget;
    auto* grid = new QGridLayout(page);
    grid->setContentsMargins(22, 18, 22, 18);
    grid->setHorizontalSpacing(14);
    auto* steps = plainLabel(tr(
        "A recording opens with its costliest cause explained. Read the sentence at the right, follow the blue line "
        "through the lanes from the frame's end back to its begin, then press N for the next spike.\n\n"
        "The band under the strip tells what each frame is bound by; its legend stands above the strip.\n\n"
        "In the lanes, plum is work that made the selected frame late, and hatched plum is waiting that did; dotted is "
        "any other waiting. The thin line above a lane's markers is solid where it ran, hatched where it was ready "
        "and had no core, and dotted where it was blocked."));
    const auto& lines = commands_.lines();
    const auto half = static_cast<int>(lines.size() + 1) / 2;  // two columns, so that it fits a small screen
    const int helpWidth = fontMetrics().averageCharWidth() * 33;
    const auto wrap = [](QLabel* label, int width) {  // in a grid a wrapped label must say itself how high it is
        label->setWordWrap(true);
        label->setFixedWidth(width);
        label->setMinimumHeight(label->heightForWidth(width));
    };
    const int keysWidth = fontMetrics().averageCharWidth() * 18;
    for (int i = 0; i < lines.size(); ++i) {
        auto* keys = plainLabel(lines[i].keys);
        auto* help = plainLabel(lines[i].help);
        keys->setFont(boldFont());
        wrap(keys, keysWidth);
        wrap(help, helpWidth);
        grid->addWidget(keys, 1 + i % half, i < half ? 0 : 2, Qt::AlignTop);
        grid->addWidget(help, 1 + i % half, i < half ? 1 : 3, Qt::AlignTop);
    }
    steps->setContentsMargins(0, 0, 0, 10);
    wrap(steps, 2 * (helpWidth + keysWidth));
    grid->addWidget(steps, 0, 0, 1, 4);
    // On a small screen the page scrolls.
    auto* scroll = new QScrollArea;
    scroll->setWidget(page);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setWidgetResizable(true);
    scroll->setAccessibleName(dialog.windowTitle());
    auto* all = new QVBoxLayout(&dialog);
    all->setContentsMargins(0, 0, 0, 0);
    all->addWidget(scroll);
    const QSize room = screen()->availableGeometry().size() * 0.9;
    dialog.resize((page->sizeHint() + QSize(scroll->verticalScrollBar()->sizeHint().width(), 2)).boundedTo(room));
    dialog.exec();
}

}  // namespace fugato
