// SPDX-License-Identifier: GPL-3.0-or-later
//
// The lanes in the middle: scrolls, zooms, pans, tells what is under the pointer.
#pragma once

#include <QAbstractScrollArea>
#include <QMenu>
#include <functional>

#include "app/parts/painted_parts.h"
#include "app/selection/selection.h"
#include "app/work/background_query.h"
#include "app/work/pace.h"
#include "core/ask/edges.h"
#include "core/explain/words/marker_words.h"
#include "lane_picture.h"
#include "marker_steps.h"

namespace fugato {

class Document;
class SelectedFrame;

class LanesView : public QAbstractScrollArea {
    Q_OBJECT
public:
    LanesView(Document& document, Selection& selection, SelectedFrame& selected, ArrangedLanes& arrangement,
              QWidget* parent = nullptr);
    ~LanesView() override;
    void setGathering(bool gathering);
    /// Whether other programs have tracks below the lanes, where the recording tells of them.
    void setPrograms(bool shown);
    LanePicture& picture() { return picture_; }
    int scrolled() const;
    bool busy() const { return telling_.busy() || programs_.busy() || connecting_.busy() || stepping_.busy(); }
    /// What the selected marker is connected with, once that is known; else null.
    const std::shared_ptr<const Connections>& connections() const { return connections_; }
    /// Goes to the other end of a connection of the selected marker; where there are several, asks which.
    void goAlong();
    void goTo(const Connection& connection);
    /// Measures from the chosen instant on, else from the selected marker's begin; or no longer.
    void measure();
    /// What is measured, exact: from, to, and the time between; empty where nothing is.
    QString measuredText() const;
    /// Moves the chosen instant to the next or previous edge; of markers, on the selected marker's lane.
    void stepInstant(EdgeOf of, bool forward);
    /// As wide as shown and as high as all lanes and tracks are, or only what is in sight.
    QSize sizeOfAll() const;
    void paintTo(QPainter& painter, bool all);
    /// What the person is told about a marker, marked up for a tooltip.
    static QString tipOf(const MarkerWords& words);
    // How the lanes are arranged: of the selected lane, that of the selected marker or whose label was clicked.
    void hideLane();
    void pinLane();   // stays at the top, or no longer
    void foldLane();  // to one slim line, or opens it
    void foldRole();  // all lanes of its role to one line, or opens them
    void moveLane(int by);
    void showAllLanes();
    void orderBy(LaneOrder order);
    void keepRolesTogether(bool together);
    void keepProgramsTogether(bool together);
    /// What can be done with lanes, for menus.
    void fillLaneMenu(QMenu& menu);
    /// The lanes and the markers in view that are drawn by themselves.
    const PaintedParts& parts() const { return *parts_; }
    /// Scrolls so far that a lane is in sight.
    void showLane(uint32_t lane);
    /// Scrolls so that the lanes of the selected frame's critical path are in sight, as far as they fit.
    void showCriticalPath();

signals:
    void painted();
    /// The person wants the occurrences of the selected marker listed.
    void occurrencesWanted();
    void connectionsChanged();
    void noteWanted();  // on what is selected
    void said(const QString& sentence);

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void changeEvent(QEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    bool viewportEvent(QEvent* event) override;
    void scrollContentsBy(int dx, int dy) override;

private:
    void takeRecording();
    void catchUp();
    void takeChoice();
    void takeView();
    void keepingPlace(const std::function<bool()>& change);
    void setRanges();
    void reveal(const MarkerRef& marker);
    void step(MarkerStep step);
    std::vector<PaintedPart> listParts();
    QString nameOf(const MarkerRef& marker) const;
    bool onLabelEdge(const QPoint& at) const;
    bool arrange(const QPoint& at);
    void openSlim(uint32_t lane);
    void arrangementChanged();
    void takeArrangement();
    void takeWeights();
    void lookAtLane(uint32_t lane);
    void placeLanes(const std::vector<uint32_t>& lanes, uint32_t before, bool pins);
    void dragLane(const QPoint& at);
    void dropLane(const QPoint& at);
    bool onLabel(const QPoint& at) const;
    std::string selectedKey() const;
    void toggleFold(const std::string& key);
    void fillLeftOutMenu(QMenu& menu);
    void addKeeping(QMenu& menu, const MarkerRef& marker);
    void addTints(QMenu& menu, const QString& name, const std::string& what);
    void fetchMissing();
    void fetchPrograms();
    void takeInstant();
    void connectMarker();
    int64_t timeNear(const QPoint& at) const;
    int64_t instantOrBegin() const;
    uint32_t selectedLane() const;
    void clickAt(const QPoint& at);
    void fillMenu(QMenu& menu, const QPoint& at, const MarkerRef& marker);
    void addMarkerActions(QMenu& menu, const MarkerRef& marker);
    void addConnections(QMenu& menu);
    void addInstantActions(QMenu& menu, int64_t time);
    void copyText(const QString& text) const;
    void tellMarker(const MarkerRef& marker, const QPoint& at);

    Document& document_;
    Selection& selection_;
    SelectedFrame& selected_;
    ArrangedLanes& arrangement_;
    LanePicture picture_;
    int opened_ = 0;  // of the document's recordings
    PaintedParts* parts_;
    uint32_t shownFrame_ = kNone;
    MarkerRef shownMarker_;
    uint32_t draggedLane_ = kNone;
    bool dragging_ = false, moved_ = false, choosing_ = false, widening_ = false;
    QPoint pressedAt_;
    View pressedView_;
    int pressedScroll_ = 0;
    bool fetching_ = false;
    std::shared_ptr<Task> fetcher_;
    BackgroundQuery telling_, programs_, connecting_, stepping_;
    std::shared_ptr<const Connections> connections_;
    MarkerRef connected_;
    std::weak_ptr<const Recording> connectedIn_;
    Pace connectPace_{1000, 50};
    std::optional<int64_t> pointedTime_;  // while one measures
    bool programsShown_ = false;
    QPoint pointedAt_{-1, -1};
};

}  // namespace fugato
