// SPDX-License-Identifier: GPL-3.0-or-later
#include "main_window.h"

#include <QActionGroup>
#include <QApplication>
#include <QCloseEvent>
#include <QDialog>
#include <QDialogButtonBox>
#include <QDragEnterEvent>
#include <QFileDialog>
#include <QFileInfo>
#include <QGridLayout>
#include <QHBoxLayout>
#include <QInputDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMenuBar>
#include <QMessageBox>
#include <QMimeData>
#include <QProgressBar>
#include <QPushButton>
#include <QScreen>
#include <QScrollArea>
#include <QScrollBar>
#include <QSplitter>
#include <QStatusBar>
#include <QTimer>
#include <QVBoxLayout>

#include "app/causes/causes_panel.h"
#include "app/drawer/drawer.h"
#include "app/drawer/events_page.h"
#include "app/drawer/page_windows.h"
#include "app/lanes/lanes_view.h"
#include "app/record/device_dialog.h"
#include "app/record/join_dialog.h"
#include "app/record/presets_dialog.h"
#include "app/record/session_bar.h"
#include "app/scope/scope_bar.h"
#include "app/settings/recording_memory.h"
#include "app/settings/settings.h"
#include "app/start/start_page.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "app/verdict/verdict_bar.h"
#include "app/why/why_panel.h"
#include "core/ask/marker_statistics.h"
#include "core/ask/search.h"
#include "core/explain/words/sentences.h"
#include "format/opening.h"

namespace fugato {

namespace {

constexpr int kMostRecent = 10;
constexpr int kTitleBar = 36;  // what a window manager may add to the height
constexpr int kProgressAfterMs = 150;

}  // namespace

MainWindow::MainWindow() {
    setWindowTitle("Fugato");
    setAcceptDrops(true);
    applyTheme(settings::darkColours().get(), settings::highContrast().get());
    document_.setMemoryLimit(static_cast<uint64_t>(settings::memoryMegabytes().get()) * 1'000'000);
    makePanels();
    commands_.setPictures({strip_, causes_, lanes_, why_});
    makeFileMenu();
    makeRecordMenu();
    makeEditMenu();
    makeGoMenu();
    makeWhatIfMenu();
    makeViewMenu();
    makeTablesMenu();
    makeHelpMenu();
    makeProgress();
    resize(1280, 800);
    restoreGeometry(settings::windowGeometry().get());
    fitScreen();
    if (!across_->restoreState(settings::panelWidths().get())) across_->setSizes({256, 686, 338});
    if (!middle_->restoreState(settings::panelHeights().get())) middle_->setSizes({454, 176});
    if (settings::tablesLarge().get()) tablesLarge_->setChecked(true);
    showStatus();
    lanes_->setFocus();
    showStart(true);
}

/// What was remembered of another screen must not lie beyond this one.
void MainWindow::fitScreen() {
    const QScreen* on = screen() ? screen() : QGuiApplication::primaryScreen();
    if (!on) return;
    const QRect room = on->availableGeometry();
    resize(size().boundedTo(room.size() - QSize(0, kTitleBar)));
    const QPoint last = room.bottomRight() - QPoint(width() - 1, height() + kTitleBar - 1);
    move(std::clamp(x(), room.left(), std::max(room.left(), last.x())),
         std::clamp(y(), room.top(), std::max(room.top(), last.y())));
}

/// A field that loses the keyboard tells so: now, while all that hears of it is there.
MainWindow::~MainWindow() {
    if (QWidget* field = focusWidget()) field->clearFocus();
}

/// The start page in the place of the panels, or these.
void MainWindow::showStart(bool shown) {
    start_->setVisible(shown);
    for (QWidget* panel : std::initializer_list<QWidget*>{verdict_, across_}) panel->setVisible(!shown);
    arrangePanels();
    hints_->setText(shown ? tr("Ctrl+R start a program    Ctrl+O open    F1 keys")
                          : tr("N next spike    P previous    F frame    Home whole    Ctrl+wheel zoom    F1 keys"));
    (shown ? static_cast<QWidget*>(start_) : lanes_)->setFocus();
}

void MainWindow::makePanels() {
    verdict_ = new VerdictBar(document_, selection_);
    strip_ = new OverrunStrip(document_, selection_);
    causes_ = new CausesPanel(document_, selection_);
    lanes_ = new LanesView(document_, selection_, selected_);
    why_ = new WhyPanel(document_, selection_, selected_);
    drawer_ = new Drawer(document_, selection_);
    scopeBar_ = new ScopeBar(document_, selection_);
    pageWindows_ = new PageWindows(*drawer_, *this);
    start_ = new StartPage;
    sessionBar_ = new SessionBar(session_);

    notice_ = new QWidget;
    notice_->setAutoFillBackground(true);
    noticeWords_ = plainLabel();
    noticeWords_->setWordWrap(true);
    noticeWords_->setTextFormat(Qt::PlainText);
    noticeWords_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    auto* dismiss = new QPushButton(tr("Close"));
    auto* noticeLine = new QHBoxLayout(notice_);
    noticeLine->setContentsMargins(14, 5, 14, 5);
    noticeLine->addWidget(noticeWords_, 1);
    noticeLine->addWidget(dismiss);
    connect(dismiss, &QPushButton::clicked, this, [this] {
        noticeClosed_ = true;
        notice_->hide();
    });
    notice_->hide();

    middle_ = new QSplitter(Qt::Vertical);
    middle_->addWidget(lanes_);
    middle_->addWidget(drawer_);
    middle_->setStretchFactor(0, 5);  // the drawer grows on tall windows too
    middle_->setStretchFactor(1, 3);
    across_ = new QSplitter(Qt::Horizontal);
    across_->addWidget(causes_);
    across_->addWidget(middle_);
    across_->addWidget(why_);
    across_->setStretchFactor(1, 1);
    for (QSplitter* splitter : {middle_, across_}) {
        splitter->setHandleWidth(1);
        splitter->setChildrenCollapsible(false);
    }
    auto* all = new QWidget;
    auto* lines = new QVBoxLayout(all);
    lines->setContentsMargins(0, 0, 0, 0);
    lines->setSpacing(0);
    lines->addWidget(sessionBar_);
    lines->addWidget(verdict_);
    lines->addWidget(notice_);
    lines->addWidget(strip_);
    lines->addWidget(scopeBar_);
    lines->addWidget(across_, 1);
    lines->addWidget(start_, 1);
    setCentralWidget(all);
    QWidget* const order[] = {verdict_, strip_, scopeBar_, causes_, lanes_, drawer_, why_};  // of Tab
    for (size_t i = 1; i < std::size(order); ++i) setTabOrder(order[i - 1], order[i]);

    status_ = plainLabel();
    status_->setFont(smallFont());
    hints_ = plainLabel();
    hints_->setFont(smallFont());
    statusBar()->setSizeGripEnabled(false);
    statusBar()->addWidget(status_, 1);
    statusBar()->addPermanentWidget(hints_);

    connect(&document_, &Document::recordingChanged, this, &MainWindow::takeRecording);
    connect(&document_, &Document::recordingGrew, this, [this] { selection_.growRecording(document_.recording()); });
    connect(&document_, &Document::contentChanged, this, [this] {
        selection_.catchUp();
        if (!noticeClosed_) showDamage();
        showStatus();
    });
    // After the panels have the new explanation, so that the choice finds them ready.
    connect(&document_, &Document::explanationChanged, this, [this](bool fresh) {
        progress_->hide();
        selection_.setExplanation(document_.explanation(), fresh);
    });
    connect(&document_, &Document::failed, this, [this](const QString& sentence) {
        progress_->hide();
        showNotice(sentence);
    });
    connect(&document_, &Document::cancelled, this, [this] {
        progress_->hide();
        showStatus();
        statusBar()->showMessage(tr("Cancelled."), 4000);
    });
    connect(start_, &StartPage::openWanted, this, &MainWindow::chooseFile);
    connect(start_, &StartPage::recordingWanted, this, &MainWindow::open);
    connect(drawer_, &Drawer::shownChanged, this, &MainWindow::keepArranged);
    connect(lanes_, &LanesView::arranged, this, &MainWindow::keepArranged);
    connect(&selection_, &Selection::scopeChanged, this, &MainWindow::keepArranged);
    connect(&document_, &Document::contentChanged, this, &MainWindow::keepArranged);
    connect(verdict_, &VerdictBar::wanted, drawer_, &Drawer::search);
    connect(verdict_, &VerdictBar::done, this, [this] { lanes_->setFocus(Qt::ShortcutFocusReason); });
    connect(lanes_, &LanesView::occurrencesWanted, drawer_, [this] { drawer_->show("marker"); });
    connect(verdict_, &VerdictBar::said, this,
            [this](const QString& sentence) { statusBar()->showMessage(sentence, 8000); });
    connect(&selection_, &Selection::chosenChanged, this, &MainWindow::showStatus);
    connect(lanes_, &LanesView::painted, this, &MainWindow::showStatus, Qt::QueuedConnection);
}

void MainWindow::makeProgress() {
    progress_ = new QWidget(centralWidget());
    progress_->setObjectName("progress");
    progress_->setAutoFillBackground(true);
    progressWords_ = plainLabel();
    progressWords_->setMinimumWidth(280);
    progressBar_ = new QProgressBar;
    progressBar_->setTextVisible(false);
    progressBar_->setRange(0, 1000);
    auto* stop = new QPushButton(tr("Cancel"));
    stop->setObjectName("cancel");
    auto* box = new QGridLayout(progress_);
    box->setContentsMargins(18, 14, 18, 14);
    box->addWidget(progressWords_, 0, 0, 1, 2);
    box->addWidget(progressBar_, 1, 0);
    box->addWidget(stop, 1, 1);
    progress_->hide();
    stop->setShortcut(Qt::Key_Escape);
    connect(stop, &QPushButton::clicked, &document_, &Document::cancel);
    const auto place = [this] {
        progress_->adjustSize();
        progress_->move((centralWidget()->width() - progress_->width()) / 2,
                        (centralWidget()->height() - progress_->height()) / 2);
        progress_->raise();
        progress_->show();
    };
    connect(&document_, &Document::opening, this, [this, place](const QString& path) {
        notice_->hide();
        progressBar_->setValue(0);
        progressWords_->setText(tr("Opening %1").arg(shown(QFileInfo(path).fileName())));
        // A moment later only: what opens at once does not flash.
        QTimer::singleShot(kProgressAfterMs, this, [this, place] {
            if (document_.busy()) place();
        });
    });
    connect(&document_, &Document::progressed, this,
            [this](double part, const QString&) { progressBar_->setValue(static_cast<int>(part * 1000)); });
}

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

void MainWindow::startProgram(const Launch& launch) {
    notice_->hide();
    session_.start(launch);
    const QString name = shown(toQString(launch.program));
    status_->setText(launch.moments
                         ? tr("Starting %1; nothing is written until something happens.").arg(name)
                         : tr("Starting %1; its recording opens by itself. Ctrl+E ends the program.").arg(name));
}

void MainWindow::askToJoin(const std::optional<RunningProgram>& program) {
    JoinDialog dialog(program, this);
    connect(&dialog, &JoinDialog::joined, this, [this](const RunningProgram& one, const JoinOptions& options) {
        notice_->hide();
        session_.join(one, options);
    });
    connect(&dialog, &JoinDialog::recordingWanted, this, &MainWindow::open);
    dialog.exec();
}

/// Where the start page stands, its form; else the same in a dialog.
void MainWindow::askForProgram() {
    if (start_->isVisible()) return start_->form().setFocus(Qt::ShortcutFocusReason);
    QDialog dialog(this);
    dialog.setWindowTitle(tr("Start a program and record it"));
    auto* lines = new QVBoxLayout(&dialog);
    auto* form = new StartForm;
    lines->addWidget(form);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    lines->addWidget(buttons);
    connect(buttons, &QDialogButtonBox::rejected, &dialog, &QDialog::reject);
    connect(form, &StartForm::started, &dialog, [this, &dialog](const Launch& launch) {
        dialog.accept();
        startProgram(launch);
    });
    dialog.resize(560, dialog.sizeHint().height());
    form->setFocus();
    dialog.exec();
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
    commands_.addGesture("Esc", tr("cancel opening; else the keyboard goes back to the lanes"));
    file->addSeparator();
    commands_.add(file, tr("&Quit"), {QKeySequence(Qt::CTRL | Qt::Key_Q)}, tr("quit"), [this] { close(); });
}

void MainWindow::makeEditMenu() {
    QMenu* edit = menuBar()->addMenu(tr("&Edit"));
    const QString steps = tr("undo, redo: the budget, the selected time, what is simulated or explained alone");
    QAction* undo = commands_.add(edit, tr("&Undo"), {QKeySequence::Undo}, steps, [this] { undo_.undo(); });
    QAction* redo = commands_.add(edit, tr("&Redo"), {QKeySequence::Redo}, steps, [this] { undo_.redo(); });
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
    const bool gather = settings::gatherLanes().get();
    commands_.addSwitch(view, tr("&Gather the lanes of the blue line"), QKeySequence(Qt::Key_L),
                        tr("where the lanes of the blue line lie far apart, the others become slim, or not"), gather,
                        [this](bool on) {
                            settings::gatherLanes().set(on);
                            lanes_->setGathering(on);
                        });
    lanes_->setGathering(gather);
    const bool programs = settings::otherPrograms().get();
    QAction* shown =
        commands_.addSwitch(view, tr("Other &programs on the cores"), QKeySequence(Qt::Key_O),
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

void MainWindow::arrangePanels() {
    const bool start = start_->isVisible(), large = tablesLarge_ && tablesLarge_->isChecked();
    strip_->setVisible(!start && settings::stripShown().get());
    scopeBar_->setVisible(!start && settings::scopeShown().get());
    causes_->setVisible(!large && settings::causesShown().get());
    why_->setVisible(!large && settings::whyShown().get());
}

/// The lanes stay in sight, as high as one of them.
void MainWindow::enlargeTables(bool on) {
    (on ? settings::panelHeights() : settings::largeHeights()).set(middle_->saveState());
    settings::tablesLarge().set(on);
    arrangePanels();
    const QByteArray before = (on ? settings::largeHeights() : settings::panelHeights()).get();
    if (!middle_->restoreState(before)) middle_->setSizes(on ? QList<int>{110, 520} : QList<int>{454, 176});
    (on ? drawer_->current().focusProxy() : lanes_)->setFocus();
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

void MainWindow::findMarker(const QString& words) {
    const auto recording = document_.recording();
    if (!recording) return;
    finding_.ask([recording,
                  text = words.toStdString()](const Progress& progress) { return search(*recording, text, progress); },
                 [this, words](const std::shared_ptr<const Found>& found) {
                     if (found->markers.empty()) return showNotice(tr("No marker's name holds “%1”.").arg(words));
                     selection_.chooseSite(found->markers.front().site);
                     drawer_->show("marker");
                 });
}

bool MainWindow::asking() const {
    return start_->busy() || document_.busy() || document_.namingFunctions() || document_.trials().busy() ||
           drawer_->busy() || pageWindows_->busy() || finding_.busy() || stepping_.busy() || selected_.busy() ||
           lanes_->busy();
}

void MainWindow::askMemoryLimit() {
    bool chosen = false;
    const int now = settings::memoryMegabytes().get();
    const int megabytes =
        QInputDialog::getInt(this, tr("Memory limit"),
                             tr("Megabytes this program should not exceed while a large recording is open.\n"
                                "What was used longest ago is evicted, and read again when it is needed."),
                             now, 200, 1'000'000, 100, &chosen);
    if (!chosen) return;
    settings::memoryMegabytes().set(megabytes);
    document_.setMemoryLimit(static_cast<uint64_t>(megabytes) * 1'000'000);
}

void MainWindow::showAbout() {
    QMessageBox::about(this, tr("About Fugato"),
                       tr("Fugato %1\nFinds the frames that came late and names what made them so.\nGPL-3.0-or-later; "
                          "its recorder MIT.")
                           .arg(QApplication::applicationVersion()));
}

void MainWindow::open(const QString& path) {
    const QString whole = QFileInfo(path).absoluteFilePath();
    document_.open(whole);
}

void MainWindow::chooseFile() {
    const QString path = QFileDialog::getOpenFileName(this, tr("Open a recording"), settings::lastFolder().get(),
                                                      tr("Recordings (*.fugato *.jsonl);;All files (*)"));
    if (!path.isEmpty()) open(path);
}

/// What the person arranged the last time; the series and the budget are known to the document already.
void MainWindow::recallArranged() {
    const RecordingMemory before = rememberedOf(*document_.recording());
    if (!before.page.isEmpty()) drawer_->show(before.page);
    std::set<std::string> unfolded;
    for (const QString& key : before.unfolded) unfolded.insert(key.toStdString());
    lanes_->picture().setUnfolded(std::move(unfolded));
    if (before.scope) selection_.chooseScope(*before.scope);
}

void MainWindow::keepArranged() {
    const auto& recording = document_.recording();
    if (!recording || !document_.explanation() || recording->growing) return;  // what grows is another file each time
    // A page about the selected marker or a search would be empty the next time.
    const bool ofSelection =
        drawer_->current().words().about == DrawerPage::About::Marker || drawer_->shown() == "search";
    RecordingMemory now{ofSelection ? rememberedOf(*recording).page : drawer_->shown(),
                        toQString(recording->series[document_.series()].name),
                        document_.budget(),
                        {},
                        selection_.scopeIsChosen() ? std::optional(selection_.scope()) : std::nullopt};
    for (const std::string& key : lanes_->picture().unfolded()) now.unfolded << toQString(key);
    remember(*recording, now);
}

void MainWindow::takeRecording() {
    showStart(false);
    if (!windowsOpened_) {
        windowsOpened_ = true;
        pageWindows_->openRemembered();
    }
    noticeClosed_ = false;
    for (BackgroundQuery* about : {&finding_, &stepping_}) about->silence();  // they ask about the one before
    selection_.setRecording(document_.recording());
    if (document_.path() == followed_ && document_.recording()->growing) selection_.followEnd(true);
    recallArranged();
    rememberRecent(document_.path());
    // "[*]" in a title would be a mark that there is something to save.
    const QString file = shown(QFileInfo(document_.path()).fileName()).replace("[*]", "[*][*]");
    setWindowTitle(tr("%1 — Fugato").arg(file));
    showDamage();
    showStatus();
}

void MainWindow::showDamage() {
    QStringList words;
    const bool seen = session_.runs() && document_.path() == followed_;  // the line above tells that it is being made
    const auto& context = document_.recording()->context;
    if (const auto because = context.find("saved because"); because != context.end())
        words << tr("Saved because %1.").arg(toQString(because->second));
    for (const std::string& note : document_.recording()->notes())
        if (!seen || note != kBeingMade) words << toQString(note);
    if (!document_.recording()->indexNote.empty()) words << toQString(document_.recording()->indexNote);
    if (words.size() > 3)
        words = words.mid(0, 3) << tr("And %1 more; `fugato-cli info` lists them all.").arg(words.size() - 3);
    if (words.isEmpty())
        notice_->hide();
    else
        showNotice(words.join(" "));
}

void MainWindow::showNotice(const QString& words) {
    QPalette palette = notice_->palette();
    palette.setColor(QPalette::Window, theme().warning);
    notice_->setPalette(palette);
    noticeWords_->setText(words);
    notice_->show();
}

QString MainWindow::notice() const { return notice_->isVisible() ? noticeWords_->text() : QString(); }
QString MainWindow::statusText() const { return status_->text(); }

void MainWindow::showStatus() {
    if (!document_.recording()) {
        status_->setText(tr("Recordings stay in your data folder until you delete them. Nothing is sent anywhere."));
        return;
    }
    const Recording& r = *document_.recording();
    QStringList words;
    const MarkerRef& marker = selection_.marker();
    if (marker.valid()) {
        const MarkerRow& row = r.lanes[marker.lane].rows[marker.row];
        words << tr("%1, %2 on %3")
                     .arg(toQString(r.nameOf(row.path(marker.index))),
                          toQString(durationText(row.end(marker.index) - row.begin(marker.index))),
                          toQString(r.lanes[marker.lane].name));
        if (const auto& e = document_.explanation(); e && selection_.frame() < e->frames.size()) {
            const uint32_t its = r.series[e->series].frameAt(row.begin(marker.index));
            if (its != kNone && its != selection_.frame())
                words << tr("in frame %1; frame %2 is the selected one")
                             .arg(toQString(countText(its)), toQString(countText(selection_.frame())));
        }
    } else if (document_.explanation() && selection_.frame() < document_.explanation()->frames.size()) {
        words << tr("Frame %1, %2")
                     .arg(toQString(countText(selection_.frame())),
                          toQString(durationText(document_.explanation()->frame(selection_.frame()).duration())));
    }
    words << toQString(plural(r.lanes.size(), "lane", "lanes"))
          << tr("%1 shown").arg(toQString(plural(lanes_->picture().markersShown(), "marker", "markers")));
    words << tr("%1 in view").arg(toQString(durationText(selection_.view().end - selection_.view().begin)));
    if (r.growing)
        words << (selection_.followsEnd() ? tr("following the end") : tr("looking back; End follows it again"));
    const QString text = words.join(" · ");
    if (text != status_->text()) status_->setText(text);
}

void MainWindow::showTheme() {
    applyTheme(settings::darkColours().get(), settings::highContrast().get());
    lanes_->picture().themeChanged();
    if (notice_->isVisible()) showNotice(noticeWords_->text());
    for (QWidget* widget : findChildren<QWidget*>()) widget->update();
}

void MainWindow::rememberRecent(const QString& path) {
    QStringList paths = settings::recentFiles().get();
    paths.removeAll(path);
    paths.prepend(path);
    settings::recentFiles().set(paths.mid(0, kMostRecent));
    settings::lastFolder().set(QFileInfo(path).absolutePath());
}

void MainWindow::fillRecent() {
    recent_->clear();
    const QStringList paths = settings::recentFiles().get();
    for (const QString& path : paths) {
        QAction* action = recent_->addAction(shown(QFileInfo(path).fileName()).replace("&", "&&"));
        action->setToolTip(plainTip(shown(path)));
        connect(action, &QAction::triggered, this, [this, path] { open(path); });
    }
    if (paths.isEmpty()) recent_->addAction(tr("Nothing opened yet"))->setEnabled(false);
}

/// Escape that no field or list took: the keyboard goes back to the lanes.
void MainWindow::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) {
        return lanes_->setFocus(Qt::ShortcutFocusReason);
    }
    QMainWindow::keyPressEvent(event);
}

void MainWindow::stepPanel(int by) {
    QList<QWidget*> panels{strip_, causes_, lanes_, &drawer_->current(), why_};
    panels.removeIf([](const QWidget* panel) { return !panel->isVisible(); });
    if (panels.isEmpty()) return;
    const auto count = static_cast<int>(panels.size());
    int now = std::max(0, static_cast<int>(panels.indexOf(lanes_)));
    for (int i = 0; i < count; ++i)
        if (const QWidget* focus = QApplication::focusWidget();
            focus && (panels[i] == focus || panels[i]->isAncestorOf(focus)))
            now = i + by;
    panels[(now + count) % count]->setFocus(Qt::ShortcutFocusReason);
}

void MainWindow::stepOccurrence(bool forward) {
    const auto recording = document_.recording();
    if (!recording || selection_.site() == kNone) {
        statusBar()->showMessage(tr("Select a marker first; then this goes through its occurrences."), 6000);
        return;
    }
    const MarkerRef& marker = selection_.marker();
    const int64_t from = marker.valid() ? recording->lanes[marker.lane].rows[marker.row].begin(marker.index)
                                        : (forward ? selection_.view().begin : selection_.view().end);
    stepping_.ask(
        [recording, site = selection_.site(), from, marker, forward](const Progress& progress) {
            return occurrenceBeside(*recording, site, from, marker, forward, progress);
        },
        [this, forward](const std::shared_ptr<const MarkerRef>& found) {
            if (found->valid()) return selection_.lookAtMarker(*found, true);
            statusBar()->showMessage(forward ? tr("That was the last one.") : tr("That was the first one."), 6000);
        });
}

void MainWindow::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasUrls() && event->mimeData()->urls().size() == 1 &&
        event->mimeData()->urls().front().isLocalFile())
        event->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* event) {
    open(event->mimeData()->urls().front().toLocalFile());
    event->acceptProposedAction();
}

void MainWindow::closeEvent(QCloseEvent* event) {
    settings::windowGeometry().set(saveGeometry());
    settings::panelWidths().set(across_->saveState());
    (tablesLarge_->isChecked() ? settings::largeHeights() : settings::panelHeights()).set(middle_->saveState());
    pageWindows_->remember();
    pageWindows_->closeAll();
    event->accept();
}

}  // namespace fugato
