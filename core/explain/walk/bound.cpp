// SPDX-License-Identifier: GPL-3.0-or-later
#include "bound.h"

#include <algorithm>

namespace fugato {

const char* boundName(BoundBy by) {
    static const char* const names[] = {"cpu", "gpu", "waiting", "no_core", "pacing"};
    return names[static_cast<size_t>(by)];
}

Bounds::Bounds(const Recording& recording, const CriticalPathSums& pathSums)
    : accounts_(pathSums), byGroup_(recording.groups.size()) {
    for (const PartKey& key : pathSums.keys) {
        BoundBy by = BoundBy::Waiting;
        if (key.kind == SegmentKind::Running && key.object == kNone)
            by = recording.lanes[recording.groups[key.group].lanes.front()].kind == LaneKind::Queue ? BoundBy::Gpu
                                                                                                    : BoundBy::Cpu;
        else if (key.kind == SegmentKind::NoCore)
            by = BoundBy::NoCore;
        else if (key.kind == SegmentKind::WaitPacing)
            by = BoundBy::Pacing;
        kinds_.emplace_back(by, key.group);
    }
}

Bound Bounds::of(uint32_t frame) {
    Bound bound;
    for (const Part& part : accounts_.partsOf(frame)) {
        const auto& [by, group] = kinds_[part.key];
        bound.ns[static_cast<size_t>(by)] += part.ns;
        if (accounts_.keys[part.key].kind == SegmentKind::Running) bound.work += part.ns;
        if (by == BoundBy::Cpu || by == BoundBy::Gpu) byGroup_[group] += part.ns;
    }
    bound.by = static_cast<BoundBy>(std::max_element(bound.ns.begin(), bound.ns.end()) - bound.ns.begin());
    const bool work = bound.by == BoundBy::Cpu || bound.by == BoundBy::Gpu;
    for (const Part& part : accounts_.partsOf(frame)) {
        const auto& [by, group] = kinds_[part.key];
        if (work && by == bound.by && byGroup_[group] > bound.groupNs) {
            bound.groupNs = byGroup_[group];
            bound.group = group;
        }
    }
    for (const Part& part : accounts_.partsOf(frame)) byGroup_[kinds_[part.key].second] = 0;
    return bound;
}

}  // namespace fugato
