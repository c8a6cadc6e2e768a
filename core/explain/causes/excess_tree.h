// SPDX-License-Identifier: GPL-3.0-or-later
//
// The excess of one late frame as a tree, and the causes found by going down it. The rules:
// docs/explanation.md. Only the parts of core/explain use this.
#pragma once

#include <algorithm>
#include <array>
#include <optional>

#include "usual.h"

namespace fugato {

/// A function that call stacks of one frame tell of a cause.
struct SeenFunction {
    FunctionId function = 0;
    uint64_t samples = 0;               // in which it was being executed, or ns blocked in it
    int64_t excess = 0, deviation = 0;  // more than usual; the standard deviation of that
};
/// That a function is named by.
inline constexpr uint32_t kFewestSamples = 4;
/// From the outermost in, each called from the one before; the last one is what took the time. Empty: the stacks tell
/// none.
struct SeenFunctions {
    std::vector<SeenFunction> stack;
    uint32_t around = 0;             // so many of them lie around everything else there, and name nothing
    uint64_t samples = 0;            // of the cause in the frame, or ns blocked
    bool blocked = false;            // they tell where its thread was blocked, each for how long
    std::optional<SeenFunction> by;  // then what the innermost called of the C library, in which it was blocked
    double due = 0;                  // as many as there should be, by those of usual frames; 0: not known
    /// Most of them were not taken: the thread did not really run.
    bool areMissing() const { return due >= kFewestSamples && samples < due / 2; }
    /// The innermost occurrence, or null.
    const SeenFunction* find(FunctionId function) const {
        const auto at =
            std::find_if(stack.rbegin(), stack.rend(), [&](auto& seen) { return seen.function == function; });
        return at == stack.rend() ? nullptr : &*at;
    }
};

/// A cause in one frame.
struct FoundCause {
    uint32_t group = 0;
    PathId path = 0;
    uint32_t object = kNone;  // lock it lies behind
    Contention contention = Contention::None;
    std::vector<ContentionPart> contentionParts;  // of NoCore
    bool outside = false;                         // time outside any marker
    CauseKind kind = CauseKind::Unexplained;
    SegmentKind segment = SegmentKind::Running;
    int64_t excess = 0;
    bool met = true;         // usually on the critical path
    bool uncovered = false;  // no longer than usual, but more of it is waited for
    double calls = 0, usualCalls = 0, slowdown = 0;
    SeenFunctions functions;
};

/// What it has in common with others of its kind, but for the function and whether it was while starting up.
CauseKey keyOf(const FoundCause& found);

/// The causes of every late frame, in order of time. Copies share them.
struct FoundCauses {
    SharedList<std::shared_ptr<const std::vector<FoundCause>>> frames;
    std::vector<size_t> from{0};  // so many come before those of late frame n; at the end: all
    std::span<const FoundCause> of(size_t late) const { return *frames[late]; }
    size_t size() const { return from.back(); }
    void add(std::vector<FoundCause> more) {
        from.push_back(from.back() + more.size());
        frames.resize(frames.size() + 1);
        frames.change(frames.size() - 1) = std::make_shared<const std::vector<FoundCause>>(std::move(more));
    }
};

/// What the trees of all frames share. Belongs to one thread.
class CauseFinder {
public:
    explicit CauseFinder(const Explanation& e);
    /// The causes of a late frame, in the order in which they were found; at least one.
    std::vector<FoundCause> causesOf(uint32_t frame, std::span<const Segment> segments);

private:
    friend class ExcessTree;
    const Explanation& e_;
    std::vector<uint64_t> beforeLate_;
    std::vector<bool> divided_;  // by path: markers are recorded inside it
};

}  // namespace fugato
