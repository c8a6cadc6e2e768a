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
        doubt(ConfidenceLevel::Medium, say::kDoubtSamples());
    else if (cause.kind == CauseKind::Unexplained && cause.key.outside)
        doubt(cause.group != r.lanes[e.frame(frame).lane].group ? ConfidenceLevel::Medium : ConfidenceLevel::Low,
              say::kDoubtNoMarker());
    else if (cause.kind == CauseKind::Unexplained)
        doubt(ConfidenceLevel::Low, (cause.path ? say::kDoubtNoMarker : say::kDoubtNothingLonger)());
    if (const SeenFunctions* const stacks = functionsSeen(e, frame, cause);
        stacks && !stacks->blocked && stacks->areMissing())
        doubt(ConfidenceLevel::Low,
              say::kDoubtStacks({{"stacks", plural(stacks->samples, "call stack was", "call stacks were")},
                                 {"due", fixedText(stacks->due, 0)}}));
    if (const auto holders = byHolder(e.contentionPartsIn(frame, cause)); !holders.empty() && holders[0].first == kNone)
        doubt(ConfidenceLevel::Medium, say::kDoubtHolder());

    for (const Segment& segment : segments) {
        const Lane& lane = r.lanes[segment.lane];
        if (eventsMissing(lane, segment.begin, segment.end))
            doubt(ConfidenceLevel::Low, say::kDoubtLost({{"lane", lane.name}}));
        if (!isOf(r, segment, cause)) continue;
        if (segment.kind >= SegmentKind::WaitOther && segment.kind <= SegmentKind::WaitGpu &&
            cause.kind == CauseKind::Waiting && segment.endedBy == kNone)
            doubt(ConfidenceLevel::Medium, say::kDoubtEnded());
        if (segment.kind == SegmentKind::Running && lane.kind == LaneKind::Thread && cause.kind == CauseKind::Slower &&
            lane.schedule.empty())
            doubt(ConfidenceLevel::Medium, say::kDoubtCore({{"lane", lane.name}}));
        if (segment.likely) doubt(ConfidenceLevel::Medium, say::kDoubtLikely({{"lane", lane.name}}));
        if (segment.marker.valid() &&
            (r.lanes[segment.lane].rows[segment.marker.row].flags(segment.marker.index) & kMarkerEndRepaired))
            doubt(ConfidenceLevel::Medium, say::kDoubtEnd({{"marker", r.nameOf(segment.path)}}));
    }
    const double explained = e.coverageOf(frame).part();
    if (cause.kind != CauseKind::Unexplained && explained < kEnoughExplained)
        doubt(explained < kHalfExplained ? ConfidenceLevel::Low : ConfidenceLevel::Medium,
              say::kDoubtCoverage({{"part", fixedText(100 * explained, 0)}}));
    if (e.frames.size() == 1)
        doubt(ConfidenceLevel::Low, say::kDoubtOnlyFrame());
    else if (baseline.onlyLate)
        doubt(ConfidenceLevel::Medium, say::kDoubtNoneMet());
    else if (baseline.frames < kEnough)
        doubt(baseline.frames < kFewest ? ConfidenceLevel::Low : ConfidenceLevel::Medium,
              say::kDoubtFew({{"frames", plural(baseline.frames, "frame", "frames")}}));
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
