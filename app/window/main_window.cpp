// SPDX-License-Identifier: GPL-3.0-or-later
#include "main_window.h"

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
#include <QMessageBox>
#include <QMimeData>
#include <QPainter>
#include <QProgressBar>
#include <QPushButton>
#include <QScreen>
#include <QSplitter>
#include <QStatusBar>
#include <QTimer>
#include <QVBoxLayout>

#include "app/causes/causes_panel.h"
#include "app/drawer/drawer.h"
#include "app/drawer/notes_page.h"
#include "app/drawer/page_windows.h"
#include "app/lanes/lanes_view.h"
#include "app/merge/merge_dialog.h"
#include "app/notes/note_dialog.h"
#include "app/notes/note_places.h"
#include "app/pictures/picture_dialog.h"
#include "app/record/join_dialog.h"
#include "app/record/session_bar.h"
#include "app/scope/scope_bar.h"
#include "app/settings/recording_memory.h"
#include "app/settings/settings.h"
#include "app/source/source_dialog.h"
#include "app/start/start_page.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "app/verdict/verdict_bar.h"
#include "app/why/why_panel.h"
#include "core/ask/occurrences.h"
#include "core/ask/search.h"
#include "core/explain/words/quantities.h"
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
    lanes_ = new LanesView(document_, selection_, selected_, arrangement_);
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
    connectPanels();
}

void MainWindow::connectPanels() {
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
    for (const auto signal : {&Notes::changed, &Notes::loaded})
        connect(&document_.notes(), signal, this, &MainWindow::takeNotes);
    connect(&document_.notes(), &Notes::failed, this, [this](const QString& sentence) {
        notesTrouble_ = sentence;
        noticeClosed_ = false;
        showDamage();
    });
    connect(&drawer_->page<NotesPage>(), &NotesPage::noteWanted, this, &MainWindow::askForNote);
    connect(&selection_, &Selection::editorWanted, this, &MainWindow::openSource);
    connect(lanes_, &LanesView::noteWanted, this, [this] { askForNote({}); });
    connect(strip_, &OverrunStrip::noteWanted, this, [this] { askForNote({}); });
    connect(lanes_, &LanesView::said, this,
            [this](const QString& sentence) { statusBar()->showMessage(sentence, 8000); });
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

void MainWindow::arrangePanels() {
    const bool start = !start_->isHidden(), large = tablesLarge_ && tablesLarge_->isChecked();
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
           drawer_->busy() || pageWindows_->busy() || finding_.busy() || stepping_.busy() || opening_.busy() ||
           document_.notes().busy() || selected_.busy() || lanes_->busy();
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

QList<ViewPicture> MainWindow::views() {
    const auto widget = [](const QString& id, const QString& name, QWidget* of) {
        return ViewPicture{id, name, of->size(), [of](QPainter& painter) { of->render(&painter); }, of};
    };
    QList<ViewPicture> views{widget("window", tr("The whole window"), this)};
    views.front().paint = [this](QPainter& painter) {
        render(&painter);
        if (!strip_->isVisible()) return;
        painter.translate(strip_->mapTo(this, QPoint(0, 0)));
        strip_->paintTo(painter);  // sharp at any size
    };
    views.front().paintPart = [this](QWidget& part, QPainter& painter) {
        if (&part == strip_) strip_->paintTo(painter);
        return &part == strip_;
    };
    if (!document_.recording() || start_->isVisible()) return views;
    views << ViewPicture{"lanes", tr("Lanes"), lanes_->viewport()->size(),
                         [this](QPainter& painter) { lanes_->paintTo(painter, false); }};
    views << ViewPicture{"all-lanes", tr("Lanes, also those out of sight"), lanes_->sizeOfAll(),
                         [this](QPainter& painter) { lanes_->paintTo(painter, true); }};
    if (strip_->isVisible())
        views << ViewPicture{"strip", tr("Strip of frames"), strip_->size(),
                             [this](QPainter& painter) { strip_->paintTo(painter); }};
    if (causes_->isVisible()) views << widget("causes", tr("Causes"), causes_);
    if (why_->isVisible()) views << widget("explanation", tr("Explanation"), why_);
    views << widget("page", tr("Page “%1”").arg(drawer_->current().words().tab), &drawer_->current());
    return views;
}

/// Of the selected marker, else of the selected cause.
SourcePlace MainWindow::selectedSource() const {
    if (const SourcePlace marker = selection_.sourceOfMarker(); !marker.file.empty()) return marker;
    const auto& e = document_.explanation();
    return e && selection_.cause() < e->causes.size() ? why_->placeOf(selection_.cause()) : SourcePlace();
}

/// In the person's editor.
void MainWindow::openSource(const SourcePlace& place) {
    if (place.file.empty()) {
        statusBar()->showMessage(tr("Where that stands in the source is not known."), 6000);
        return;
    }
    opening_.ask([name = toQString(place.file), folders = sourceFolders()](
                     const Progress&) { return std::make_shared<const QString>(placeOfSource(name, folders)); },
                 [this, place](const std::shared_ptr<const QString>& path) {
                     if (path->isEmpty())
                         return showNotice(
                             tr("%1 is not found here. Go ▸ Source ▸ Source and editor… takes the folder in which the "
                                "source lies.")
                                 .arg(shown(toQString(place.file))));
                     const QString why = openInEditor(*path, place.line);
                     if (!why.isEmpty()) return showNotice(why);
                     statusBar()->showMessage(tr("Opened %1").arg(shown(*path)), 6000);
                 });
}

/// A new one, or one that was written before.
void MainWindow::askForNote(const std::string& id) {
    if (!document_.recording()) return;
    const Note* const before = document_.notes().find(id);
    NoteDialog dialog(before ? std::vector<Note>{*before} : notable(document_, selection_), this);
    if (dialog.exec() != QDialog::Accepted) return;
    document_.notes().put(dialog.note());
    if (!before) statusBar()->showMessage(tr("Noted. Findings ▸ Notes lists all notes."), 6000);
}

/// Stretches with names can be looked at.
void MainWindow::takeNotes() {
    std::vector<NamedStretch> stretches;
    const auto& recording = document_.recording();
    for (const Note& note : document_.notes().all())
        if (recording && note.about == NoteAbout::Stretch && !note.name.empty())
            if (const auto range = timeOf(note, *recording)) stretches.push_back({note.name, *range});
    selection_.setStretches(std::move(stretches));
}

void MainWindow::askForEditor() { SourceDialog(toQString(selectedSource().file), this).exec(); }

void MainWindow::askForPicture() {
    PictureDialog dialog(views(), settings::lastFolder().get(), this);
    if (dialog.exec() != QDialog::Accepted) return;
    saveViewPicture(dialog.chosen(), dialog.chosenFactor(), dialog.path().text(),
                    [this, path = dialog.path().text()](const QString& why) {
                        if (!why.isEmpty()) return showNotice(why);
                        statusBar()->showMessage(tr("Saved as %1").arg(shown(path)), 8000);
                    });
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

void MainWindow::askToMerge() {
    MergeDialog dialog(document_.recording() ? document_.path() : QString(), this);
    if (dialog.exec() != QDialog::Accepted) return;
    open(dialog.result().path);
    if (!dialog.result().notes.isEmpty()) showNotice(dialog.result().notes.join(" "));
}

/// What the person arranged the last time; the series and the budget are known to the document already.
void MainWindow::recallArranged() {
    const RecordingMemory before = rememberedOf(*document_.recording());
    if (!before.page.isEmpty()) drawer_->show(before.page);
    if (before.scope) selection_.chooseScope(*before.scope);
}

void MainWindow::keepArranged() {
    const auto& recording = document_.recording();
    if (!recording || !document_.explanation() || recording->growing) return;  // what grows is another file each time
    // A page about the selected marker or a search would be empty the next time.
    const bool ofSelection =
        drawer_->current().words().about == DrawerPage::About::Marker || drawer_->shown() == "search";
    RecordingMemory now{ofSelection ? rememberedOf(*recording).page : drawer_->shown(),
                        toQString(recording->series[document_.series()].name), document_.budget(),
                        selection_.scopeIsChosen() ? std::optional(selection_.scope()) : std::nullopt};
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
    arrangement_.takeRecording(*document_.recording());
    notesTrouble_.clear();
    document_.notes().open(document_.path(), document_.recording().get());
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
    if (const std::string why = document_.recording()->storage->whyInMemory(); !why.empty()) words << toQString(why);
    if (!notesTrouble_.isEmpty()) words.prepend(notesTrouble_);
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
    if (const QString measured = lanes_->measuredText(); !measured.isEmpty())
        words << measured;
    else if (selection_.instant())
        words << tr("instant %1").arg(toQString(exactText(*selection_.instant() - r.begin)));
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
    document_.notes().finish();
    event->accept();
}

}  // namespace fugato
