// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_figures.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "core/explain/words/quantities.h"
#include "core/store/long_work.h"

namespace fugato {

std::shared_ptr<const FrameFigures> figuresOfFrames(const Explanation& e, const Scope& scope,
                                                    const Progress& progress) {
    longWork("the figures of frames");
    auto made = std::make_shared<FrameFigures>();
    FrameFigures& f = *made;
    std::map<int64_t, size_t> deadlines;
    size_t row = 0, pairs = 0;
    uint32_t rowFrom = kNone, before = kNone;
    double differences = 0;
    for (uint32_t i = 0; i < e.frames.size(); ++i) {
        if (progress && i % 65'536 == 0 && !progress(static_cast<double>(i) / static_cast<double>(e.frames.size())))
            return nullptr;
        const Frame& frame = e.frame(i);
        if (!scope.contains(frame.begin)) continue;
        const FrameVerdict& verdict = e.frames[i];
        ++f.frames;
        f.over += verdict.state == FrameState::Over;
        f.near += verdict.state == FrameState::Near;
        f.late += std::max<int64_t>(0, verdict.overrun);
        ++deadlines[verdict.deadline];
        f.durations.push_back(frame.duration());
        if (f.longestFrame == kNone || frame.duration() > f.longest) {
            f.longest = frame.duration();
            f.longestFrame = i;
        }
        const bool follows = before != kNone && before + 1 == i;
        if (follows) {
            ++pairs;
            differences += std::abs(static_cast<double>(frame.duration() - e.frame(before).duration()));
        }
        if (verdict.overrun > 0) {
            if (!row || !follows) row = 0, rowFrom = i;
            if (++row > f.lateInARow) {
                f.lateInARow = row;
                f.lateFrom = rowFrom;
            }
        } else {
            row = 0;
        }
        before = i;
    }
    if (f.durations.empty()) return made;
    std::sort(f.durations.begin(), f.durations.end());
    const auto rank = [&](double p) {
        const auto at = static_cast<size_t>(std::ceil(p * static_cast<double>(f.durations.size())));
        return f.durations[std::clamp<size_t>(at, 1, f.durations.size()) - 1];
    };
    f.shortest = f.durations.front();
    f.median = rank(0.5);
    f.p95 = rank(0.95);
    f.p99 = rank(0.99);
    if (pairs) f.unevenness = std::llround(differences / static_cast<double>(pairs));
    f.deadline = std::max_element(deadlines.begin(), deadlines.end(), [](const auto& a, const auto& b) {
                     return a.second < b.second;
                 })->first;
    return made;
}

std::vector<std::string> textsOf(const FrameFigures& f) {
    if (!f.frames) return {"No frame begins there"};
    std::vector<std::string> texts{plural(f.frames, "frame", "frames") + ", " + countText(f.over) + " over" +
                                   (f.late ? ", " + durationText(f.late) + " late in all" : "") + ", " +
                                   countText(f.near) + " near"};
    texts.push_back("Median " + durationText(f.median) + ", 95th percentile " + durationText(f.p95) + ", 99th " +
                    durationText(f.p99) + ", longest " + durationText(f.longest) + " in frame " +
                    countText(f.longestFrame) + ", shortest " + durationText(f.shortest));
    if (f.frames > 1) texts.push_back("From one frame to the next " + durationText(f.unevenness) + " apart on average");
    if (f.lateInARow)
        texts.push_back("At most " + countText(f.lateInARow) + " late in a row, from frame " + countText(f.lateFrom));
    return texts;
}

std::vector<MarkerDifference> differencesOf(const Recording& r, const NestedMarkers& here, size_t framesHere,
                                            const NestedMarkers& there, size_t framesThere) {
    std::map<std::pair<uint32_t, PathId>, MarkerDifference> sums;
    const auto add = [&](const NestedMarkers& from, size_t frames, double MarkerDifference::*side) {
        for (const NestedMarker& row : from.rows) {
            if (!row.path || row.wait || row.function != kNone || !frames) continue;
            const uint32_t group = r.lanes[row.lane].group;
            MarkerDifference& sum = sums[{group, row.path}];
            sum.group = group;
            sum.path = row.path;
            sum.*side += static_cast<double>(row.self) / static_cast<double>(frames);
        }
    };
    add(here, framesHere, &MarkerDifference::here);
    add(there, framesThere, &MarkerDifference::there);
    std::vector<MarkerDifference> out;
    for (const auto& [key, difference] : sums) out.push_back(difference);
    std::stable_sort(out.begin(), out.end(), [](const MarkerDifference& a, const MarkerDifference& b) {
        return std::abs(a.difference()) > std::abs(b.difference());
    });
    return out;
}

}  // namespace fugato
