// SPDX-License-Identifier: GPL-3.0-or-later
#include "explanation.h"

#include <algorithm>
#include <map>

namespace fugato {

const char* causeKindName(CauseKind kind) {
    static const char* const names[] = {"slower", "more_calls", "unusual", "waiting", "no_core", "unexplained"};
    return names[static_cast<size_t>(kind)];
}

bool heldToTick(int64_t duration, int64_t pacing, int64_t deadline) {
    return pacing > 0 && duration - pacing <= deadline && duration < deadline + deadline / 2;
}

bool Explanation::isOutside(const Frame& frame) const {
    if (frame.begin < scope.begin || frame.begin >= scope.end) return true;
    if (scope.stage.empty()) return false;
    const StateSpan* stage = recording->stageAt(frame.begin);
    return !stage || recording->text(stage->value) != scope.stage;
}

FrameVerdict Explanation::judged(const Frame& frame, int64_t pacing, int64_t sleep) const {
    FrameVerdict v;
    const int64_t duration = frame.duration();
    v.deadline = deadlineOf(frame);
    v.outside = isOutside(frame);
    const bool inTime =
        v.outside || heldToTick(duration, pacing, v.deadline) || (timer.tick && duration <= timer.longest);
    v.overrun = inTime ? 0 : std::max<int64_t>(0, duration - v.deadline);
    v.work = duration - pacing - sleep;
    const auto nearFrom = static_cast<int64_t>(static_cast<double>(v.deadline) * (1 - kNearPart));
    v.state = v.overrun > 0                     ? FrameState::Over
              : v.work > nearFrom && !v.outside ? FrameState::Near
                                                : FrameState::InBudget;
    return v;
}

FrameGroup Explanation::groupOf(uint32_t from, uint32_t to) const {
    FrameGroup all = groupOfOne(from, frames[from]);
    for (++from; from < to;) {
        const bool whole = from % FrameGroup::kFrames == 0 && to - from >= FrameGroup::kFrames;
        all.add(whole ? groups[from / FrameGroup::kFrames] : groupOfOne(from, frames[from]));
        from += whole ? FrameGroup::kFrames : 1;
    }
    return all;
}

bool Explanation::isPacing(uint32_t frame, const ExcessPart& part) const {
    if (part.key.kind == SegmentKind::WaitPacing) {
        const FrameVerdict& verdict = frames[frame];
        return !verdict.overrun || verdict.work > verdict.deadline;
    }
    // A sleep shorter than usual; a longer one makes its frame late.
    return timer.tick && part.excess() < 0 && part.key == pathSums->keys[timer.key];
}

bool isOf(const Recording& recording, const Segment& segment, const Cause& cause) {
    if (cause.kind == CauseKind::NoCore || segment.kind == SegmentKind::NoCore)
        return cause.kind == CauseKind::NoCore && segment.kind == SegmentKind::NoCore &&
               contentionBy(segment.coreHolder) == cause.contention;
    if (cause.object != kNone) return segment.lock.object == cause.object;
    return recording.lanes[segment.lane].group == cause.group && recording.paths.contains(cause.path, segment.path);
}

template <class Key>
static std::vector<std::pair<Key, int64_t>> summed(const std::vector<ContentionPart>& parts, Key ContentionPart::*key) {
    std::map<Key, int64_t> sums;
    for (const ContentionPart& part : parts) sums[part.*key] += part.ns;
    std::vector<std::pair<Key, int64_t>> out(sums.begin(), sums.end());
    std::stable_sort(out.begin(), out.end(), [](auto& a, auto& b) { return a.second > b.second; });
    return out;
}
std::vector<std::pair<CoreHolder, int64_t>> byHolder(const std::vector<ContentionPart>& contentionParts) {
    return summed(contentionParts, &ContentionPart::holder);
}
std::vector<std::pair<uint32_t, int64_t>> byGroup(const std::vector<ContentionPart>& contentionParts) {
    return summed(contentionParts, &ContentionPart::group);
}

std::vector<ContentionPart> Explanation::contentionPartsIn(uint32_t frame, const Cause& cause) const {
    std::map<std::pair<uint32_t, CoreHolder>, int64_t> times;
    int64_t all = 0, excess = 0;
    for (const ExcessPart& part : excessOf(frame)) {
        if (part.key.kind != SegmentKind::NoCore || contentionBy(part.key.coreHolder) != cause.contention) continue;
        excess += part.excess();
        all += part.ns;
        if (part.ns) times[{part.key.group, part.key.coreHolder}] += part.ns;
    }
    std::vector<ContentionPart> out;
    for (const auto& [of, ns] : times)
        out.push_back({of.first, of.second,
                       static_cast<int64_t>(static_cast<double>(std::max<int64_t>(0, excess)) *
                                            static_cast<double>(ns) / static_cast<double>(all))});
    std::stable_sort(out.begin(), out.end(), [](auto& a, auto& b) { return a.ns > b.ns; });
    return out;
}

std::vector<ExcessPart> Explanation::excessOf(uint32_t frame) const {
    const Baseline& baseline = baselines[frames[frame].baseline];
    std::vector<ExcessPart> out;
    const auto add = [&](uint32_t key, int64_t ns) {
        out.push_back({pathSums->keys[key], ns, baseline.usual[key], baseline.high[key]});
    };
    size_t at = 0;
    for (const Part& part : pathSums->partsOf(frame)) {  // both lists ascend by key
        for (; at < baseline.usualKeys.size() && baseline.usualKeys[at] < part.key; ++at)
            add(baseline.usualKeys[at], 0);
        if (at < baseline.usualKeys.size() && baseline.usualKeys[at] == part.key) ++at;
        add(part.key, part.ns);
    }
    for (; at < baseline.usualKeys.size(); ++at) add(baseline.usualKeys[at], 0);
    std::stable_sort(out.begin(), out.end(), [](auto& a, auto& b) { return a.excess() > b.excess(); });
    return out;
}

Explanation::Coverage Explanation::coverageOf(uint32_t frame) const {
    Coverage out;
    for (const ExcessPart& part : excessOf(frame))
        if (!isPacing(frame, part)) out.excess += part.excess();
    for (const CauseShare& share : sharesOf(frame)) {
        const Cause& cause = causes[share.cause];
        if (cause.isNamed()) out.named += share.excess;
    }
    return out;
}

std::vector<Segment> Explanation::segmentsOf(uint32_t index) const {
    const Frame& f = frame(index);
    CriticalPathWalker walker(*recording);
    const auto segments = walker.account(f.lane, f.begin, f.end);
    return {segments.begin(), segments.end()};
}

uint32_t Explanation::worstFrameOf(const Spike& spike) const {
    uint32_t worst = spike.first;
    for (uint32_t f = spike.first; f <= spike.last; ++f)
        if (frames[f].overrun > frames[worst].overrun) worst = f;
    return worst;
}

uint32_t Explanation::causeLike(const CauseKey& key) const {
    const auto same = std::find_if(causes.begin(), causes.end(), [&](const Cause& cause) { return cause.key == key; });
    return same == causes.end() ? kNone : static_cast<uint32_t>(same - causes.begin());
}

uint32_t Explanation::worstFrameOf(const Cause& cause) const {
    const auto index = static_cast<uint32_t>(&cause - causes.data());
    const auto ofCause = [&](uint32_t frame) {
        int64_t excess = 0;
        for (const CauseShare& share : sharesOf(frame))
            if (share.cause == index) excess += share.excess;
        return excess;
    };
    uint32_t worst = cause.frames.front();
    int64_t most = ofCause(worst);
    for (const uint32_t frame : cause.frames)
        if (const int64_t excess = ofCause(frame); excess > most) {
            worst = frame;
            most = excess;
        }
    return worst;
}

}  // namespace fugato
