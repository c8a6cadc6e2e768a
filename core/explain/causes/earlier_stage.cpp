// SPDX-License-Identifier: GPL-3.0-or-later
#include "earlier_stage.h"

#include <algorithm>

namespace fugato {

namespace {

constexpr uint32_t kMostLooked = 16;  // frames of one series

/// How much of `segments` lies at the same time on the same lane as one of `others`. Each follow one another backwards
/// and do not overlap.
int64_t shared(const std::vector<Segment>& segments, std::span<const Segment> others) {
    int64_t sum = 0;
    size_t first = 0;  // of the others: those before it begin after the segment
    for (const Segment& a : segments) {
        while (first < others.size() && others[first].begin >= a.end) ++first;
        for (size_t i = first; i < others.size() && others[i].end > a.begin; ++i)
            if (others[i].lane == a.lane) sum += std::min(a.end, others[i].end) - std::max(a.begin, others[i].begin);
    }
    return sum;
}

/// Of which is not known who ended it, though a thread did.
bool isOpenWait(const Segment& segment) {
    const bool waits = segment.kind >= SegmentKind::WaitOther && segment.kind <= SegmentKind::WaitGpu;
    return segment.endedBy == kNone && (waits || segment.kind == SegmentKind::Blocked);
}

}  // namespace

std::vector<EarlierStage> earlierStages(const Explanation& e, uint32_t frame, std::span<const Segment> ofFrame) {
    std::vector<EarlierStage> out;
    const Recording& r = *e.recording;
    const auto shares = e.sharesOf(frame);
    if (shares.empty()) return out;
    const Cause& cause = e.causes[shares.front().cause];
    const Frame& f = e.frame(frame);
    CriticalPathWalker walker(r);
    std::vector<Segment> ofCause;
    int64_t time = 0, begin = f.end;
    bool guessed = false;              // the walk came to it by a guess
    const Segment* unknown = nullptr;  // the longest of its waits of which is not known who ended it
    for (const Segment& segment : ofFrame) {
        if (!isOf(r, segment, cause)) continue;
        ofCause.push_back(segment);
        guessed |= segment.likely;
        time += segment.duration();
        begin = std::min(begin, segment.begin);
        if (isOpenWait(segment) && (!unknown || segment.duration() > unknown->duration())) unknown = &segment;
    }
    for (uint32_t s = 0; s < r.series.size() && time > 0; ++s) {
        const Column<Frame>& frames = r.series[s].frames;
        if (s == e.series || frames.empty()) continue;
        uint32_t at = r.series[s].frameAt(begin);
        if (at == kNone) at = 0;
        for (const uint32_t to = at + kMostLooked; at < std::min<size_t>(to, frames.size()); ++at) {
            const Frame& other = frames[at];
            if (other.begin >= f.end) break;
            const int64_t deadline = other.deadline ? other.deadline : kDefaultBudgetNs;
            if (other.end >= f.end || other.duration() <= deadline) continue;
            const int64_t overrun = other.duration() - deadline;
            const bool likely = unknown && other.lane != f.lane && 2 * overrun >= time &&
                                std::abs(other.end - unknown->end) <= kClockTolerance;
            const auto segments = walker.account(other.lane, other.begin, other.end);
            int64_t pacing = 0;
            for (const Segment& segment : segments)
                if (segment.kind == SegmentKind::WaitPacing) pacing += segment.duration();
            const bool through = 2 * shared(ofCause, segments) >= time;
            if (heldToTick(other.duration(), pacing, deadline) || (!through && !likely)) continue;
            out.push_back({s, at, overrun, guessed || !through});
        }
    }
    std::stable_sort(out.begin(), out.end(), [&](const EarlierStage& x, const EarlierStage& y) {
        return r.series[x.series].frames[x.frame].end < r.series[y.series].frames[y.frame].end;
    });
    return out;
}

}  // namespace fugato
