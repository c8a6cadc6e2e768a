// SPDX-License-Identifier: GPL-3.0-or-later
//
// The picture of the lanes, without a widget: nested markers of every lane on one time axis, and the
// critical path of the selected frame as one line through them. Painting costs pixels times depth, not
// events: markers narrower than a pixel are summed up from the columns' running totals.
#pragma once

#include <QImage>
#include <QRegion>
#include <optional>
#include <vector>

#include "app/selection/selection.h"
#include "app/work/work_ahead.h"
#include "core/ask/connections.h"
#include "core/ask/time_range.h"
#include "core/explain/words/explained_frame.h"
#include "lane_layout.h"
#include "marker_names.h"
#include "row_content.h"
#include "track_picture.h"

class QPainter;

namespace fugato {

class LanePicture final : public LaneLayout {
public:
    /// `same`: another state of the recording before; what is folded and opened stays.
    void setRecording(std::shared_ptr<const Recording> recording, bool same = false);
    const std::shared_ptr<const Recording>& recording() const { return recording_; }
    const std::shared_ptr<const Explanation>& explanation() const { return explanation_; }
    /// Other programs as tracks below the lanes; null: none.
    void setPrograms(std::shared_ptr<const OtherProgramList> programs);
    void setExplanation(std::shared_ptr<const Explanation> explanation, uint32_t cause = kNone);
    void setArrangement(const LaneArrangement& arrangement);
    /// Markers that the others are faded beside, or that alone are shown; null: all are shown.
    void setInFocus(std::shared_ptr<const MarkersInFocus> kept);
    void setSelectedLane(uint32_t lane) { selectedLane_ = lane; }
    /// Where a lane that is dragged would be dropped; or kNoDrop.
    static constexpr int kNoDrop = -1;
    void setDropLine(int y) { dropLine_ = y; }
    /// In the corner above the labels: what of the picture is left out.
    QString leftOut() const;
    QRect leftOutRect(const QRect& area) const;
    size_t hiddenTracks() const;
    /// The track under a place, or none.
    std::optional<size_t> trackAt(const QRect& area, int scrolled, const QPoint& at) const;
    void setSymbols(std::shared_ptr<const Symbols> symbols) { tracks_.setSymbols(std::move(symbols)); }
    /// The selected frame, or null; and the selected cause.
    void setFrame(std::shared_ptr<const ExplainedFrame> frame, uint32_t cause);
    const std::shared_ptr<const ExplainedFrame>& frame() const { return explained_; }
    void setMarker(const MarkerRef& marker) { marker_ = marker; }
    void setRange(const std::optional<TimeRange>& range) { range_ = range; }
    /// Lines through all lanes: the chosen instant, and from where to where one measures.
    struct Marks {
        std::optional<int64_t> instant, anchor, to;
        bool operator==(const Marks&) const = default;
    };
    void setMarks(const Marks& marks) { marks_ = marks; }
    /// What the selected marker is connected with; null: not known.
    void setConnections(std::shared_ptr<const Connections> connections) { connections_ = std::move(connections); }
    void themeChanged() {
        names_.forget();
        tracks_.themeChanged();
    }

    void paint(QPainter& painter, const QRect& area, int scrolled);

    /// What lies under a point that is no marker: a thread's state, a counter, a core…; or empty.
    QString wordsAt(const QRect& area, int scrolled, const QPoint& at) const;
    /// The point under the pointer, or null.
    const Point* pointAt(const QRect& area, int scrolled, const QPoint& at) const;
    const TrackPicture& tracks() const { return tracks_; }
    size_t markersShown() const { return shown_; }
    /// Markers of the last painting that were wide enough to be drawn by themselves.
    std::vector<MarkerRef> drawnAlone() const;
    /// "main", or what several slim lanes are together; and beside it how busy it was in view.
    QString labelOf(uint32_t lane) const;
    QString detailOf(uint32_t lane) const;
    /// Markers of the last painting that lie on a disk still, and were drawn from their summaries.
    struct Missing {
        uint32_t lane, row, from, to;
    };
    const std::vector<Missing>& missing() const { return missing_; }
    /// Whether the next painting waits for what lies on a disk, once it has been sent for.
    void setWaits(bool waits) { waits_ = waits; }
    /// Draws from every marker, whatever that costs; to compare with.
    void setAllExact(bool exact) { allExact_ = exact; }

private:
    void layOutTracks(bool same);
    void numberPaths();
    void leaveOutLanes();
    bool shows(PathId path) const override { return !inFocus_ || !inFocus_->alone || focusedPaths_[path]; }
    void paintGround(QPainter& painter, const QRect& area, const QRect& part);
    void paintLanes(QPainter& painter, const QRect& area, int scrolled, bool fixed);
    void addRows(const QRect& area, int scrolled, bool fixed);
    void paintHeader(QPainter& painter, const QRect& area);
    int64_t rulerZero() const;
    int64_t rulerStep(const QRect& area) const;
    void paintLane(QPainter& painter, const QRect& area, const QRect& box, uint32_t lane);
    struct RowInSight {
        uint32_t lane, row;
        int top;
        uint32_t shownIn;  // the lane in whose place it is drawn: another where slim lanes are one
        bool slim;         // only how dense it is
    };
    void workOutRows(const QRect& area, int scrolled);
    void paintSlimRow(QPainter& painter, const QRect& axis, size_t inSight);
    void paintRow(QPainter& painter, const QRect& axis, size_t inSight);
    void paintMarker(QPainter& painter, const QRect& axis, const QRectF& box, uint32_t lane, const MarkerRow& row,
                     uint32_t index);
    /// A name over many narrow markers of one path that stand side by side.
    void paintRunName(QPainter& painter, const QRect& axis, const QRectF& box, const RowContent::Run& run);
    double highlightAt(uint32_t lane, const MarkerRow& row, uint32_t first, uint32_t last) const;
    void paintTrack(QPainter& painter, const QRect& area, const QRect& box, size_t track);
    void paintLabel(QPainter& painter, const QRect& area, const QRect& box, const QString& name, const QString& detail,
                    bool strong, bool selected = false);
    TimeAxis timeAxis(const QRect& area, const QRect& box) const;
    void paintUnread(QPainter& painter, const QRect& axis, const QRect& box, const Lane& lane);
    void paintStrikes(QPainter& painter, const QRect& area, const QRect& box, const Lane& lane);
    void paintStarved(QPainter& painter, const QRect& area, const QRect& box, uint32_t lane);
    void paintCriticalPath(QPainter& painter, const QRect& area, int scrolled);
    void paintRange(QPainter& painter, const QRect& area);
    QRegion besideWords(const QRect& clip, const std::vector<double>& lines) const;
    void paintFrameEdges(QPainter& painter, const QRect& area, bool onRuler);
    void paintConnections(QPainter& painter, const QRect& area, int scrolled);
    void paintMarks(QPainter& painter, const QRect& area);
    void paintTimeFlag(QPainter& painter, const QRect& area, double x, const QString& words);

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Explanation> explanation_;
    std::shared_ptr<const ExplainedFrame> explained_;
    uint32_t cause_ = kNone;
    MarkerRef marker_;
    std::optional<TimeRange> range_;
    std::shared_ptr<const MarkersInFocus> inFocus_;
    std::vector<uint8_t> focusedPaths_, tints_;  // by path: whether it is kept; its tint, 0: none
    uint32_t selectedLane_ = kNone;
    int dropLine_ = kNoDrop;
    Marks marks_;
    std::shared_ptr<const Connections> connections_;
    TrackPicture tracks_;
    MarkerNames names_;
    std::vector<RowInSight> rowsInSight_;  // of this painting, in the order of lanes
    std::vector<RowContent> contents_;     // theirs
    std::optional<WorkAhead> rowsAhead_;
    size_t nextRow_ = 0;  // in rowsInSight_
    size_t shown_ = 0;
    std::vector<QRectF> words_;  // where some stand, in this painting
    std::vector<Missing> missing_;
    bool allExact_ = false, waits_ = false;
};

}  // namespace fugato
