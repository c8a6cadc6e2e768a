// SPDX-License-Identifier: GPL-3.0-or-later
#include "selection.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace fugato {

namespace {
constexpr int64_t kShortestSpan = 20;                                           // ns
constexpr int64_t kFollowedSpan = 250'000'000, kShortestFollowed = 20'000'000;  // ns
constexpr size_t kLongestHistory = 200;
}  // namespace

void Selection::setRecording(std::shared_ptr<const Recording> recording) {
    recording_ = std::move(recording);
    explanation_.reset();
    history_.clear();
    at_ = 0;
    view_ = View{};
    if (recording_) {
        view_.begin = recording_->begin;
        view_.end = std::max(recording_->begin + kShortestSpan, recording_->end);
    }
    history_.push_back(view_);
    following_ = staysWhole_ = false;
    site_ = kNone;
    range_.reset();
    instant_.reset();
    anchor_.reset();
    lane_ = kNone;
    inFocus_.reset();
    shownLanes_.clear();
    stretches_.clear();
    scopeChosen_ = false;
    scope_ = recording_ ? usualScope(*recording_) : ScopeChoice();
    emit viewChanged();
    emit chosenChanged();
    emit historyChanged();
    emit siteChanged();
    emit rangeChanged();
    emit instantChanged();
    emit laneChanged();
    emit markersInFocusChanged();
    emit scopeChanged();
    emit followingChanged();
}

void Selection::growRecording(std::shared_ptr<const Recording> recording) {
    staysWhole_ = staysWhole_ || (recording_ && view_.begin == recording_->begin && view_.end == recording_->end);
    recording_ = std::move(recording);
    useUsualScope();  // its first frames may have come
}

/// Of the frame that is selected; while the end is followed none is, and what is in view is looked at.
void Selection::useUsualScope() {
    if (scopeChosen_ || range_ || !recording_) return;
    ScopeChoice usual = usualScope(*recording_);
    if (following_) usual.of = ScopeChoice::Of::View;
    useScope(usual);
}

void Selection::catchUp() {
    if (!recording_) return;
    if (following_) {
        showEnd();
    } else if (staysWhole_) {
        showSpan(recording_->begin, recording_->end);
        history_.assign(1, view_);
        at_ = 0;
    }
}

/// The newest of the recording, as much as is seen.
void Selection::showEnd() {
    View view = view_;
    view.end = recording_->end;
    view.begin = std::max(view.end - followedSpan_, recording_->begin);
    apply(view, false);
}

void Selection::followEnd(bool follow) {
    if (!recording_ || follow == following_) return;
    following_ = follow;
    if (follow) {
        View view = view_;
        const bool whole = view.begin <= recording_->begin && view.end >= recording_->end;
        followedSpan_ = whole ? kFollowedSpan : std::clamp(view.end - view.begin, kShortestFollowed, kFollowedSpan);
        view.frame = view.cause = kNone;
        view.marker = {};
        apply(view, true);
        showEnd();
    }
    useUsualScope();
    emit followingChanged();
}

void Selection::setExplanation(std::shared_ptr<const Explanation> explanation, bool fresh) {
    const auto before = std::exchange(explanation_, std::move(explanation));
    if (!explanation_) return;
    if (fresh && following_) return;
    if (fresh) {
        // Another series of the same recording shows its frame at the same time.
        const bool another = before && before->recording == explanation_->recording &&
                             before->series != explanation_->series && view_.frame < before->frames.size();
        const int64_t time = another ? before->frame(view_.frame).begin + before->frame(view_.frame).duration() / 2 : 0;
        View view = view_;
        view.frame = view.cause = kNone;
        set(view, false);
        if (another) {
            const uint32_t frame = recording_->series[explanation_->series].frameAt(time);
            if (frame < explanation_->frames.size()) return chooseFrame(frame);
        }
        const bool moved = recording_ && (view.begin != recording_->begin || view.end < recording_->end);
        if (moved && !explanation_->causes.empty()) {  // somebody is looking at something already
            view.cause = 0;
            view.frame = worstFrameOf(0);
            set(view, true);
            return;
        }
        if (!explanation_->causes.empty()) {
            chooseCause(0);
        } else {
            chooseWorstFrame();  // nothing is late: the slowest frame is the most telling one
        }
        history_.assign(1, view_);
        at_ = 0;
        shownFirst_ = view_;
        emit historyChanged();
        return;
    }
    if (before && view_ == shownFirst_ && before->symbols != explanation_->symbols && !explanation_->causes.empty()) {
        chooseCause(0);  // its functions have got names since, and other causes may come first
        history_.assign(1, view_);
        at_ = 0;
        shownFirst_ = view_;
        return;
    }
    // The same frame under another budget, or of a recording that has grown.
    const auto sameCause = [&](uint32_t cause) {
        return before && cause < before->causes.size() ? explanation_->causeLike(before->causes[cause].key) : kNone;
    };
    View view = view_;
    view.cause = kNone;
    if (view.frame < explanation_->frames.size() && !explanation_->sharesOf(view.frame).empty()) {
        const auto shares = explanation_->sharesOf(view.frame);
        view.cause = shares.front().cause;
        for (const CauseShare& share : shares)
            if (share.cause == sameCause(view_.cause)) view.cause = share.cause;
    }
    const bool another = !(view == view_);
    view_ = view;
    for (View& old : history_)
        if (old.cause != kNone) old.cause = sameCause(old.cause);
    if (another) emit chosenChanged();
}

/// As the person wishes: it no longer follows what grows.
void Selection::set(const View& view, bool remember) {
    staysWhole_ = false;
    apply(view, remember);
    followEnd(false);
}

void Selection::apply(View view, bool remember) {
    if (recording_) {
        const int64_t first = recording_->begin, last = std::max(recording_->end, first + kShortestSpan);
        const int64_t length = std::clamp(view.end - view.begin, kShortestSpan, last - first);
        view.begin = std::clamp(view.begin, first, last - length);
        view.end = view.begin + length;
    }
    const bool moved = view.begin != view_.begin || view.end != view_.end;
    const bool chosen = view.frame != view_.frame || view.cause != view_.cause || !(view.marker == view_.marker);
    view_ = view;
    if (chosen) chooseInstant(std::nullopt);  // tables tell of what was selected now
    if (chosen && view_.marker.valid()) chooseLane(view_.marker.lane);
    if (remember) {
        history_.resize(std::min(at_ + 1, history_.size()));
        if (history_.empty() || !(history_.back() == view_)) history_.push_back(view_);
        if (history_.size() > kLongestHistory) history_.erase(history_.begin());
        at_ = history_.size() - 1;
        emit historyChanged();
    } else if (at_ < history_.size()) {
        history_[at_] = view_;  // small moves belong to the view they started from
    }
    if (moved) emit viewChanged();
    if (chosen) emit chosenChanged();
}

void Selection::showSpan(int64_t begin, int64_t end, bool remember) {
    View view = view_;
    view.begin = begin;
    view.end = end;
    set(view, remember);
}

void Selection::zoom(double factor, int64_t around) {
    const auto length = static_cast<double>(view_.end - view_.begin);
    const auto wanted = std::max<int64_t>(kShortestSpan, static_cast<int64_t>(std::llround(length * factor)));
    const double part = static_cast<double>(around - view_.begin) / length;
    const int64_t begin = around - static_cast<int64_t>(std::llround(part * static_cast<double>(wanted)));
    showSpan(begin, begin + wanted);
}

void Selection::pan(double parts) {
    const auto by = static_cast<int64_t>(static_cast<double>(view_.end - view_.begin) * parts);
    showSpan(view_.begin + by, view_.end + by);
}

void Selection::showWhole() {
    if (recording_) showSpan(recording_->begin, recording_->end, true);
}

View Selection::around(View view, int64_t begin, int64_t end) const {
    const int64_t margin = std::max<int64_t>((end - begin) / 14, 10);
    view.begin = begin - margin;
    view.end = end + margin;
    return view;
}

void Selection::showFrame() {
    if (!explanation_ || view_.frame >= explanation_->frames.size()) return;
    const Frame& frame = explanation_->frame(view_.frame);
    set(around(view_, frame.begin, frame.end), true);
}

void Selection::chooseFrame(uint32_t index) {
    if (!explanation_ || index >= explanation_->frames.size()) return;
    const Frame& frame = explanation_->frame(index);
    View view = view_;
    view.frame = index;
    view.marker = {};
    view.cause = causeIn(index);
    set(around(view, frame.begin, frame.end), true);
}

/// The frame that shows a cause best: the one in which it alone cost most.
uint32_t Selection::worstFrameOf(uint32_t cause) const {
    uint32_t best = kNone;
    int64_t most = -1;
    for (const uint32_t frame : explanation_->causes[cause].frames)
        for (const CauseShare& share : explanation_->sharesOf(frame))
            if (share.cause == cause && share.late > most) {
                most = share.late;
                best = frame;
            }
    return best;
}

void Selection::chooseCause(uint32_t index) {
    if (!explanation_ || index >= explanation_->causes.size()) return;
    View view = view_;
    view.cause = index;
    view.frame = worstFrameOf(index);
    view.marker = {};
    const Frame& frame = explanation_->frame(view.frame);
    set(around(view, frame.begin, frame.end), true);
}

void Selection::chooseMarker(const MarkerRef& marker) { chooseMarkerIn(view_, marker, false); }

/// View and choice change as one: who follows the choice finds the view it is to be shown in.
void Selection::chooseMarkerIn(View view, const MarkerRef& marker, bool remember) {
    view.marker = marker;
    set(view, remember);
    if (marker.valid()) chooseSite(recording_->paths[recording_->pathOf(marker)].site);
}

/// The view as it is, but of the frame in which a marker begins, unless the chosen one has something of the marker.
View Selection::withFrameOf(const MarkerRef& marker) const {
    View view = view_;
    if (!explanation_) return view;
    const MarkerRow& row = recording_->lanes[marker.lane].rows[marker.row];
    const int64_t begin = row.begin(marker.index), end = row.end(marker.index);
    if (view_.frame < explanation_->frames.size()) {
        const Frame& now = explanation_->frame(view_.frame);
        if (begin < now.end && end >= now.begin) return view;
    }
    const uint32_t frame = recording_->series[explanation_->series].frameAt(begin);
    if (frame >= explanation_->frames.size()) return view;
    view.frame = frame;
    view.cause = causeIn(frame);
    return view;
}

/// The cause that is chosen with a frame: the one that is chosen already where it has a part in it.
uint32_t Selection::causeIn(uint32_t frame) const {
    const auto shares = explanation_->sharesOf(frame);
    const bool keep =
        std::any_of(shares.begin(), shares.end(), [&](const CauseShare& s) { return s.cause == view_.cause; });
    return keep ? view_.cause : shares.empty() ? kNone : shares.front().cause;
}

void Selection::lookAtMarker(const MarkerRef& marker, bool withFrame) {
    if (!marker.valid()) return;
    const MarkerRow& row = recording_->lanes[marker.lane].rows[marker.row];
    const int64_t begin = row.begin(marker.index), end = row.end(marker.index), length = view_.end - view_.begin;
    const bool inView = end >= view_.begin && begin <= view_.end && end - begin <= length;
    if (!inView && end - begin > length / 2) return showMarker(marker, withFrame);
    View view = withFrame ? withFrameOf(marker) : view_;
    if (!inView) {
        const int64_t middle = begin + (end - begin) / 2;
        view.begin = middle - length / 2;
        view.end = middle + length / 2;
    }
    chooseMarkerIn(view, marker, !inView);
}

void Selection::showMarker(const MarkerRef& marker, bool withFrame) {
    if (!marker.valid()) return;
    const MarkerRow& row = recording_->lanes[marker.lane].rows[marker.row];
    chooseMarkerIn(around(withFrame ? withFrameOf(marker) : view_, row.begin(marker.index), row.end(marker.index)),
                   marker, true);
}

void Selection::chooseSite(uint32_t site) {
    if (site == site_) return;
    site_ = site;
    // An occurrence of another marker is no longer what was chosen.
    if (const MarkerRef& marker = view_.marker;
        marker.valid() && recording_->paths[recording_->pathOf(marker)].site != site)
        chooseMarker({});
    emit siteChanged();
}

void Selection::selectRange(std::optional<TimeRange> range) {
    if (range && recording_) {
        const TimeRange whole = wholeOf(*recording_);
        range->begin = std::clamp(range->begin, whole.begin, whole.end);
        range->end = std::clamp(range->end, range->begin, whole.end);
        if (range->begin == range->end) range.reset();
    }
    if (range == range_) return;
    range_ = range;
    ScopeChoice scope = scope_;
    if (range_)
        scope.of = ScopeChoice::Of::Selection;
    else if (scope.of == ScopeChoice::Of::Selection)
        scope.of = usualScope(*recording_).of;
    useScope(scope);
    emit rangeChanged();
}

void Selection::chooseInstant(std::optional<int64_t> time) {
    if (time && !recording_) return;
    if (time) time = std::clamp(*time, recording_->begin, std::max(recording_->begin, recording_->end));
    if (time == instant_) return;
    instant_ = time;
    emit instantChanged();
}

void Selection::showInstant() {
    if (!instant_ || (*instant_ >= view_.begin && *instant_ < view_.end)) return;
    const int64_t half = (view_.end - view_.begin) / 2;
    showSpan(*instant_ - half, *instant_ + half);
}

void Selection::setAnchor(std::optional<int64_t> time) {
    if (time == anchor_) return;
    anchor_ = time;
    emit instantChanged();
}

SourcePlace Selection::sourceOfMarker() const {
    if (!recording_ || site_ >= recording_->sites.size()) return {};
    return {recording_->sites[site_].file, recording_->sites[site_].line};
}

void Selection::lookAtSource(const SourcePlace& place) {
    if (!place.file.empty()) emit sourceWanted(place);
}

void Selection::chooseLane(uint32_t lane) {
    if (lane == lane_) return;
    lane_ = lane;
    emit laneChanged();
}

void Selection::lookAtLane(uint32_t lane) {
    chooseLane(lane);
    emit laneWanted(lane);
}

void Selection::focusMarkers(std::shared_ptr<const MarkersInFocus> kept) {
    inFocus_ = std::move(kept);
    emit markersInFocusChanged();
}

void Selection::setStretches(std::vector<NamedStretch> stretches) {
    if (stretches == stretches_) return;
    stretches_ = std::move(stretches);
    emit scopeChanged();
}

void Selection::setShownLanes(std::vector<uint8_t> lanes) {
    if (lanes == shownLanes_) return;
    shownLanes_ = std::move(lanes);
    if (scope_.lanes == ScopeChoice::Lanes::Shown) emit scopeChanged();
}

void Selection::chooseScope(const ScopeChoice& scope) {
    scopeChosen_ = true;
    useScope(scope);
}

void Selection::useScope(const ScopeChoice& scope) {
    if (scope == scope_) return;
    scope_ = scope;
    emit scopeChanged();
}

void Selection::stepFrame(int by) {
    if (!explanation_ || explanation_->frames.empty()) return;
    const auto last = static_cast<int64_t>(explanation_->frames.size()) - 1;
    const int64_t from = view_.frame == kNone ? (by > 0 ? -1 : last + 1) : static_cast<int64_t>(view_.frame);
    chooseFrame(static_cast<uint32_t>(std::clamp<int64_t>(from + by, 0, last)));
}

void Selection::chooseWorstFrame() {
    if (!explanation_ || explanation_->frames.empty()) return;
    const auto& frames = explanation_->frames;
    const auto worst = std::max_element(frames.begin(), frames.end(), [](const FrameVerdict& a, const FrameVerdict& b) {
        return std::pair(a.overrun, a.work) < std::pair(b.overrun, b.work);
    });
    chooseFrame(static_cast<uint32_t>(worst - frames.begin()));
}

void Selection::stepSpike(int by) {
    if (!explanation_ || explanation_->spikes.empty()) return;
    const auto& spikes = explanation_->spikes;
    const auto after = following_ ? spikes.end() - 1  // what has just happened
                       : view_.frame == kNone
                           ? spikes.begin()
                           : std::upper_bound(spikes.begin(), spikes.end(), view_.frame,
                                              [](uint32_t f, const Spike& s) { return f < s.first; });
    auto next = after;  // the first spike that begins after the chosen frame
    if (by < 0 && !following_) {
        if (after == spikes.begin()) return;
        --next;
        if (next != spikes.begin() && view_.frame != kNone && next->last >= view_.frame) --next;
    }
    if (next == spikes.end()) return;
    const uint32_t worst = explanation_->worstFrameOf(*next);
    if (by > 0 && worst <= view_.frame && view_.frame != kNone) return;
    View view = view_;
    view.cause = next->cause;
    view.frame = worst;
    view.marker = {};
    const Frame& frame = explanation_->frame(worst);
    set(around(view, frame.begin, frame.end), true);
}

void Selection::restore() {
    const View wanted = history_[at_];
    set(wanted, false);
    emit historyChanged();
}

void Selection::goBack() {
    if (!canGoBack()) return;
    --at_;
    restore();
}

void Selection::goForward() {
    if (!canGoForward()) return;
    ++at_;
    restore();
}

}  // namespace fugato
