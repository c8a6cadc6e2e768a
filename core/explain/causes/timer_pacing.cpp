// SPDX-License-Identifier: GPL-3.0-or-later
#include "timer_pacing.h"

#include <algorithm>
#include <unordered_map>

#include "usual.h"

namespace fugato {

namespace {

constexpr size_t kFewestFrames = 32, kMostFrames = 4096;
constexpr double kTickNear = 0.05;     // of the deadline: the tick may differ from it by so much
constexpr double kHeld = 0.02;         // of the tick: frames that last one tick differ from it by so much
constexpr double kTolerance = 0.03;    // of the tick: a frame may last so much longer and still ends on it
constexpr double kTold = 0.1;          // of the frames: where more tell their pacing, that is believed
constexpr double kLeastAsleep = 0.05;  // of the tick, usually

bool mayBeSleep(SegmentKind kind) {
    return kind == SegmentKind::WaitSleep || kind == SegmentKind::WaitOther || kind == SegmentKind::WaitCondition ||
           kind == SegmentKind::Blocked;
}

}  // namespace

TimerPacing findTimerPacing(const Explanation& e) {
    const auto& frames = e.recording->series[e.series].frames;
    if (frames.size() < kFewestFrames) return {};
    const size_t count = std::min<size_t>(kMostFrames, frames.size());
    std::vector<int64_t> durations, deadlines;
    std::unordered_map<uint32_t, std::vector<int64_t>> asleep;  // by key
    const uint32_t own = e.recording->lanes[frames[0].lane].group;
    // Where the system did not tell when the lane ran, time outside any marker may be a sleep too.
    const bool noSchedule = e.recording->lanes[frames[0].lane].schedule.empty();
    size_t told = 0;
    for (size_t i = 0; i < count; ++i) {
        const auto frame = static_cast<uint32_t>(i * frames.size() / count);
        durations.push_back(frames[frame].duration());
        deadlines.push_back(e.deadlineOf(e.frame(frame)));
        told += e.pathSums->pacing(frame) > 0;
        for (const Part& part : e.pathSums->partsOf(frame)) {
            const PartKey& key = e.pathSums->keys[part.key];
            const bool unknown = noSchedule && key.kind == SegmentKind::Running && !key.path;
            if (key.group == own && key.object == kNone && (unknown || mayBeSleep(key.kind)))
                asleep[part.key].push_back(part.ns);
        }
    }
    if (static_cast<double>(told) > kTold * static_cast<double>(count)) return {};
    TimerPacing found;
    int64_t longest = 0;
    for (auto& [key, times] : asleep) {
        const int64_t usual = quantileWithZeros(times, count, 0.5);
        if (usual < longest || (usual == longest && key > found.key)) continue;
        longest = usual;
        found.key = key;
    }
    const int64_t tick = quantileWithZeros(durations, count, 0.5), deadline = quantileWithZeros(deadlines, count, 0.5);
    const auto within = [](int64_t a, int64_t b, double part) {
        return static_cast<double>(std::abs(a - b)) <= part * static_cast<double>(b);
    };
    if (!within(tick, deadline, kTickNear) || static_cast<double>(longest) < kLeastAsleep * static_cast<double>(tick))
        return {};
    const auto held =
        std::count_if(durations.begin(), durations.end(), [&](int64_t d) { return within(d, tick, kHeld); });
    if (2 * static_cast<size_t>(held) < count) return {};
    found.tick = tick;
    found.longest = tick + static_cast<int64_t>(kTolerance * static_cast<double>(tick));
    found.held = static_cast<double>(held) / static_cast<double>(count);
    return found;
}

}  // namespace fugato
