// SPDX-License-Identifier: GPL-3.0-or-later
//
// The markers in a scope beside what is usual, with all else that is known of them: how much of their time they ran,
// what they allocated, the functions that their call stacks name. Unlike the critical path, this counts all lanes, also
// those that nothing waited for.
#pragma once

#include <fugato_mutex.hpp>
#include <map>
#include <memory>

#include "core/explain/model/explanation.h"
#include "nested_markers.h"

namespace fugato {

/// What is usual in a frame is the median over the sample of its baseline, 0 where that has none; in a scope, the sum
/// of what is usual in its frames: of one that lies in it in part, that part of it. It is worked out once per baseline.
/// For any threads, which wait for each other.
class UsualMarkers {
public:
    explicit UsualMarkers(std::shared_ptr<const Explanation> explanation);
    ~UsualMarkers();
    /// Null where `progress` cancelled it.
    std::shared_ptr<const NestedMarkers> of(const Scope& scope, const Progress& progress = {});
    std::shared_ptr<const NestedMarkers> ofFrame(uint32_t frame, const Progress& progress = {});
    const std::shared_ptr<const Explanation>& explanation() const { return explanation_; }

private:
    struct Usual;
    const Usual* usualOf(uint32_t baseline, const Progress& progress) FUGATO_NEEDS(mutex_);
    bool addUsual(NestedMarkers& made, const Progress& progress) FUGATO_NEEDS(mutex_);
    const std::shared_ptr<const Explanation> explanation_;
    Mutex mutex_;
    std::map<uint32_t, std::unique_ptr<Usual>> usual_ FUGATO_GUARDED_BY(mutex_);
};

/// Up to so many markers in a scope, or call stacks, it is worked out how much of each marker's time ran, and in which
/// functions it went: these cost a look at each.
inline constexpr size_t kMostLookedAt = 200'000;

/// Adds what can be known without an explanation: what ran, and what was allocated.
void addRanAndAllocated(const Recording& recording, NestedMarkers& made);

}  // namespace fugato
