// SPDX-License-Identifier: GPL-3.0-or-later
#include "scope_choice.h"

#include "core/explain/words/quantities.h"

namespace fugato {

namespace {

/// Collects what the choice comes to.
class Choosing {
public:
    Choosing(const Recording& r, const Explanation* e, const ScopeChoice& choice, const ScopeContext& context,
             bool wordsOnly)
        : r_(r), e_(e), choice_(choice), context_(context), wordsOnly_(wordsOnly) {}

    Result<ChosenScope> all() {
        std::string why = takeTime();
        if (why.empty()) why = takeLanes();
        if (!why.empty()) return Failure{why};
        return std::move(made_);
    }

private:
    bool hasMarker() const { return holds(r_, context_.marker); }
    bool hasFrame() const { return e_ && context_.frame < e_->frames.size(); }
    template <class Frames>
    void takeFrames(const Frames& frames) {
        if (wordsOnly_) return;
        std::vector<TimeRange> ranges;
        for (const uint32_t frame : frames) ranges.push_back({e_->frame(frame).begin, e_->frame(frame).end});
        made_.scope = Scope(std::move(ranges));
    }
    void take(const TimeRange& range, const std::string& where) {
        made_.scope = range;
        made_.words = durationText(range.end - range.begin) + " " + where;
    }

    /// Returns why there is none, or nothing.
    std::string takeTime() {
        switch (choice_.of) {
            case ScopeChoice::Of::Frame:
                if (!hasFrame()) return "No frame is selected.";
                takeFrames(std::array{context_.frame});
                made_.words = "frame " + countText(context_.frame);
                return {};
            case ScopeChoice::Of::Spike: {
                if (!hasFrame()) return "No frame is selected.";
                const uint32_t spike = e_->frames[context_.frame].spike;
                if (spike == kNone) return "The selected frame is not late, so it belongs to no spike.";
                const Spike& s = e_->spikes[spike];
                made_.scope = TimeRange{e_->frame(s.first).begin, e_->frame(s.last).end};
                made_.words = "spike of " + plural(s.last - s.first + 1, "frame", "frames");
                return {};
            }
            case ScopeChoice::Of::Cause: {
                if (!e_ || context_.cause >= e_->causes.size()) return "No cause is selected.";
                const Cause& cause = e_->causes[context_.cause];
                takeFrames(cause.frames);
                made_.words = plural(cause.frames.size(), "late frame", "late frames") + " of " + cause.letter;
                return {};
            }
            case ScopeChoice::Of::Late:
                if (!e_ || e_->late.empty()) return "No frame is late.";
                takeFrames(e_->late);
                made_.words = plural(e_->late.size(), "late frame", "late frames");
                return {};
            case ScopeChoice::Of::Marker: {
                if (!hasMarker()) return "No marker is selected. Click one in the lanes.";
                const MarkerRow& row = r_.lanes[context_.marker.lane].rows[context_.marker.row];
                const uint32_t at = context_.marker.index;
                made_.scope = TimeRange{row.begin(at), std::max(row.end(at), row.begin(at) + 1)};
                made_.scope.keepOnly(r_, context_.marker.lane);
                made_.words = r_.nameOf(row.path(at)) + ", " + durationText(row.duration(at));
                return {};
            }
            case ScopeChoice::Of::Selection:
                if (!context_.selected) return "No time is selected. Drag over the axis of the lanes to select some.";
                take(*context_.selected, "selected");
                return {};
            case ScopeChoice::Of::View: take(context_.view, "in view"); return {};
            case ScopeChoice::Of::Stage: return takeStage();
            case ScopeChoice::Of::Stretch: {
                std::vector<TimeRange> ranges;
                for (const NamedStretch& stretch : context_.stretches)
                    if (stretch.name == choice_.stage) ranges.push_back(stretch.range);
                if (ranges.empty()) return "No stretch has the name " + choice_.stage + " any more.";
                made_.scope = Scope(std::move(ranges));
                made_.words = "stretch " + choice_.stage;
                return {};
            }
            default: break;
        }
        made_.scope = wholeOf(r_);
        made_.words = "whole recording";
        return {};
    }

    std::string takeStage() {
        made_.words = "stage " + choice_.stage;
        if (wordsOnly_) return {};
        std::vector<TimeRange> ranges;
        if (const State* const stages = r_.stages())
            for (const StateSpan& span : stages->spans)
                if (r_.text(span.value) == choice_.stage) ranges.push_back({span.begin, span.end});
        made_.scope = Scope(std::move(ranges));
        return made_.scope.stretches.empty() ? "The recording has no stage " + choice_.stage + "." : std::string();
    }

    std::string takeLanes() {
        if (choice_.lanes == ScopeChoice::Lanes::All || choice_.of == ScopeChoice::Of::Marker) return {};
        if (choice_.lanes == ScopeChoice::Lanes::OfMarker) {
            if (!hasMarker()) return "No marker is selected, and so no lane.";
            made_.scope.keepOnly(r_, context_.marker.lane);
            made_.words += " on " + r_.lanes[context_.marker.lane].name;
            return {};
        }
        if (choice_.lanes == ScopeChoice::Lanes::Shown) {
            made_.scope.lanes = context_.shownLanes;
            if (!made_.scope.lanes.empty()) made_.scope.lanes.resize(r_.lanes.size(), 1);
            made_.words += " on shown lanes";
            return {};
        }
        const bool ofProgram = choice_.lanes == ScopeChoice::Lanes::Program;
        for (uint32_t lane = 0; lane < r_.lanes.size(); ++lane) {
            const uint32_t group = r_.lanes[lane].group;
            if (!ofProgram && group >= r_.groups.size()) continue;
            if ((ofProgram ? r_.lanes[lane].program : r_.groups[group].name) != choice_.group) continue;
            made_.scope.lanes.resize(r_.lanes.size());
            made_.scope.lanes[lane] = 1;
        }
        made_.words += " on " + choice_.group;
        return made_.scope.lanes.empty() ? "The recording has no lanes of " + choice_.group + "." : std::string();
    }

    const Recording& r_;
    const Explanation* const e_;
    const ScopeChoice& choice_;
    const ScopeContext& context_;
    const bool wordsOnly_;
    ChosenScope made_;
};

}  // namespace

Result<ChosenScope> chosenScope(const Recording& recording, const Explanation* explanation, const ScopeChoice& choice,
                                const ScopeContext& context) {
    return Choosing(recording, explanation, choice, context, false).all();
}

Result<std::string> scopeWords(const Recording& recording, const Explanation* explanation, const ScopeChoice& choice,
                               const ScopeContext& context) {
    auto chosen = Choosing(recording, explanation, choice, context, true).all();
    if (!chosen) return chosen.failure();
    return std::move(chosen->words);
}

bool aboutTheSame(const ScopeChoice& a, const ScopeContext& inA, const ScopeChoice& b, const ScopeContext& inB) {
    using Of = ScopeChoice::Of;
    if (a != b || (a.lanes == ScopeChoice::Lanes::OfMarker && inA.marker.lane != inB.marker.lane) ||
        (a.lanes == ScopeChoice::Lanes::Shown && inA.shownLanes != inB.shownLanes))
        return false;
    switch (a.of) {
        case Of::Frame:
        case Of::Spike: return inA.frame == inB.frame;
        case Of::Cause: return inA.cause == inB.cause;
        case Of::Marker: return inA.marker == inB.marker;
        case Of::Selection: return inA.selected == inB.selected;
        case Of::Stretch: return inA.stretches == inB.stretches;
        case Of::Late:
        case Of::View:
        case Of::Stage:
        case Of::Whole: break;
    }
    return true;
}

ScopeChoice usualScope(const Recording& recording) {
    ScopeChoice choice;
    if (!recording.series.empty() && !recording.series[0].frames.empty()) choice.of = ScopeChoice::Of::Frame;
    return choice;
}

}  // namespace fugato
