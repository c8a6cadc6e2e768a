// SPDX-License-Identifier: GPL-3.0-or-later
//
// The picture of the lanes, without a widget: nested markers of every lane on one time axis, and the
// accounting of the chosen frame as one line through them. Painting costs pixels times depth, not
// events: markers narrower than a pixel are summed up from the columns' running totals.
#pragma once

#include <QImage>
#include <QRect>
#include <QStaticText>
#include <optional>
#include <set>
#include <unordered_map>
#include <vector>

#include "core/ask/stretch.h"
#include "core/explain/model/explanation.h"
#include "row_content.h"
#include "track_picture.h"
#include "work_ahead.h"

class QPainter;

namespace fugato {

class LanePicture {
public:
    static constexpr int kHeaderHeight = 36;  // ruler and frames
    static constexpr int kLabelWidth = 112;
    static constexpr int kRowHeight = 17;
    static constexpr int kRail = 14;  // above the markers: the accounting line runs here
    static constexpr int kLaneGap = 5;
    static constexpr int kSlimHeight = 19;  // of a lane that makes room

    void setRecording(std::shared_ptr<const Recording> recording);
    void setExplanation(std::shared_ptr<const Explanation> explanation);
    void setFrame(uint32_t frame, uint32_t cause);
    void setMarker(const MarkerRef& marker) { marker_ = marker; }
    void setStretch(const std::optional<Stretch>& stretch) { stretch_ = stretch; }
    void setView(int64_t begin, int64_t end);
    void themeChanged() {
        texts_.clear();
        tracks_.themeChanged();
    }

    /// How high the lanes may be together to be in sight at once. Where the chosen frame's accounting runs
    /// through lanes farther apart, the others become slim, so that the whole line can be seen; where that is not
    /// enough, slim ones that follow each other become one.
    void setRoom(int room);
    void setGathering(bool gathering);
    bool slim(uint32_t lane) const { return lane < slim_.size() && slim_[lane]; }
    /// Until another frame is chosen. One that stands for several makes room for each of them.
    void openSlim(uint32_t lane);
    /// 1, or how many slim lanes it stands for; 0 where another does.
    size_t standsFor(uint32_t lane) const;
    /// Height of all lanes together, without the header.
    int height() const { return height_; }
    /// `area`: labels and time axis; `scrolled`: pixels of the lanes above its top.
    void paint(QPainter& painter, const QRect& area, int scrolled);

    MarkerRef markerAt(const QRect& area, int scrolled, const QPoint& at) const;
    /// What lies under a point that is no marker: a thread's state, a counter, a core…; or empty.
    QString wordsAt(const QRect& area, int scrolled, const QPoint& at) const;
    const TrackPicture& tracks() const { return tracks_; }
    /// Where a track of tracks() is drawn, label included.
    QRect trackRect(const QRect& area, int scrolled, size_t track) const;
    /// A lane nested very deeply shows its first rows only, and a line that opens or folds the others.
    bool folded(uint32_t lane) const;
    void toggleFold(uint32_t lane);
    /// Where that line is drawn; empty where there is none.
    QRect foldRect(const QRect& area, int scrolled, uint32_t lane) const;
    uint32_t laneAt(const QRect& area, int scrolled, int y) const;
    QRect laneRect(const QRect& area, int scrolled, uint32_t lane) const;
    /// Where a marker is drawn, cut to the area; empty where it is out of sight.
    QRect markerRect(const QRect& area, int scrolled, const MarkerRef& marker) const;
    double xAt(const QRect& area, int64_t time) const;
    int64_t timeAt(const QRect& area, double x) const;
    size_t markersShown() const { return shown_; }
    /// Markers of the last painting that lie on a disk still, and were drawn from their summaries.
    struct Missing {
        uint32_t lane, row, from, to;
    };
    const std::vector<Missing>& missing() const { return missing_; }
    /// Whether the next painting waits for what lies on a disk, once it has been sent for.
    void setWaits(bool waits) { waits_ = waits; }
    /// Draws from every marker, whatever that costs; to compare with.
    void setAllExact(bool exact) { allExact_ = exact; }
    const std::vector<Piece>& accounting() const { return pieces_; }

private:
    struct Place {
        int top = 0, height = 0;
    };
    void placeLanes();
    void placeAll();
    size_t rowsShown(uint32_t lane) const;
    double inkOf(const Lane& lane, PathId path) const;
    void paintHeader(QPainter& painter, const QRect& area);
    void paintLane(QPainter& painter, const QRect& area, const QRect& box, uint32_t lane);
    struct RowInSight {
        uint32_t lane, row;
        int top;
    };
    void workOutRows(const QRect& area, int scrolled);
    void paintRow(QPainter& painter, const QRect& axis, size_t inSight);
    void paintMarker(QPainter& painter, const QRect& axis, const QRectF& box, uint32_t lane, const MarkerRow& row,
                     uint32_t index);
    /// A name over many narrow markers of one path that stand side by side.
    void paintRunName(QPainter& painter, const QRect& axis, const QRectF& box, const RowContent::Run& run);
    double inkAt(uint32_t lane, const MarkerRow& row, uint32_t first, uint32_t last) const;
    void paintTrack(QPainter& painter, const QRect& area, const QRect& box, size_t track);
    void paintLabel(QPainter& painter, const QRect& area, const QRect& box, const QString& name, const QString& detail,
                    bool strong);
    TimeAxis timeAxis(const QRect& area, const QRect& box) const;
    void paintUnread(QPainter& painter, const QRect& axis, const QRect& box, const Lane& lane);
    void paintStrikes(QPainter& painter, const QRect& area, const QRect& box, const Lane& lane);
    void paintStarved(QPainter& painter, const QRect& area, const QRect& box, uint32_t lane);
    void paintAccounting(QPainter& painter, const QRect& area, int scrolled);
    void paintStretch(QPainter& painter, const QRect& area);
    void paintFrameEdges(QPainter& painter, const QRect& area);
    const QStaticText& text(uint32_t site, int characters);
    int fitting(uint32_t site, double width);
    QRect axisOf(const QRect& area) const { return area.adjusted(kLabelWidth, kHeaderHeight, 0, 0); }

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Explanation> explanation_;
    uint32_t frame_ = kNone, cause_ = kNone;
    MarkerRef marker_;
    std::optional<Stretch> stretch_;
    int64_t begin_ = 0, end_ = 1;
    TrackPicture tracks_;
    std::vector<Place> trackPlaces_;
    std::vector<Place> places_;
    std::set<uint32_t> unfolded_;
    int height_ = 0;
    std::vector<RowInSight> rowsInSight_;  // of this painting, in the order of lanes
    std::vector<RowContent> contents_;     // theirs
    std::optional<WorkAhead> rowsAhead_;
    size_t nextRow_ = 0;  // in rowsInSight_
    size_t shown_ = 0;
    std::vector<Missing> missing_;
    bool allExact_ = false, waits_ = false;
    std::vector<bool> onAccounting_;  // by lane
    std::vector<bool> slim_;          // by lane
    std::vector<uint32_t> standIn_;   // by lane: itself, or the slim lane that stands for it
    bool bunched_ = false;            // slim lanes that follow each other are one
    std::set<uint32_t> opened_;       // lanes that stay as they are
    std::set<uint32_t> spread_;       // slim lanes that stand for themselves
    int room_ = 0;
    bool gathering_ = true;
    std::vector<Piece> pieces_;                        // of the chosen frame, latest first
    std::vector<Piece> starved_;                       // those of CPU contention, where that made it late
    std::unordered_map<uint64_t, double> ink_;         // group and path → strength
    std::vector<std::vector<float>> widths_;           // by site: width of its first n characters
    std::unordered_map<uint64_t, QStaticText> texts_;  // site and number of characters
};

}  // namespace fugato
