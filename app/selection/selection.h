// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the person looks at: the visible range of time, and the chosen frame, cause and marker. One
// Selection is shared by all panels, which know nothing of each other. Interface thread only.
#pragma once

#include <QObject>
#include <optional>
#include <vector>

#include "core/ask/scope_choice.h"
#include "core/explain/model/explanation.h"

namespace fugato {

struct View {
    int64_t begin = 0, end = 1;
    uint32_t frame = kNone, cause = kNone;
    MarkerRef marker;
    bool operator==(const View&) const = default;
};

/// Some markers, for the person to look at alone.
struct MarkersInFocus {
    std::string words;            // "Spray", "category rendering"
    std::vector<uint32_t> sites;  // sorted
    bool alone = false;           // the others are not shown at all; else faded
};

/// A line of the source, as the recording names its file.
struct SourcePlace {
    std::string file;
    uint32_t line = 0;  // 0: not known
    bool operator==(const SourcePlace&) const = default;
};

class Selection : public QObject {
    Q_OBJECT
public:
    explicit Selection(QObject* parent = nullptr) : QObject(parent) {}

    const View& view() const { return view_; }
    uint32_t frame() const { return view_.frame; }
    uint32_t cause() const { return view_.cause; }
    const MarkerRef& marker() const { return view_.marker; }
    /// The chosen marker's site, also where no occurrence of it is chosen; or kNone.
    uint32_t site() const { return site_; }
    /// The range of time the person chose, if any.
    const std::optional<TimeRange>& range() const { return range_; }
    /// The instant that was chosen: a line through strip, lanes and tables. None: tables tell of the begin of what is
    /// selected.
    std::optional<int64_t> instant() const { return instant_; }
    /// From where one measures: to the instant, or to the pointer.
    std::optional<int64_t> anchor() const { return anchor_; }
    /// Where the selected marker stands in the source; no file where that is not told.
    SourcePlace sourceOfMarker() const;
    /// The selected lane: that of the selected marker, or another that was chosen since; or kNone.
    uint32_t lane() const { return lane_; }
    /// Markers that alone are shown, or that the others are faded beside; null: all are shown.
    const std::shared_ptr<const MarkersInFocus>& markersInFocus() const { return inFocus_; }
    /// What every page speaks of.
    const ScopeChoice& scope() const { return scope_; }
    bool scopeIsChosen() const { return scopeChosen_; }  // by the person
    ScopeContext scopeContext() const {
        return {view_.frame, view_.cause, range_, {view_.begin, view_.end}, view_.marker, stretches_, shownLanes_};
    }
    /// Whether the view moves along with a recording that grows. It ends as soon as the person looks elsewhere.
    bool followsEnd() const { return following_; }
    bool canGoBack() const { return at_ > 0; }
    bool canGoForward() const { return at_ + 1 < history_.size(); }

public slots:
    /// Starts over with another recording (and no explanation yet).
    void setRecording(std::shared_ptr<const Recording> recording);
    /// The same recording, of which more is known. The view stays until catchUp().
    void growRecording(std::shared_ptr<const Recording> recording);
    /// What was the whole, or the end, is that again.
    void catchUp();
    /// `fresh`: chooses the costliest cause and shows its worst frame.
    void setExplanation(std::shared_ptr<const Explanation> explanation, bool fresh);

    void showSpan(int64_t begin, int64_t end, bool remember = false);  // kept within the recording
    void zoom(double factor, int64_t around);                          // factor < 1: closer
    void pan(double parts);                                            // of the visible range
    void showWhole();
    void followEnd(bool follow);
    void showFrame();  // the chosen frame fills the view
    void chooseFrame(uint32_t frame);
    void chooseCause(uint32_t cause);  // and its costliest frame
    void chooseMarker(const MarkerRef& marker);
    /// Chooses it and moves it into view. `withFrame`: and the frame in which it begins, where the chosen one has
    /// nothing of it.
    void lookAtMarker(const MarkerRef& marker, bool withFrame = false);
    void showMarker(const MarkerRef& marker, bool withFrame = false);  // and it fills the view
    void chooseSite(uint32_t site);  // all occurrences of a marker, none in particular
    void selectRange(std::optional<TimeRange> range);
    void chooseInstant(std::optional<int64_t> time);  // kept within the recording
    void showInstant();                               // moves the view so far that it is in sight
    void setAnchor(std::optional<int64_t> time);
    void chooseLane(uint32_t lane);
    void lookAtLane(uint32_t lane);  // and brings it into sight
    void lookAtSource(const SourcePlace& place);
    void focusMarkers(std::shared_ptr<const MarkersInFocus> kept);
    void setStretches(std::vector<NamedStretch> stretches);
    void setShownLanes(std::vector<uint8_t> lanes);  // by lane; empty: all
    void chooseScope(const ScopeChoice& scope);
    void stepFrame(int by);
    void stepSpike(int by);
    void chooseWorstFrame();  // most over its deadline; where none is late, with least headroom
    void goBack();
    void goForward();

signals:
    void followingChanged();
    void viewChanged();    // the visible range
    void chosenChanged();  // frame, cause or marker
    void historyChanged();
    void siteChanged();                           // another marker, by chooseSite() or by its occurrence
    void rangeChanged();                          // the chosen range of time
    void sourceWanted(const SourcePlace& place);  // its lines, with what they cost
    void editorWanted(const SourcePlace& place);  // the person's
    void laneChanged();
    void laneWanted(uint32_t lane);  // in sight
    void markersInFocusChanged();
    void instantChanged();  // the instant, or where one measures from
    void scopeChanged();    // another choice; what it comes to changes with what is selected

private:
    void set(const View& view, bool remember);
    void apply(View view, bool remember);
    void showEnd();
    void useScope(const ScopeChoice& scope);
    void useUsualScope();
    void chooseMarkerIn(View view, const MarkerRef& marker, bool remember);
    View withFrameOf(const MarkerRef& marker) const;
    uint32_t causeIn(uint32_t frame) const;
    void restore();
    uint32_t worstFrameOf(uint32_t cause) const;
    View around(View view, int64_t begin, int64_t end) const;
    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Explanation> explanation_;
    View view_;
    bool following_ = false, staysWhole_ = false;
    int64_t followedSpan_ = 0;
    View shownFirst_;  // of itself, before the person chose anything
    uint32_t site_ = kNone;
    std::optional<TimeRange> range_;
    std::optional<int64_t> instant_, anchor_;
    uint32_t lane_ = kNone;
    std::shared_ptr<const MarkersInFocus> inFocus_;
    std::vector<NamedStretch> stretches_;
    std::vector<uint8_t> shownLanes_;
    ScopeChoice scope_;
    bool scopeChosen_ = false;  // by the person
    std::vector<View> history_;
    size_t at_ = 0;
};

}  // namespace fugato
