// SPDX-License-Identifier: GPL-3.0-or-later
#include "confidence.h"

#include <algorithm>
#include <cctype>

#include "cause_functions.h"
#include "core/explain/words/quantities.h"
#include "core/explain/words/templates.h"
#include "format/number_text.h"

namespace fugato {

namespace {

constexpr size_t kEnough = 30, kFewest = 8;  // usual frames to compare with

bool eventsMissing(const Lane& lane, int64_t begin, int64_t end) {
    return std::any_of(lane.lost.begin(), lane.lost.end(),
                       [&](const LostEvents& lost) { return lost.time > begin && lost.time <= end; });
}

}  // namespace

const char* confidenceName(ConfidenceLevel level) {
    static const char* const names[] = {"high", "medium", "low"};
    return names[static_cast<size_t>(level)];
}

Confidence confidenceOf(const Explanation& e, uint32_t frame, const Cause& cause, std::span<const Segment> segments) {
    const Recording& r = *e.recording;
    const Baseline& baseline = e.baselines[e.frames[frame].baseline];
    Confidence out;
    const auto doubt = [&](ConfidenceLevel atMost, std::string why) {
        out.level = std::max(out.level, atMost);
        if (std::find(out.doubts.begin(), out.doubts.end(), why) == out.doubts.end())
            out.doubts.push_back(std::move(why));
    };
    if (cause.kind == CauseKind::Unexplained && cause.function != kNone)
        doubt(ConfidenceLevel::Medium, "no marker is there, the function is known by samples of the call stack");
    else if (cause.kind == CauseKind::Unexplained && cause.key.outside)
        doubt(cause.group != r.lanes[e.frame(frame).lane].group ? ConfidenceLevel::Medium : ConfidenceLevel::Low,
              "no marker says what was done there");
    else if (cause.kind == CauseKind::Unexplained)
        doubt(ConfidenceLevel::Low,
              cause.path ? "no marker says what was done there" : "nothing that was recorded took longer than usual");
    if (const SeenFunctions* const stacks = functionsSeen(e, frame, cause);
        stacks && !stacks->blocked && stacks->areMissing())
        doubt(ConfidenceLevel::Low, "only " + plural(stacks->samples, "call stack was", "call stacks were") +
                                        " taken there instead of " + fixedText(stacks->due, 0) +
                                        ": it was in the system's own code, or the machine stood still");
    if (const auto holders = byHolder(e.contentionPartsIn(frame, cause)); !holders.empty() && holders[0].first == kNone)
        doubt(ConfidenceLevel::Medium, "who had the core was not recorded");

    for (const Segment& segment : segments) {
        const Lane& lane = r.lanes[segment.lane];
        if (eventsMissing(lane, segment.begin, segment.end))
            doubt(ConfidenceLevel::Low, "events of " + lane.name + " are missing in this frame");
        if (!isOf(r, segment, cause)) continue;
        if (segment.kind >= SegmentKind::WaitOther && segment.kind <= SegmentKind::WaitGpu &&
            cause.kind == CauseKind::Waiting && segment.endedBy == kNone)
            doubt(ConfidenceLevel::Medium, "who ended that wait was not recorded");
        if (segment.kind == SegmentKind::Running && lane.kind == LaneKind::Thread && cause.kind == CauseKind::Slower &&
            lane.schedule.empty())
            doubt(ConfidenceLevel::Medium, "whether " + lane.name + " always had a core was not recorded");
        if (segment.likely)
            doubt(ConfidenceLevel::Medium,
                  "who ended the wait was not recorded, work of " + lane.name + " ended at that instant");
        if (segment.marker.valid() &&
            (r.lanes[segment.lane].rows[segment.marker.row].flags(segment.marker.index) & kMarkerEndRepaired))
            doubt(ConfidenceLevel::Medium, "the end of ‘" + r.nameOf(segment.path) + "’ was not recorded");
    }
    const double explained = e.coverageOf(frame).part();
    if (cause.kind != CauseKind::Unexplained && explained < kEnoughExplained)
        doubt(explained < kHalfExplained ? ConfidenceLevel::Low : ConfidenceLevel::Medium,
              "what is named explains only " + fixedText(100 * explained, 0) + " % of what it took longer");
    if (e.frames.size() == 1)
        doubt(ConfidenceLevel::Low, "it is the only frame, so there is nothing to compare it with");
    else if (baseline.onlyLate)
        doubt(ConfidenceLevel::Medium,
              "no frame met its deadline, so it is compared with the quickest quarter of all frames");
    else if (baseline.frames < kEnough)
        doubt(baseline.frames < kFewest ? ConfidenceLevel::Low : ConfidenceLevel::Medium,
              "it is compared with only " + plural(baseline.frames, "frame", "frames") + " in budget");
    return out;
}

std::string confidenceSentence(const Confidence& confidence) {
    std::string why;
    for (size_t i = 0; i < confidence.doubts.size(); ++i) why += (i ? "; " : "") + confidence.doubts[i];
    if (why.empty()) why = say::kFitsTogether();
    why[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(why[0])));
    return say::kConfidence({{"level", confidenceName(confidence.level)}, {"why", why}});
}

}  // namespace fugato
