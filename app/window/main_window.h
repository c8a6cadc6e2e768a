// SPDX-License-Identifier: GPL-3.0-or-later
//
// The window: places the panels, holds the menus, remembers its state. What panels do is their own.
#pragma once

#include <QMainWindow>

#include "app/document/document.h"
#include "app/pictures/view_picture.h"
#include "app/record/device_link.h"
#include "app/record/recording_session.h"
#include "app/selection/selected_frame.h"
#include "app/selection/undo.h"
#include "commands.h"

class QLabel;
class QProgressBar;
class QSplitter;

namespace fugato {

class CausesPanel;
class LanesView;
class Drawer;
class OverrunStrip;
class PageWindows;
class ScopeBar;
class SessionBar;
class StartPage;
class VerdictBar;
class WhyPanel;

class MainWindow : public QMainWindow {
    Q_OBJECT
public:
    MainWindow();
    ~MainWindow() override;

    void open(const QString& path);
    Document& document() { return document_; }
    Selection& selection() { return selection_; }
    OverrunStrip& strip() { return *strip_; }
    CausesPanel& causes() { return *causes_; }
    LanesView& lanes() { return *lanes_; }
    WhyPanel& why() { return *why_; }
    Drawer& drawer() { return *drawer_; }
    ScopeBar& scopeBar() { return *scopeBar_; }
    PageWindows& pageWindows() { return *pageWindows_; }
    StartPage& startPage() { return *start_; }
    /// Tells the figures of the first marker whose name holds `words`.
    void findMarker(const QString& words);
    /// Selects the next or previous occurrence of the selected marker, wherever it lies.
    void stepOccurrence(bool forward);
    /// Gives the keyboard to the next panel, or the one before.
    void stepPanel(int by);
    /// Whether something of what is shown is still being worked out.
    bool asking() const;
    VerdictBar& verdict() { return *verdict_; }
    QString notice() const;
    QString statusText() const;
    RecordingSession& session() { return session_; }
    SessionBar& sessionBar() { return *sessionBar_; }

    /// What can be saved as a picture now.
    QList<ViewPicture> views();
    /// Every key the window and its panels listen to.
    const Commands& commands() const { return commands_; }

protected:
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dropEvent(QDropEvent* event) override;
    void closeEvent(QCloseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

private:
    void makePanels();
    void connectPanels();
    void makeFileMenu();
    void makeRecordMenu();
    void makeEditMenu();
    void makeGoMenu();
    void makeInstantMenu(QMenu* menu);
    void makeSourceMenu(QMenu* menu);
    void makeWhatIfMenu();
    void makeViewMenu();
    void makeLanesMenu(QMenu* menu);
    void makeLookMenu(QMenu* view);
    void makeRoomMenu(QMenu* view);
    void makeTablesMenu();
    void makeHelpMenu();
    void makeProgress();
    void takeRecording();
    void recallArranged();
    void keepArranged();
    void arrangePanels();
    void enlargeTables(bool on);
    void showStart(bool shown);
    void fitScreen();
    void showDamage();
    void showNotice(const QString& words);
    void showStatus();
    void showTheme();
    void rememberRecent(const QString& path);
    void fillRecent();
    void chooseFile();
    void startProgram(const Launch& launch);
    void askForProgram();
    void askToJoin(const std::optional<RunningProgram>& program);
    void showKeys();
    void showAbout();
    void askMemoryLimit();
    void askForPicture();
    void askToMerge();
    void openSource(const SourcePlace& place);
    SourcePlace selectedSource() const;
    void askForEditor();
    void askForNote(const std::string& id);
    void takeNotes();

    Document document_;
    Selection selection_;
    SelectedFrame selected_{document_, selection_};
    ArrangedLanes arrangement_;  // of the lanes
    Undo undo_{document_, selection_, arrangement_};
    VerdictBar* verdict_ = nullptr;
    OverrunStrip* strip_ = nullptr;
    CausesPanel* causes_ = nullptr;
    LanesView* lanes_ = nullptr;
    WhyPanel* why_ = nullptr;
    Drawer* drawer_ = nullptr;
    StartPage* start_ = nullptr;
    ScopeBar* scopeBar_ = nullptr;
    PageWindows* pageWindows_ = nullptr;
    QAction* tablesLarge_ = nullptr;
    QSplitter *across_ = nullptr, *middle_ = nullptr;
    QWidget *notice_ = nullptr, *progress_ = nullptr;
    QLabel *noticeWords_ = nullptr, *progressWords_ = nullptr, *status_ = nullptr, *hints_ = nullptr;
    QProgressBar* progressBar_ = nullptr;
    QMenu* recent_ = nullptr;
    Commands commands_;
    QString followed_;            // the recording that is made from here
    bool windowsOpened_ = false;  // those of the last time
    QString notesTrouble_;        // why the notes of this recording are not kept
    bool noticeClosed_ = false;   // that of this recording: it stays closed while the recording grows
    BackgroundQuery finding_, stepping_, opening_;
    RecordingSession session_;
    DeviceLink device_;
    SessionBar* sessionBar_ = nullptr;
};

}  // namespace fugato
