// SPDX-License-Identifier: GPL-3.0-or-later
#include "lane_layout.h"

#include <algorithm>
#include <climits>
#include <cmath>

namespace fugato {

namespace {
constexpr size_t kMostRows = 24;  // of a lane, before it is folded
}

void LaneLayout::layOut(std::shared_ptr<const Recording> recording, std::vector<int> trackHeights, bool same) {
    recording_ = std::move(recording);
    trackHeights_ = std::move(trackHeights);
    keys_ = recording_ ? LaneKeys(*recording_) : LaneKeys();
    if (!same) {
        weights_.clear();
        revealed_.clear();
        opened_.clear();
        separate_.clear();
        systemOpened_ = false;
    }
    measureDepth(false);
    same && !onPath_.empty() ? onPath_.resize(keys_.lanes.size()) : onPath_.clear();
    placeLanes();
}

void LaneLayout::setOnPath(std::vector<bool> onPath, bool sameFrame) {
    onPath_ = std::move(onPath);
    if (!sameFrame) {
        opened_.clear();
        separate_.clear();
    }
    placeLanes();
}

bool LaneLayout::foldable(uint32_t lane) const { return depth_[lane] > kMostRows + 1; }

size_t LaneLayout::rowsShown(uint32_t lane) const {
    if (slim(lane)) return 0;
    return folded(lane) ? kMostRows : depth_[lane];
}

size_t LaneLayout::rowsFolded(uint32_t lane) const { return depth_[lane] - kMostRows; }

/// How many rows of each lane have a marker in view. Where that cannot be told at once, it is taken for so.
bool LaneLayout::measureDepth(bool steady) {
    std::vector<uint32_t> depth(recording_ ? recording_->lanes.size() : 0, 0);
    for (uint32_t lane = 0; lane < depth.size(); ++lane) {
        for (const MarkerRow& row : recording_->lanes[lane].rows) {
            if (row.empty()) break;
            const uint32_t group = row.groupBefore(end_);  // only what lies in it is looked at one by one
            const int64_t groupBegin = row.groups()[group >> MarkerRow::kGroupBits].begin;
            if (groupBegin >= end_) break;
            if (groupBegin < begin_ && row.resident(group, group + 1)) {
                const auto [first, past] = row.overlapping(begin_, end_);
                if (first >= past) break;
            }
            ++depth[lane];
        }
        if (steady && lane < depth_.size()) depth[lane] = std::max(depth[lane], depth_[lane]);
    }
    if (depth == depth_) return false;
    depth_ = std::move(depth);
    return true;
}

void LaneLayout::setLabelWidth(int width) { labelWidth_ = std::clamp(width, kLeastLabelWidth, kMostLabelWidth); }

void LaneLayout::reveal(uint32_t lane, uint32_t row) {
    if (fromSystem(lane)) {
        systemOpened_ = systemOpened_ || standsFor(lane) != 1;
        return placeLanes();
    }
    const bool away = slim(lane) || standsFor(lane) == 0, deep = folded(lane) && row >= kMostRows;
    if (away) opened_.insert(keys_.lanes[lane]);
    if (deep) revealed_.insert(keys_.lanes[lane]);
    if (away || deep) placeLanes();
}

std::vector<uint32_t> LaneLayout::lanesFromTop() const {
    std::vector<uint32_t> lanes;
    if (recording_)
        for (const uint32_t lane : order_)
            if (recording_->lanes[lane].kind != LaneKind::Core && places_[lane].height > 0) lanes.push_back(lane);
    return lanes;
}

bool LaneLayout::folded(uint32_t lane) const {
    return foldable(lane) && !arrangement_.unfolded.count(keys_.lanes[lane]) && !revealed_.count(keys_.lanes[lane]);
}

bool LaneLayout::hidden(uint32_t lane) const {
    return arrangement_.hidden.count(keys_.lanes[lane]) && !opened_.count(keys_.lanes[lane]);
}

size_t LaneLayout::hiddenLanes() const {
    size_t count = 0;
    if (arrangement_.hidden.empty()) return 0;
    for (uint32_t lane = 0; recording_ && lane < recording_->lanes.size(); ++lane)
        count += recording_->lanes[lane].kind != LaneKind::Core && hidden(lane);
    return count;
}

bool LaneLayout::foldedByHand(uint32_t lane) const {
    const uint32_t group = recording_->lanes[lane].group;
    return arrangement_.folded.count(keys_.lanes[lane]) ||
           (group < keys_.groups.size() && arrangement_.folded.count(keys_.groups[group]));
}

QRect LaneLayout::foldRect(const QRect& area, int scrolled, uint32_t lane) const {
    if (!foldable(lane) || slim(lane)) return {};
    const QRect box = laneRect(area, scrolled, lane);
    return {axisOf(area).left(), box.top() + kRail + static_cast<int>(rowsShown(lane)) * kRowHeight,
            axisOf(area).width(), kRowHeight};
}

void LaneLayout::setArrangement(const LaneArrangement& arrangement) {
    arrangement_ = arrangement;
    opened_.clear();
    placeLanes();
}

void LaneLayout::setLeftOut(std::vector<bool> lanes) {
    if (lanes == leftOut_) return;
    leftOut_ = std::move(lanes);
    opened_.clear();
    separate_.clear();
    placeLanes();
}

void LaneLayout::foldRevealed(uint32_t lane) {
    if (revealed_.erase(keys_.lanes[lane])) placeLanes();
}

void LaneLayout::setWeights(std::vector<int64_t> weights) {
    if (weights == weights_) return;
    weights_ = std::move(weights);
    placeLanes();
}

void LaneLayout::setRoom(int room) {
    if (room == room_) return;
    room_ = room;
    placeLanes();
}

void LaneLayout::setGathering(bool gathering) {
    gathering_ = gathering;
    opened_.clear();
    separate_.clear();
    placeLanes();
}

void LaneLayout::openSlim(uint32_t lane) {
    if (fromSystem(lane) && !onPath(lane) && !leftOut(lane)) {
        systemOpened_ = !systemOpened_;
        return placeLanes();
    }
    if (standsFor(lane) == 1) {
        opened_.insert(keys_.lanes[lane]);
    } else {
        for (uint32_t other = 0; other < standIn_.size(); ++other)
            if (standIn_[other] == lane) separate_.insert(keys_.lanes[other]);
    }
    placeLanes();
}

size_t LaneLayout::standsFor(uint32_t lane) const {
    return static_cast<size_t>(std::count(standIn_.begin(), standIn_.end(), lane));
}

std::vector<uint32_t> LaneLayout::lanesIn(uint32_t lane) const {
    std::vector<uint32_t> lanes;
    for (uint32_t other = 0; other < standIn_.size(); ++other)
        if (standIn_[other] == lane) lanes.push_back(other);
    return lanes;
}

/// Whether the whole critical path can be in sight at once.
bool LaneLayout::pathFits() const {
    int first = INT_MAX, last = 0;
    for (uint32_t lane = 0; lane < onPath_.size(); ++lane) {
        if (!onPath_[lane]) continue;
        first = std::min(first, places_[lane].top);
        last = std::max(last, places_[lane].top + places_[lane].height);
    }
    return last - first <= room_;
}

void LaneLayout::placeLanes() {
    slim_.assign(recording_ ? recording_->lanes.size() : 0, false);
    order_ = recording_ ? orderOf(*recording_, keys_, arrangement_, weights_) : std::vector<uint32_t>();
    const auto asPut = [&](uint32_t lane) {
        return (foldedByHand(lane) || leftOut(lane)) && !opened_.count(keys_.lanes[lane]);
    };
    for (uint32_t lane = 0; lane < slim_.size(); ++lane)
        slim_[lane] = (fromSystem(lane) && !onPath(lane)) || asPut(lane);
    bunched_ = false;
    placeAll();
    if (!gathering_ || room_ <= 0 || onPath_.empty() || pathFits()) return;
    for (uint32_t lane = 0; lane < slim_.size(); ++lane) {
        const bool stays = onPath(lane) || pinned(lane) || (opened_.count(keys_.lanes[lane]) && !fromSystem(lane));
        slim_[lane] = asPut(lane) || !stays;
    }
    placeAll();
    if (pathFits()) return;
    bunched_ = true;
    placeAll();
}

/// What slim lanes that follow each other stand for together; 0: a lane stands for itself.
uint64_t LaneLayout::bunchOf(uint32_t lane) const {
    constexpr uint64_t kOfSystem = 1, kBesidePath = 2, kLeftOut = 3, kOfGroup = 4, kAtTop = uint64_t{1} << 40;
    const uint64_t top = pinned(lane) ? kAtTop : 0;
    if (!slim(lane)) return 0;
    const uint32_t group = recording_->lanes[lane].group;
    if (group < keys_.groups.size() && arrangement_.folded.count(keys_.groups[group])) return top + kOfGroup + group;
    if (leftOut(lane)) return separate_.count(keys_.lanes[lane]) ? 0 : top + kLeftOut;
    if (fromSystem(lane)) return systemOpened_ ? 0 : top + kOfSystem;
    return bunched_ && !separate_.count(keys_.lanes[lane]) ? top + kBesidePath : 0;
}

/// Where every lane and track stands, one below the other.
void LaneLayout::placeAll() {
    places_.assign(recording_ ? recording_->lanes.size() : 0, {});
    standIn_.assign(places_.size(), kNone);
    trackPlaces_.clear();
    height_ = 0;
    if (!recording_) return;
    pinnedHeight_ = 0;
    uint32_t standIn = kNone;  // of the slim lanes that are one now
    uint64_t bunch = 0;        // which they are
    for (const uint32_t lane : order_) {
        if (recording_->lanes[lane].kind == LaneKind::Core) continue;  // a track of its own
        places_[lane].top = height_;
        if (hidden(lane)) continue;
        const int rows = std::max<int>(1, static_cast<int>(rowsShown(lane))) + (foldable(lane) ? 1 : 0);
        const uint64_t its = bunchOf(lane);
        if (!its || its != bunch) standIn = its ? lane : kNone;
        bunch = its;
        standIn_[lane] = its ? standIn : lane;
        places_[lane] = {height_, slim(lane) ? kSlimHeight : kRail + rows * kRowHeight + kLaneGap};
        if (standIn_[lane] != lane) places_[lane].height = 0;
        height_ += places_[lane].height;
        if (pinned(lane)) pinnedHeight_ = height_;
    }
    if (pinnedHeight_ * 3 > room_ * 2) pinnedHeight_ = 0;  // too many to stay: the others would have no room
    for (const int height : trackHeights_) {
        trackPlaces_.push_back({height_, height});
        height_ += height;
    }
}

bool LaneLayout::setView(int64_t begin, int64_t end, bool steady) {
    if (begin == begin_ && end == end_ && steady == steady_) return false;
    steady_ = steady;
    begin_ = begin;
    end_ = std::max(end, begin + 1);
    if (!measureDepth(steady)) return false;
    placeAll();  // which lanes are slim stays: it is a matter of the frame, not of the view
    return true;
}

bool LaneLayout::measureAgain() {
    if (!measureDepth(steady_)) return false;
    placeAll();
    return true;
}

double LaneLayout::xAt(const QRect& area, int64_t time) const {
    const QRect axis = axisOf(area);
    return axis.left() + static_cast<double>(time - begin_) / static_cast<double>(end_ - begin_) * axis.width();
}

int64_t LaneLayout::timeAt(const QRect& area, double x) const {
    const QRect axis = axisOf(area);
    return begin_ +
           static_cast<int64_t>(std::floor((x - axis.left()) / axis.width() * static_cast<double>(end_ - begin_)));
}

QRect LaneLayout::laneRect(const QRect& area, int scrolled, uint32_t lane) const {
    return {area.left(), area.top() + kHeaderHeight - (fixed(lane) ? 0 : scrolled) + places_[lane].top, area.width(),
            places_[lane].height};
}

uint32_t LaneLayout::laneAt(const QRect& area, int scrolled, int y) const {
    if (y < area.top() + kHeaderHeight) return kNone;
    const bool amongFixed = y < scrolledPart(area).top();
    for (uint32_t lane = 0; lane < places_.size(); ++lane) {
        if (fixed(lane) != amongFixed) continue;
        const QRect box = laneRect(area, scrolled, lane);
        if (places_[lane].height && y >= box.top() && y <= box.bottom()) return lane;
    }
    return kNone;
}

MarkerRef LaneLayout::markerAt(const QRect& area, int scrolled, const QPoint& at) const {
    const uint32_t lane = laneAt(area, scrolled, at.y());
    if (lane == kNone || at.x() < axisOf(area).left()) return {};
    const int y = at.y() - laneRect(area, scrolled, lane).top() - kRail;
    const auto row = static_cast<uint32_t>(y / kRowHeight);
    const auto& rows = recording_->lanes[lane].rows;
    if (y < 0 || row >= rowsShown(lane)) return {};
    // The longest marker that touches the pixel: what is dense shows its most telling one.
    const int64_t from = timeAt(area, at.x()), to = std::max(from + 1, timeAt(area, at.x() + 1));
    MarkerRef found;
    int64_t longest = -1;
    const MarkerRow& markers = rows[row];
    const auto look = [&](uint32_t first, uint32_t past) {
        markers.forEach(first, past, [&](uint32_t i, int64_t, int64_t duration, uint32_t path, uint8_t) {
            if (duration <= longest || !shows(markers.pathOf(path))) return;
            longest = duration;
            found = {lane, row, i};
        });
    };
    const auto [first, past] = markers.overlapping(from - 1, to);
    constexpr uint32_t kGroup = MarkerRow::kGroup;
    const uint32_t firstGroup = (first + kGroup - 1) / kGroup, pastGroup = past / kGroup;
    if (firstGroup >= pastGroup) {
        look(first, past);
        return found;
    }
    look(first, firstGroup * kGroup);
    look(pastGroup * kGroup, past);
    uint32_t best = firstGroup;  // of the whole groups, the one with the longest marker is enough
    for (uint32_t group = firstGroup; group < pastGroup; ++group)
        if (markers.groups()[group].longest > markers.groups()[best].longest) best = group;
    look(best * kGroup, (best + 1) * kGroup);
    return found;
}

QRect LaneLayout::markerRect(const QRect& area, int scrolled, const MarkerRef& marker) const {
    if (marker.row >= rowsShown(marker.lane)) return {};
    const MarkerRow& row = recording_->lanes[marker.lane].rows[marker.row];
    const QRect axis = axisOf(area), lane = laneRect(area, scrolled, marker.lane);
    const int left = static_cast<int>(std::max<double>(axis.left(), xAt(area, row.begin(marker.index))));
    const int right = static_cast<int>(std::min<double>(axis.right(), xAt(area, row.end(marker.index))));
    return QRect(left, lane.top() + kRail + static_cast<int>(marker.row) * kRowHeight, std::max(1, right - left),
                 kRowHeight - 1)
        .intersected(fixed(marker.lane) ? axis : scrolledPart(area));
}

double LaneLayout::yOf(const QRect& area, int scrolled, uint32_t lane, uint32_t row) const {
    const uint32_t place = places_[lane].height || standIn_[lane] == kNone ? lane : standIn_[lane];
    const QRectF box = laneRect(area, scrolled, place);
    if (!fixed(place) && box.bottom() < scrolledPart(area).top()) return area.top() - box.height();  // above all
    if (row < rowsShown(lane))
        return laneRect(area, scrolled, lane).top() + kRail + (static_cast<double>(row) + 0.5) * kRowHeight;
    return box.center().y();
}

uint32_t LaneLayout::laneBelow(const QRect& area, int scrolled, int y) const {
    for (const uint32_t lane : lanesFromTop())
        if (y < laneRect(area, scrolled, lane).center().y()) return lane;
    return kNone;
}

QRect LaneLayout::trackRect(const QRect& area, int scrolled, size_t track) const {
    const Place& place = trackPlaces_[track];
    return {area.left(), area.top() + kHeaderHeight - scrolled + place.top, area.width(), place.height};
}

}  // namespace fugato
