// SPDX-License-Identifier: GPL-3.0-or-later
#include "cause_functions.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <span>

namespace fugato {

namespace {

constexpr double kDeviations = 2;      // its excess is at least so many standard deviations of its count
constexpr double kHoldsMost = 0.5;     // of what is to be named
constexpr double kEverywhere = 0.5;    // of all the lane's usual samples: such a function holds the loop itself
constexpr double kAround = 0.95;       // of the usual samples at this place: such a function holds the marker
constexpr uint32_t kEnoughAround = 8;  // samples to tell that from
constexpr double kLargePart = 0.2, kFewHoldAll = 0.8;  // frames in different functions become different causes

/// What of a cause call stacks tell: that it ran, or that it was blocked and no wait was recorded.
SegmentKind toldKind(bool blocked) { return blocked ? SegmentKind::Blocked : SegmentKind::Running; }

/// Whether a segment is such time of a cause itself, not of a marker in it.
bool isOwn(const Recording& r, const Segment& segment, const FoundCause& found) {
    return segment.kind == toldKind(found.functions.blocked) && segment.path == found.path &&
           segment.lock.object == found.object && r.lanes[segment.lane].group == found.group;
}

}  // namespace

FunctionFinder::FunctionFinder(const Explanation& e) : e_(e), walker_(*e.recording) {}

/// The call stacks of a segment, each with what it counts.
void FunctionFinder::add(Place& to, const Segment& segment) const {
    const Recording& r = *e_.recording;
    const Lane& lane = r.lanes[segment.lane];
    to.ns += segment.duration();
    if (segment.kind == SegmentKind::Blocked)
        forEachStop(r, lane, segment.begin, segment.end, [&](const StackSample& stack, int64_t ns) {
            to.stacks.add(*e_.symbols, r, stack, static_cast<uint64_t>(ns));
        });
    else
        forEachSample(r, lane, segment.begin, segment.end,
                      [&](const StackSample& stack) { to.stacks.add(*e_.symbols, r, stack); });
}

const FunctionFinder::Usual& FunctionFinder::usualOf(uint32_t baseline, bool blocked) {
    const auto [known, isNew] = usual_.try_emplace({baseline, blocked});
    Usual& usual = known->second;
    if (!isNew) return usual;
    const Recording& r = *e_.recording;
    const std::vector<uint32_t>& sample = e_.baselines[baseline].sample;
    usual.frames = static_cast<double>(sample.size());
    for (size_t i = sample.size(); i-- > 0;) {
        const Frame& frame = e_.frame(sample[i]);
        for (const Segment& segment : walker_.account(frame.lane, frame.begin, frame.end)) {
            if (segment.kind != toldKind(blocked)) continue;
            const uint32_t group = r.lanes[segment.lane].group;
            add(usual.places[{group, segment.path}], segment);
            add(usual.groups[group], segment);
        }
    }
    return usual;
}

/// The part of the usual samples whose stacks begin with these functions.
double FunctionFinder::usuallyIn(const StackTree* usual, std::span<const FunctionId> stack) const {
    if (!usual || !usual->total()) return 0;
    uint32_t node = StackTree::kRoot;
    for (const FunctionId function : stack)
        if ((node = usual->childOf(node, function)) == kNone) return 0;
    return static_cast<double>(usual->nodes()[node].total) / static_cast<double>(usual->total());
}

/// The part of a tree's samples that lie in the last of these functions itself, or in what it called of functions that
/// tell nothing.
double FunctionFinder::ownPart(const StackTree& tree, std::span<const FunctionId> stack) const {
    uint32_t node = StackTree::kRoot;
    for (const FunctionId function : stack)
        if ((node = tree.childOf(node, function)) == kNone) return 0;
    uint64_t own = tree.nodes()[node].self;
    for (const uint32_t child : tree.nodes()[node].children)
        if (!e_.symbols->tells(tree.nodes()[child].function)) own += tree.nodes()[child].total;
    return tree.total() ? static_cast<double>(own) / static_cast<double>(tree.total()) : 0;
}

void FunctionFinder::look(uint32_t frame, std::span<const Segment> segments, FoundCause& found) {
    const bool blocked = found.kind == CauseKind::Waiting;
    if (!e_.symbols || found.kind == CauseKind::NoCore || (blocked && found.segment != SegmentKind::Blocked)) return;
    const Recording& r = *e_.recording;
    found.functions.blocked = blocked;
    Place here;
    for (const Segment& segment : segments)
        if (isOwn(r, segment, found)) add(here, segment);
    const uint64_t samples = here.stacks.total();
    const Usual& usual = usualOf(e_.frames[frame].baseline, blocked);
    const auto group = usual.groups.find(found.group);
    found.functions.samples = samples;
    if (blocked)
        found.functions.due = static_cast<double>(here.ns);
    else if (group != usual.groups.end() && group->second.stacks.total())
        found.functions.due = static_cast<double>(here.ns) / static_cast<double>(group->second.ns) *
                              static_cast<double>(group->second.stacks.total());
    const uint64_t fewest = blocked ? 1 : kFewestSamples;
    if (samples < fewest || found.functions.areMissing()) return;
    const auto place = usual.places.find({found.group, found.path});
    const StackTree* const usualStacks = place == usual.places.end() ? nullptr : &place->second.stacks;
    const double usualNs =
        place == usual.places.end() ? 0 : static_cast<double>(place->second.ns) / std::max(1.0, usual.frames);
    const double toName = static_cast<double>(here.ns) - usualNs;
    if (toName < kHoldsMost * static_cast<double>(found.excess)) return;  // markers in it took the time

    // ns that a sample stands for
    const double each = blocked ? 1 : static_cast<double>(here.ns) / static_cast<double>(samples);
    SeenFunctions& seen = found.functions;
    std::vector<FunctionId> stack;
    for (uint32_t node = StackTree::kRoot;;) {
        uint32_t best = kNone;
        double most = 0;
        for (const uint32_t child : here.stacks.nodes()[node].children) {
            stack.push_back(here.stacks.nodes()[child].function);
            const double more =
                each * static_cast<double>(here.stacks.nodes()[child].total) - usualNs * usuallyIn(usualStacks, stack);
            stack.pop_back();
            if (more > most) {
                best = child;
                most = more;
            }
        }
        if (best == kNone || most < kHoldsMost * toName) break;
        const uint64_t count = here.stacks.nodes()[best].total;
        // The count is one draw of a binomial: ns · √(p (1 − p) / n), but never better than half a sample.
        // How long a thread was blocked is known.
        const double of = static_cast<double>(samples), part = static_cast<double>(count) / of;
        const double deviation =
            blocked ? 0 : std::max(each / 2, static_cast<double>(here.ns) * std::sqrt(part * (1 - part) / of));
        if (count < fewest || most < kDeviations * deviation) break;
        node = best;
        stack.push_back(here.stacks.nodes()[best].function);
        seen.stack.push_back({stack.back(), count, static_cast<int64_t>(most), static_cast<int64_t>(deviation)});
    }
    while (!stack.empty() && !e_.symbols->tells(stack.back())) {
        if (blocked && !e_.symbols->functions[stack.back()].name.empty()) seen.by = seen.stack.back();
        stack.pop_back();
        seen.stack.pop_back();
    }
    const StackTree* const groupStacks = group == usual.groups.end() ? nullptr : &group->second.stacks;
    const bool enough = usualStacks && usualStacks->total() >= (blocked ? 1 : kEnoughAround);
    while (seen.around < stack.size()) {
        const std::span<const FunctionId> first(stack.data(), seen.around + 1);
        if (usuallyIn(groupStacks, first) < kEverywhere && !(enough && usuallyIn(usualStacks, first) >= kAround)) break;
        ++seen.around;
    }
    if (stack.empty() || seen.around < stack.size()) return;
    // What lies around everything is named all the same where the time was its own; and in a thread without markers,
    // where it is still more than nothing.
    const double own = static_cast<double>(here.ns) * ownPart(here.stacks, stack) -
                       (usualStacks ? usualNs * ownPart(*usualStacks, stack) : 0);
    const bool unmarked = std::any_of(r.lanes.begin(), r.lanes.end(),
                                      [&](const Lane& lane) { return lane.fromSystem && lane.group == found.group; });
    if (unmarked || own >= kHoldsMost * static_cast<double>(seen.stack.back().excess))
        --seen.around;
    else
        seen.stack.clear();
}

namespace {

/// Frames that have one cause by its markers, told apart by their stacks.
class Cluster {
public:
    Cluster(const Explanation& e, const std::vector<const FoundCause*>& found, std::vector<NamedFunction>& named)
        : symbols_(*e.symbols), found_(found), named_(named) {}

    /// `members` have the same functions before `depth`.
    void settle(const std::vector<size_t>& members, size_t depth) {
        std::map<FunctionId, std::vector<size_t>> next;
        for (const size_t member : members)
            if (const auto& stack = seen(member).stack; stack.size() > depth)
                next[stack[depth].function].push_back(member);
        const double all = excessOf(members);
        double held = 0;
        for (auto& [function, of] : next)
            if (excessOf(of) >= kLargePart * all)
                held += excessOf(of);
            else
                of.clear();
        if (held >= kFewHoldAll * all) {
            for (const auto& [function, of] : next)
                if (!of.empty()) settle(of, depth + 1);
            return;
        }
        if (depth == 0) return;
        for (const size_t member : members)
            if (depth > seen(member).around) named_[member] = nameAt(seen(member).stack, depth - 1);
    }

private:
    const SeenFunctions& seen(size_t member) const { return found_[member]->functions; }
    double excessOf(const std::vector<size_t>& members) const {
        return std::accumulate(members.begin(), members.end(), 0.0, [&](double sum, size_t member) {
            return sum + static_cast<double>(found_[member]->excess);
        });
    }
    NamedFunction nameAt(const std::vector<SeenFunction>& stack, size_t at) const {
        NamedFunction name{stack[at].function, kNone};
        const auto moduleOf = [&](size_t i) { return symbols_.functions[stack[i].function].module; };
        for (size_t i = at; i-- > 0 && name.caller == kNone;)
            if (moduleOf(i) != moduleOf(at) && symbols_.tells(stack[i].function) &&
                !symbols_.functions[stack[i].function].name.empty())
                name.caller = stack[i].function;
        return name;
    }
    const Symbols& symbols_;
    const std::vector<const FoundCause*>& found_;
    std::vector<NamedFunction>& named_;
};

}  // namespace

std::vector<NamedFunction> functionsOf(const Explanation& e, const FoundCauses& found) {
    std::vector<NamedFunction> named(found.size());
    if (!e.symbols) return named;
    std::vector<const FoundCause*> causes;
    for (size_t late = 0; late < found.frames.size(); ++late)
        for (const FoundCause& cause : found.of(late)) causes.push_back(&cause);
    std::map<CauseKey, std::vector<size_t>> byKey;
    for (size_t i = 0; i < causes.size(); ++i) byKey[keyOf(*causes[i])].push_back(i);
    for (const auto& [key, all] : byKey) {
        std::vector<size_t> told, untold;
        double excess = 0, excessTold = 0;
        for (const size_t i : all) {
            const bool tells = !causes[i]->functions.stack.empty();
            (tells ? told : untold).push_back(i);
            excess += static_cast<double>(causes[i]->excess);
            if (tells) excessTold += static_cast<double>(causes[i]->excess);
        }
        if (told.empty() || excessTold < kHoldsMost * excess) continue;
        Cluster(e, causes, named).settle(told, 0);
        // Frames with too few samples to tell: the one function that all others tell.
        const NamedFunction first = named[told.front()];
        const bool one =
            std::all_of(told.begin(), told.end(), [&](size_t i) { return named[i].function == first.function; });
        for (const size_t i : untold)
            if (one && !causes[i]->functions.areMissing()) named[i] = first;
    }
    return named;
}

const SeenFunctions* functionsSeen(const Explanation& e, uint32_t frame, const Cause& cause) {
    const auto late = std::lower_bound(e.late.begin(), e.late.end(), frame);
    if (late == e.late.end() || *late != frame) return nullptr;
    CauseKey key = cause.key;
    key.function = key.caller = kNone;
    key.startUp = false;
    for (const FoundCause& found : e.found->of(static_cast<size_t>(late - e.late.begin())))
        if (keyOf(found) == key) return &found.functions;
    return nullptr;
}

}  // namespace fugato
