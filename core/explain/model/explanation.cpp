// SPDX-License-Identifier: GPL-3.0-or-later
#include "explanation.h"

#include <algorithm>

namespace fugato {

const char* causeKindName(CauseKind kind) {
    static const char* const names[] = {"slower", "more_calls", "unusual", "waiting", "no_core", "unexplained"};
    return names[static_cast<size_t>(kind)];
}

bool heldToTick(int64_t duration, int64_t pacing, int64_t deadline) {
    return pacing > 0 && duration - pacing <= deadline && duration < deadline + deadline / 2;
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
    return *std::max_element(cause.frames.begin(), cause.frames.end(),
                             [&](uint32_t a, uint32_t b) { return frames[a].overrun < frames[b].overrun; });
}

}  // namespace fugato
