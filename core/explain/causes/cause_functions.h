// SPDX-License-Identifier: GPL-3.0-or-later
//
// Which function, by the call stacks, took the time that no marker tells apart: of a cause's own running time, or of
// the time it was blocked without a recorded wait, beside or between the markers in it. The rules: docs/explanation.md.
// Only the parts of core/explain use this.
#pragma once

#include <map>

#include "core/symbols/stack_tree.h"
#include "excess_tree.h"

namespace fugato {

/// Looks at one late frame after another. Belongs to one thread; the explanation outlives it.
class FunctionFinder {
public:
    explicit FunctionFinder(const Explanation& e);
    /// Fills in found.functions where the frame's call stacks tell.
    void look(uint32_t frame, std::span<const Segment> segments, FoundCause& found);

private:
    struct Place {
        int64_t ns = 0;
        StackTree stacks;
    };
    struct Usual {
        std::map<std::pair<uint32_t, PathId>, Place> places;  // by lane group and path
        std::map<uint32_t, Place> groups;                     // by lane group: wherever it ran or was blocked
        double frames = 0;
    };
    const Usual& usualOf(uint32_t baseline, bool blocked);
    void add(Place& to, const Segment& segment) const;
    double usuallyIn(const StackTree* usual, std::span<const FunctionId> stack) const;
    double ownPart(const StackTree& tree, std::span<const FunctionId> stack) const;

    const Explanation& e_;
    CriticalPathWalker walker_;
    std::map<std::pair<uint32_t, bool>, Usual> usual_;  // by baseline, of running or of blocked time
};

/// What the causes of all late frames are named by: for each cause that was found the function, or none. Frames with
/// one cause in different functions become different causes.
struct NamedFunction {
    FunctionId function = kNone, caller = kNone;  // caller: the nearest one in another module
    bool operator==(const NamedFunction&) const = default;
};
std::vector<NamedFunction> functionsOf(const Explanation& e, const FoundCauses& found);

/// What the call stacks of a late frame tell of one of its causes; null where the frame does not have it.
const SeenFunctions* functionsSeen(const Explanation& e, uint32_t frame, const Cause& cause);

}  // namespace fugato
