// SPDX-License-Identifier: GPL-3.0-or-later
#include "explained_frame.h"

#include <algorithm>

#include "core/store/long_work.h"

namespace fugato {

namespace {

constexpr double kLeastPart = 0.03;        // of the largest excess, that a marker is shown for
constexpr double kCause = 0.4;             // the least strength of a cause, that grows with its part
constexpr double kCaller = 0.1;            // of what calls a cause, so that the way down to it can be followed
constexpr int64_t kNoDifference = 50'000;  // ns; would read 0.0 ms

uint64_t keyOf(uint32_t group, PathId path) { return uint64_t{group} << 32 | path; }

void findPath(ExplainedFrame& f) {
    f.onPath.assign(f.explanation->recording->lanes.size(), false);
    for (const Segment& segment : f.segments) {
        f.onPath[segment.lane] = true;
        if (f.path.empty() || f.path.back().lane != segment.lane)
            f.path.push_back({segment.lane, segment.begin, segment.end});
        else
            f.path.back().begin = segment.begin;
    }
}

void findContended(ExplainedFrame& f) {
    for (const CauseShare& share : f.explanation->sharesOf(f.frame)) {
        const Cause& named = f.explanation->causes[share.cause];
        if (named.kind != CauseKind::NoCore) continue;
        std::copy_if(f.segments.begin(), f.segments.end(), std::back_inserter(f.contended),
                     [&](const Segment& segment) { return isOf(*f.explanation->recording, segment, named); });
    }
}

/// How much of the frame's excess lies at a marker and below it.
void findStrengths(ExplainedFrame& f) {
    const Explanation& e = *f.explanation;
    const Recording& r = *e.recording;
    const auto shares = e.sharesOf(f.frame);
    if (shares.empty()) return;
    std::unordered_map<uint64_t, int64_t> below;
    for (const ExcessPart& part : e.excessOf(f.frame)) {
        if (e.isPacing(f.frame, part)) continue;
        for (PathId path = part.key.path; path; path = r.paths[path].parent)
            below[keyOf(part.key.group, path)] += part.excess();
    }
    int64_t most = 1;
    for (const CauseShare& share : shares) most = std::max(most, share.excess);
    for (const auto& [key, excess] : below) {
        const double part = static_cast<double>(excess) / static_cast<double>(most);
        if (part < kLeastPart) continue;
        const auto path = static_cast<PathId>(key);
        double strength = 0;
        for (const CauseShare& share : shares) {
            const Cause& named = e.causes[share.cause];
            if (named.group != key >> 32 || !named.path) continue;
            if (r.paths.contains(named.path, path))
                strength = std::max(strength, kCause + (1 - kCause) * std::min(1.0, part));
            else if (r.paths.contains(path, named.path))
                strength = std::max(strength, kCaller);
        }
        if (strength > 0) f.strengths[key] = strength;
    }
    for (const CauseShare& share : shares) {  // the waits through which the frame came to a lock's holder
        const Cause& named = e.causes[share.cause];
        if (named.object == kNone) continue;
        for (const Segment& segment : f.segments) {
            if (segment.lock.object != named.object || segment.lock.waiterLane == kNone) continue;
            const MarkerRef waiter = r.innermostBefore(segment.lock.waiterLane, segment.end);
            if (!waiter.valid()) continue;
            const uint32_t group = r.lanes[waiter.lane].group;
            for (PathId path = r.paths[r.pathOf(waiter)].parent; path; path = r.paths[path].parent)
                f.strengths.try_emplace(keyOf(group, path), kCaller);
        }
    }
}

}  // namespace

std::shared_ptr<const ExplainedFrame> explainedFrame(std::shared_ptr<const Explanation> explanation, uint32_t frame) {
    longWork("explaining a frame");
    auto f = std::make_shared<ExplainedFrame>();
    f->explanation = std::move(explanation);
    f->frame = frame;
    f->segments = f->explanation->segmentsOf(frame);
    findPath(*f);
    findContended(*f);
    findStrengths(*f);
    f->waterfall = waterfallOf(*f->explanation, frame);
    if (!f->waterfall.empty() && f->waterfall.back().rest && std::abs(f->waterfall.back().excess) < kNoDifference)
        f->waterfall.pop_back();
    f->sentences = frameSentences(*f->explanation, frame, f->segments);
    return f;
}

}  // namespace fugato
