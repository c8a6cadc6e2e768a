// SPDX-License-Identifier: GPL-3.0-or-later
#include "certainty.h"

#include <algorithm>

#include "core/explain/words/quantities.h"

namespace fugato {

namespace {

constexpr size_t kEnough = 30, kFewest = 8;  // usual frames to compare with

bool eventsMissing(const Lane& lane, int64_t begin, int64_t end) {
    return std::any_of(lane.lost.begin(), lane.lost.end(),
                       [&](const LostStretch& lost) { return lost.time > begin && lost.time <= end; });
}

}  // namespace

const char* certaintyName(Certainty certainty) {
    static const char* const names[] = {"certain", "likely", "a hint"};
    return names[static_cast<size_t>(certainty)];
}

Sureness surenessOf(const Explanation& e, uint32_t frame, const Cause& cause, std::span<const Segment> segments) {
    const Recording& r = *e.recording;
    const Baseline& baseline = e.baselines[e.frames[frame].baseline];
    Sureness out;
    const auto doubt = [&](Certainty atMost, std::string why) {
        out.certainty = std::max(out.certainty, atMost);
        if (std::find(out.doubts.begin(), out.doubts.end(), why) == out.doubts.end())
            out.doubts.push_back(std::move(why));
    };
    if (cause.kind == CauseKind::Unexplained)
        doubt(Certainty::Hint,
              cause.path ? "no marker says what was done there" : "nothing that was recorded took longer than usual");
    if (cause.kind == CauseKind::NoCore && cause.coreHolder == kNone)
        doubt(Certainty::Likely, "who had the core was not recorded");

    for (const Segment& segment : segments) {
        const Lane& lane = r.lanes[segment.lane];
        if (eventsMissing(lane, segment.begin, segment.end))
            doubt(Certainty::Hint, "events of " + lane.name + " are missing in this frame");
        const bool ofCause = cause.object != kNone
                                 ? segment.lock.object == cause.object
                                 : lane.group == cause.group && r.paths.contains(cause.path, segment.path);
        if (!ofCause) continue;
        if (segment.kind >= SegmentKind::WaitOther && segment.kind <= SegmentKind::WaitGpu &&
            cause.kind == CauseKind::Waiting)
            doubt(Certainty::Likely, "who ended that wait was not recorded");
        if (segment.kind == SegmentKind::Running && lane.kind == LaneKind::Thread && cause.kind == CauseKind::Slower &&
            lane.schedule.empty())
            doubt(Certainty::Likely, "whether " + lane.name + " always had a core was not recorded");
        if (segment.marker.valid() &&
            (r.lanes[segment.lane].rows[segment.marker.row].flags(segment.marker.index) & kMarkerEndRepaired))
            doubt(Certainty::Likely, "the end of ‘" + r.nameOf(segment.path) + "’ was not recorded");
    }
    if (baseline.onlyLate)
        doubt(Certainty::Likely,
              "no frame met its deadline, so it is compared with the quickest quarter of all frames");
    else if (baseline.frames < kEnough)
        doubt(baseline.frames < kFewest ? Certainty::Hint : Certainty::Likely,
              "it is compared with only " + plural(baseline.frames, "frame", "frames") + " in budget");
    return out;
}

std::string surenessSentence(const Sureness& sureness) {
    if (sureness.certainty == Certainty::Certain)
        return "Certain: all that this rests on was recorded, and fits together.";
    std::string text = sureness.certainty == Certainty::Likely ? "Likely, not certain: " : "No more than a hint: ";
    for (size_t i = 0; i < sureness.doubts.size(); ++i) text += (i ? "; " : "") + sureness.doubts[i];
    return text + ".";
}

}  // namespace fugato
