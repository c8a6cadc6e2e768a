// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where every lane, row, marker and track of the lanes' picture stands, and what lies at a point; nothing is painted
// here. What the person arranged (app/selection/lane_arrangement.h) goes by the lanes' keys, so that it stays when the
// recording grows or is opened again.
#pragma once

#include <QPoint>
#include <QRect>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include "app/selection/lane_arrangement.h"
#include "core/model/recording.h"

namespace fugato {

class LaneLayout {
public:
    static constexpr int kHeaderHeight = 36;                                               // ruler and frames
    static constexpr int kLabelWidth = 112, kLeastLabelWidth = 48, kMostLabelWidth = 420;  // usual, and limits
    static constexpr int kRowHeight = 17;
    static constexpr int kRail = 14;  // above the markers: the critical path runs here
    static constexpr int kLaneGap = 5;
    static constexpr int kSlimHeight = 19;  // of a lane that makes room

    /// Lanes have rows for what is nested that deep in view; `steady`: and keep those that they have. Whether anything
    /// moved by that.
    bool setView(int64_t begin, int64_t end, bool steady = false);
    /// The same of the view it has, once more of the recording is at hand.
    bool measureAgain();
    void setLabelWidth(int width);
    int labelWidth() const { return labelWidth_; }
    /// Opens a lane, with all its rows, so that a marker of this row has a place.
    void reveal(uint32_t lane, uint32_t row);
    /// Lanes with a place of their own, from top to bottom.
    std::vector<uint32_t> lanesFromTop() const;
    /// How high the lanes may be together to be in sight at once. Where the selected frame's critical path runs
    /// through lanes farther apart, the others become slim, so that the whole line can be seen; where that is not
    /// enough, slim ones that follow each other become one.
    void setRoom(int room);
    void setGathering(bool gathering);
    void setArrangement(const LaneArrangement& arrangement);
    const LaneArrangement& arrangement() const { return arrangement_; }
    /// By lane, for the orders that need one; empty: as recorded.
    void setWeights(std::vector<int64_t> weights);
    const LaneKeys& keys() const { return keys_; }
    /// From top to bottom, hidden ones too.
    const std::vector<uint32_t>& order() const { return order_; }
    /// Not shown, since the person hid it, and no marker of it was gone to since.
    bool hidden(uint32_t lane) const;
    size_t hiddenLanes() const;
    bool pinned(uint32_t lane) const { return arrangement_.pinned.count(keys_.lanes[lane]) > 0; }
    /// Stays at the top while the others are scrolled: pinned, where those leave room for the others.
    bool fixed(uint32_t lane) const { return places_[lane].top < pinnedHeight_ && places_[lane].height > 0; }
    /// Folded by the person, by itself or with its group.
    bool foldedByHand(uint32_t lane) const;
    /// The lane before which one stands that is dropped at a height; kNone: behind the last.
    uint32_t laneBelow(const QRect& area, int scrolled, int y) const;
    bool slim(uint32_t lane) const { return lane < slim_.size() && slim_[lane]; }
    /// Until another frame is selected. One that stands for several makes room for each of them. Not of lanes that the
    /// person folded.
    void openSlim(uint32_t lane);
    /// Threads without markers are one slim lane until they are opened, and then a slim one each.
    bool fromSystem(uint32_t lane) const { return recording_->lanes[lane].fromSystem; }
    /// 1, or how many slim lanes it stands for; 0 where another does.
    size_t standsFor(uint32_t lane) const;
    std::vector<uint32_t> lanesIn(uint32_t lane) const;  // those
    /// Height of all lanes together, without the header.
    int height() const { return height_; }

    /// A lane nested very deeply shows its first rows only, and a line that opens or folds the others.
    bool folded(uint32_t lane) const;
    void foldRevealed(uint32_t lane);  // what reveal() opened

    // `area`: labels and time axis; `scrolled`: pixels of the lanes above its top.
    /// Where the line that folds is drawn; empty where there is none.
    QRect foldRect(const QRect& area, int scrolled, uint32_t lane) const;
    uint32_t laneAt(const QRect& area, int scrolled, int y) const;
    QRect laneRect(const QRect& area, int scrolled, uint32_t lane) const;
    /// Where a track below the lanes is drawn, label included.
    QRect trackRect(const QRect& area, int scrolled, size_t track) const;
    /// The longest marker that touches a point.
    MarkerRef markerAt(const QRect& area, int scrolled, const QPoint& at) const;
    /// Where a marker is drawn, cut to the area; empty where it is out of sight.
    QRect markerRect(const QRect& area, int scrolled, const MarkerRef& marker) const;
    /// The middle of a row of a lane, or of what stands in its place where it is slim.
    double yOf(const QRect& area, int scrolled, uint32_t lane, uint32_t row) const;
    /// Below the lanes that stay at the top.
    QRect scrolledPart(const QRect& area) const { return axisOf(area).adjusted(0, pinnedHeight_, 0, 0); }
    QRect axisOf(const QRect& area) const { return area.adjusted(labelWidth_, kHeaderHeight, 0, 0); }
    double xAt(const QRect& area, int64_t time) const;
    int64_t timeAt(const QRect& area, double x) const;
    int64_t begin() const { return begin_; }
    int64_t end() const { return end_; }

protected:
    ~LaneLayout() = default;
    /// Lanes that hold nothing of what is shown: they are one slim line; empty: none are so.
    void setLeftOut(std::vector<bool> lanes);
    /// Whether markers of a path are shown at all.
    virtual bool shows(PathId) const { return true; }
    int pinnedHeight() const { return pinnedHeight_; }
    /// `same`: another state of the recording before.
    void layOut(std::shared_ptr<const Recording> recording, std::vector<int> trackHeights, bool same);
    /// The lanes of the critical path; what was opened for another frame is closed again.
    void setOnPath(std::vector<bool> onPath, bool sameFrame);
    bool leftOut(uint32_t lane) const { return lane < leftOut_.size() && leftOut_[lane]; }
    bool onPath(uint32_t lane) const { return lane < onPath_.size() && onPath_[lane]; }
    bool foldable(uint32_t lane) const;
    size_t rowsShown(uint32_t lane) const;
    size_t rowsFolded(uint32_t lane) const;  // in view, that a folded lane does not show
    uint32_t laneCount() const { return static_cast<uint32_t>(places_.size()); }
    size_t trackCount() const { return trackPlaces_.size(); }
    bool hasPlace(uint32_t lane) const { return places_[lane].height > 0; }

private:
    struct Place {
        int top = 0, height = 0;
    };
    bool measureDepth(bool steady);
    void placeLanes();
    void placeAll();
    bool pathFits() const;
    uint64_t bunchOf(uint32_t lane) const;

    std::shared_ptr<const Recording> recording_;
    LaneKeys keys_;
    LaneArrangement arrangement_;
    std::vector<int64_t> weights_;  // by lane
    std::vector<uint32_t> order_;
    std::vector<int> trackHeights_;
    int64_t begin_ = 0, end_ = 1;
    std::vector<Place> places_, trackPlaces_;
    int height_ = 0, pinnedHeight_ = 0, room_ = 0, labelWidth_ = kLabelWidth;
    std::vector<uint32_t> depth_;  // by lane: rows with a marker in view
    bool gathering_ = true, steady_ = false;
    std::vector<bool> onPath_, slim_, leftOut_;  // by lane
    std::vector<uint32_t> standIn_;              // by lane: itself, or the slim lane that stands for it
    bool systemOpened_ = false;                  // threads without markers stand for themselves
    bool bunched_ = false;                       // slim lanes that follow each other are one
    std::set<std::string> revealed_;             // keys: their deeper rows are open, since a marker of them was gone to
    std::set<std::string> opened_, separate_;    // keys: stay as they are; slim, but stand for themselves
};

}  // namespace fugato
