// SPDX-License-Identifier: GPL-3.0-or-later
#include "lane_layout.h"

#include <algorithm>
#include <climits>
#include <cmath>

#include "core/model/keys.h"

namespace fugato {

namespace {
constexpr size_t kMostRows = 24;  // of a lane, before it is folded
}

void LaneLayout::layOut(std::shared_ptr<const Recording> recording, std::vector<int> trackHeights, bool same) {
    recording_ = std::move(recording);
    trackHeights_ = std::move(trackHeights);
    keys_ = recording_ ? laneKeys(*recording_) : std::vector<std::string>();
    if (!same) {
        unfolded_.clear();
        opened_.clear();
        separate_.clear();
        systemOpened_ = false;
    }
    measureDepth(false);
    same && !onPath_.empty() ? onPath_.resize(keys_.size()) : onPath_.clear();
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

/// How many rows of each lane have a marker in view. Where that cannot be told without a disk, it is taken for so.
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
    const bool hidden = slim(lane) || standsFor(lane) == 0, deep = folded(lane) && row >= kMostRows;
    if (hidden) opened_.insert(keys_[lane]);
    if (deep) unfolded_.insert(keys_[lane]);
    if (hidden || deep) placeLanes();
}

std::vector<uint32_t> LaneLayout::lanesFromTop() const {
    std::vector<uint32_t> lanes;
    if (recording_)
        for (const uint32_t lane : recording_->laneOrder)
            if (recording_->lanes[lane].kind != LaneKind::Core && places_[lane].height > 0) lanes.push_back(lane);
    return lanes;
}

bool LaneLayout::folded(uint32_t lane) const { return foldable(lane) && !unfolded_.count(keys_[lane]); }

QRect LaneLayout::foldRect(const QRect& area, int scrolled, uint32_t lane) const {
    if (!foldable(lane) || slim(lane)) return {};
    const QRect box = laneRect(area, scrolled, lane);
    return {axisOf(area).left(), box.top() + kRail + static_cast<int>(rowsShown(lane)) * kRowHeight,
            axisOf(area).width(), kRowHeight};
}

void LaneLayout::toggleFold(uint32_t lane) {
    if (!unfolded_.erase(keys_[lane])) unfolded_.insert(keys_[lane]);
    placeLanes();
}

void LaneLayout::setUnfolded(std::set<std::string> keys) {
    unfolded_ = std::move(keys);
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
    if (fromSystem(lane) && !onPath(lane)) {
        systemOpened_ = !systemOpened_;
        return placeLanes();
    }
    if (standsFor(lane) == 1) {
        opened_.insert(keys_[lane]);
    } else {
        for (uint32_t other = 0; other < standIn_.size(); ++other)
            if (standIn_[other] == lane) separate_.insert(keys_[other]);
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
    for (uint32_t lane = 0; lane < slim_.size(); ++lane) slim_[lane] = fromSystem(lane) && !onPath(lane);
    bunched_ = false;
    placeAll();
    if (!gathering_ || room_ <= 0 || onPath_.empty() || pathFits()) return;
    for (uint32_t lane = 0; lane < slim_.size(); ++lane) slim_[lane] = !onPath(lane);
    for (uint32_t lane = 0; lane < slim_.size(); ++lane)
        if (opened_.count(keys_[lane]) && !fromSystem(lane)) slim_[lane] = false;
    placeAll();
    if (pathFits()) return;
    bunched_ = true;
    placeAll();
}

/// Where every lane and track stands, one below the other.
void LaneLayout::placeAll() {
    places_.assign(recording_ ? recording_->lanes.size() : 0, {});
    standIn_.assign(places_.size(), kNone);
    trackPlaces_.clear();
    height_ = 0;
    if (!recording_) return;
    uint32_t standIn = kNone;  // of the slim lanes that are one now
    bool ofSystem = false;     // they are threads without markers
    for (const uint32_t lane : recording_->laneOrder) {
        if (recording_->lanes[lane].kind == LaneKind::Core) continue;  // a track of its own
        const int rows = std::max<int>(1, static_cast<int>(rowsShown(lane))) + (foldable(lane) ? 1 : 0);
        const bool bunched =
            fromSystem(lane) ? slim(lane) && !systemOpened_ : bunched_ && slim(lane) && !separate_.count(keys_[lane]);
        if (!bunched || standIn == kNone || ofSystem != fromSystem(lane)) standIn = bunched ? lane : kNone;
        ofSystem = fromSystem(lane);
        standIn_[lane] = bunched ? standIn : lane;
        places_[lane] = {height_, slim(lane) ? kSlimHeight : kRail + rows * kRowHeight + kLaneGap};
        if (standIn_[lane] != lane) places_[lane].height = 0;
        height_ += places_[lane].height;
    }
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
    return {area.left(), area.top() + kHeaderHeight - scrolled + places_[lane].top, area.width(), places_[lane].height};
}

uint32_t LaneLayout::laneAt(const QRect& area, int scrolled, int y) const {
    if (y < area.top() + kHeaderHeight) return kNone;
    for (uint32_t lane = 0; lane < places_.size(); ++lane) {
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
        markers.forEach(first, past, [&](uint32_t i, int64_t, int64_t duration, uint32_t, uint8_t) {
            if (duration <= longest) return;
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
        .intersected(axis);
}

double LaneLayout::yOf(const QRect& area, int scrolled, uint32_t lane, uint32_t row) const {
    if (row < rowsShown(lane))
        return laneRect(area, scrolled, lane).top() + kRail + (static_cast<double>(row) + 0.5) * kRowHeight;
    const uint32_t place = places_[lane].height ? lane : standIn_[lane];
    return QRectF(laneRect(area, scrolled, place == kNone ? lane : place)).center().y();
}

QRect LaneLayout::trackRect(const QRect& area, int scrolled, size_t track) const {
    const Place& place = trackPlaces_[track];
    return {area.left(), area.top() + kHeaderHeight - scrolled + place.top, area.width(), place.height};
}

}  // namespace fugato
