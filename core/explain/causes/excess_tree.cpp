// SPDX-License-Identifier: GPL-3.0-or-later
#include "excess_tree.h"

#include <algorithm>

#include "longer_calls.h"

namespace fugato {

namespace {
constexpr size_t kMostCauses = 6;
constexpr double kWorthNaming = 0.05;  // of the excess
constexpr double kBeyond = 0.2;        // of a cause's excess must lie beyond what usual frames reach
constexpr double kMuchBeside = 0.2, kAsSlow = 0.5, kMostOfRest = 0.7;  // see evenlySlower()
constexpr double kLargeChild = 0.2, kFewHoldAll = 0.8;                 // see sharedByFew()
constexpr double kAsLong = 1.1;  // of their usual mean: calls on other lanes up to there are no longer than usual
}  // namespace

/// One frame's parts: lock, or CPU contention by whom, or none → lane group → markers. Times include what is below.
class ExcessTree {
public:
    ExcessTree(CauseFinder& finder, uint32_t frame, std::span<const Segment> segments)
        : finder_(finder), e_(finder.e_), frame_(frame), segments_(segments) {
        nodes_.push_back({});
        for (const ExcessPart& part : e_.excessOf(frame)) {
            if (e_.isPacing(frame, part)) continue;
            uint32_t node = leaf(part.key);
            nodes_[node].own[static_cast<size_t>(part.key.kind)] += part.excess();
            const bool noCore = part.key.kind == SegmentKind::NoCore;
            if (noCore && part.ns > 0)
                nodes_[node].contentionParts.push_back({part.key.group, part.key.coreHolder, part.ns});
            const int64_t beyond = noCore ? 0 : std::max<int64_t>(0, part.ns - std::max(part.high, part.usual));
            for (;; node = nodes_[node].parent) {
                nodes_[node].ns += part.ns;
                nodes_[node].usual += part.usual;
                nodes_[node].beyond += beyond;
                if (node == 0) break;
            }
        }
        for (const uint32_t child : nodes_[0].children) {  // its range is known of all its parts together
            Node& node = nodes_[child];
            if (node.contention == Contention::None) continue;
            const int64_t high =
                e_.baselines[e_.frames[frame].baseline].contentionHigh[static_cast<size_t>(node.contention)];
            node.beyond = std::max<int64_t>(0, node.ns - std::max(node.usual, high));
            nodes_[0].beyond += node.beyond;
        }
    }

    /// Only what lies beyond the range of usual frames counts, unless told otherwise.
    void countEverything() { everything_ = true; }

    /// What has to be explained: pacing is excluded.
    int64_t excess() const { return nodes_[0].ns - nodes_[0].usual; }

    /// The next largest cause, whose excess is then taken out of the tree. Excess ≤ 0: nothing left.
    FoundCause takeNext() {
        std::vector<uint32_t> chain;  // marker nodes from the outermost in
        uint32_t node = heaviestChild(0);
        if (node == kNone) return {};
        if (nodes_[node].object != kNone || nodes_[node].contention != Contention::None) {
            // The whole time behind one lock has one owner, its holder's marker; that without a core has
            // those who had the cores.
            FoundCause found = describe(node);
            found.kind = nodes_[node].contention != Contention::None ? CauseKind::NoCore : CauseKind::Waiting;
            takeOut(node);
            return found;
        }
        for (;;) {
            if (nodes_[node].path) chain.push_back(node);
            const uint32_t child = heaviestChild(node);
            if (child == kNone) break;
            const bool marker = nodes_[node].path != 0;
            const bool holdsMost = 2 * left(child) >= left(node) || sharedByFew(node);
            if (marker && (!holdsMost || evenlySlower(node, child))) break;
            node = child;
        }
        // The outermost marker that does not belong there, or is called more often, is the cause;
        // what happens inside it follows from it.
        for (const uint32_t outer : chain) {
            const FoundCause seen = describe(outer);
            if (seen.kind != CauseKind::Unusual && seen.kind != CauseKind::MoreCalls) continue;
            node = outer;
            break;
        }
        FoundCause found = describe(node);
        takeOut(node);
        return found;
    }

private:
    struct Node {
        uint32_t parent = 0;
        uint32_t group = 0;
        PathId path = 0;
        bool outside = false;  // time outside any marker
        uint32_t object = kNone;
        PathId holder = 0;
        Contention contention = Contention::None;
        std::vector<ContentionPart> contentionParts;
        int64_t ns = 0, usual = 0, beyond = 0, taken = 0, takenBeyond = 0;
        std::array<int64_t, kSegmentKinds> own{};  // excess of this node itself, by kind
        std::vector<uint32_t> children;
    };

    int64_t left(uint32_t node) const { return nodes_[node].ns - nodes_[node].usual - nodes_[node].taken; }
    bool counts(uint32_t node) const {
        if (left(node) <= 0) return false;
        const int64_t beyond = nodes_[node].beyond - nodes_[node].takenBeyond;
        return everything_ || static_cast<double>(beyond) >= kBeyond * static_cast<double>(left(node));
    }

    uint32_t heaviestChild(uint32_t node) const {
        uint32_t best = kNone;
        for (const uint32_t child : nodes_[node].children)
            if (counts(child) && (best == kNone || left(child) > left(best))) best = child;
        return best;
    }

    /// Whether several children, each of them large, hold nearly all that is left: then they are named, not their
    /// caller.
    bool sharedByFew(uint32_t node) const {
        int64_t held = 0;
        size_t large = 0;
        for (const uint32_t child : nodes_[node].children)
            if (counts(child) && static_cast<double>(left(child)) >= kLargeChild * static_cast<double>(left(node))) {
                held += left(child);
                ++large;
            }
        return large > 1 && static_cast<double>(held) >= kFewHoldAll * static_cast<double>(left(node));
    }

    /// Whether what lies beside a child has become slower about as much: then not the child is slower, but all
    /// of it.
    bool evenlySlower(uint32_t node, uint32_t child) const {
        const auto usual = static_cast<double>(nodes_[child].usual), excess = static_cast<double>(left(child));
        const double restExcess = static_cast<double>(left(node)) - excess;
        if (usual <= 0 || restExcess < kMuchBeside * static_cast<double>(left(node))) return false;
        double rest = 0, asSlow = 0, ownUsual = static_cast<double>(nodes_[node].usual) - usual, ownExcess = restExcess;
        const auto count = [&](double partUsual, double partExcess) {
            rest += partUsual;
            if (partExcess >= kAsSlow * excess / usual * partUsual) asSlow += partUsual;
        };
        for (const uint32_t other : nodes_[node].children) {
            if (other == child) continue;
            count(static_cast<double>(nodes_[other].usual), static_cast<double>(left(other)));
            ownUsual -= static_cast<double>(nodes_[other].usual);
            ownExcess -= static_cast<double>(left(other));
        }
        count(ownUsual, ownExcess);
        return rest > 0 && asSlow >= kMostOfRest * rest;
    }

    template <class Same>
    uint32_t child(uint32_t parent, Node like, Same&& same) {
        for (const uint32_t at : nodes_[parent].children)
            if (same(nodes_[at])) return at;
        like.parent = parent;
        const auto made = static_cast<uint32_t>(nodes_.size());
        nodes_.push_back(std::move(like));
        nodes_[parent].children.push_back(made);
        return made;
    }

    uint32_t leaf(const PartKey& key) {
        uint32_t node = 0;
        if (key.kind == SegmentKind::NoCore) {
            Node noCore;
            noCore.contention = contentionBy(key.coreHolder);
            return child(0, noCore, [&](const Node& n) { return n.contention == noCore.contention; });
        }
        if (key.object != kNone) {
            Node lock;
            lock.object = key.object;
            lock.holder = lock.path = key.holder;
            lock.group = key.group;
            node = child(0, lock, [&](const Node& n) { return n.object == key.object && n.holder == key.holder; });
        }
        Node group;
        group.group = key.group;
        node = child(node, group, [&](const Node& n) {
            return n.object == kNone && n.contention == Contention::None && n.path == 0 && !n.outside &&
                   n.group == key.group;
        });
        if (!key.path) {  // competes with the markers beside it
            Node outside;
            outside.group = key.group;
            outside.outside = true;
            return child(node, outside, [](const Node& n) { return n.outside; });
        }
        std::vector<PathId> way;
        for (PathId p = key.path; p; p = e_.recording->paths[p].parent) way.push_back(p);
        for (size_t i = way.size(); i-- > 0;) {
            Node marker;
            marker.group = key.group;
            marker.path = way[i];
            node = child(node, marker, [&](const Node& n) { return n.path == way[i]; });
        }
        return node;
    }

    void addOwn(uint32_t node, std::array<int64_t, kSegmentKinds>& sums) const {
        for (size_t i = 0; i < sums.size(); ++i) sums[i] += nodes_[node].own[i];
        for (const uint32_t child : nodes_[node].children) addOwn(child, sums);
    }

    FoundCause describe(uint32_t at) const {
        const Node& node = nodes_[at];
        FoundCause found;
        found.group = node.group;
        found.path = node.path;
        found.outside = node.outside;
        found.object = node.object;
        found.contention = node.contention;
        found.contentionParts = node.contentionParts;
        if (!found.contentionParts.empty()) found.group = byGroup(found.contentionParts).front().first;
        found.excess = left(at);
        std::array<int64_t, kSegmentKinds> kinds{};
        addOwn(at, kinds);
        found.segment = static_cast<SegmentKind>(std::max_element(kinds.begin(), kinds.end()) - kinds.begin());
        const uint32_t place = e_.pathSums->place({node.group, node.path});
        if (place != kNone) {
            for (const Calls& calls : e_.pathSums->callsOf(frame_))
                if (calls.place == place) found.calls = calls.count;
            found.usualCalls = e_.baselines[e_.frames[frame_].baseline].usualCalls[place];
        }
        const auto ns = static_cast<double>(node.ns), usual = static_cast<double>(node.usual);
        const UsualOccurrence elsewhere = e_.occurrences->of(e_, e_.frames[frame_].baseline, node.group, node.path);
        const bool usuallyMet = found.usualCalls > 0 && usual > 0,
                   known = !isRare(e_, elsewhere, frame_, finder_.beforeLate_);
        found.met = usuallyMet || !known;
        if (usuallyMet) {
            if (found.calls > 0) found.slowdown = (ns / found.calls) / (usual / found.usualCalls);
        } else if (known) {
            found.slowdown = meanDuration(node) / elsewhere.meanNs;
        }
        const int64_t ownRunning = node.own[static_cast<size_t>(SegmentKind::Running)];
        int64_t ownWait = 0;
        for (size_t kind = 1; kind < node.own.size(); ++kind) ownWait += node.own[kind];
        // Of other lanes' work the critical path may meet more calls although there are no more.
        const bool moreCalls =
            callsExplain(found, ns, usual) && (!isElsewhere(node) || found.calls > elsewhere.mostCalls);
        if (2 * ownWait >= left(at) && ownWait > 0) {
            found.kind = CauseKind::Waiting;
        } else if (node.path == 0) {
            found.kind = CauseKind::Unexplained;
        } else if ((usuallyMet || known) && finder_.divided_[node.path] && 2 * ownRunning >= left(at) && !moreCalls) {
            found.kind = CauseKind::Unexplained;  // it is divided by markers, and the time lies between them
        } else if (usuallyMet) {
            found.kind = moreCalls ? CauseKind::MoreCalls : CauseKind::Slower;
            found.uncovered = found.kind == CauseKind::Slower && isElsewhere(node) && elsewhere.meanNs > 0 &&
                              meanDuration(node) <= kAsLong * elsewhere.meanNs;
            if (found.uncovered) found.kind = CauseKind::Waiting;
        } else if (known) {
            // Usually nobody waits for it. Either there is more of it now, or somebody waits who should not.
            // (A longer frame meets more of what other lanes do at a rhythm of their own.)
            const double more = (found.calls - elsewhere.mostCalls) * elsewhere.meanNs,
                         slower = found.calls * (found.slowdown - 1) * elsewhere.meanNs;
            if (more > slower && 2 * more >= static_cast<double>(left(at)))
                found.kind = CauseKind::MoreCalls;
            else
                found.kind = found.slowdown >= kSlower ? CauseKind::Slower : CauseKind::Waiting;
            found.uncovered = found.kind == CauseKind::Waiting;
        } else {
            found.kind = CauseKind::Unusual;
        }
        return found;
    }

    static bool callsExplain(const FoundCause& found, double ns, double usual) {
        if (found.usualCalls <= 0 || found.calls <= found.usualCalls) return false;
        return (found.calls - found.usualCalls) * usual / found.usualCalls >= (ns - usual) / 2;
    }

    /// On another lane than the frame's own. There the critical path may be for longer although the calls are no
    /// longer: more of them is waited for.
    bool isElsewhere(const Node& node) const { return node.group != e_.recording->lanes[e_.frame(frame_).lane].group; }

    /// Of the occurrences of a node's marker that the frame's critical path met, at their full length.
    double meanDuration(const Node& node) const {
        const Recording& r = *e_.recording;
        std::vector<std::pair<uint32_t, uint32_t>> met;  // lane, index
        for (const Segment& segment : segments_) {
            if (!segment.marker.valid() || r.lanes[segment.lane].group != node.group ||
                !r.paths.contains(node.path, segment.path))
                continue;
            const auto& rows = r.lanes[segment.lane].rows;
            uint32_t row = segment.marker.row, index = segment.marker.index;
            for (; row + 1 > r.paths[node.path].depth; --row) index = rows[row].parent(index);
            if (met.empty() || met.back() != std::pair(segment.lane, index)) met.emplace_back(segment.lane, index);
        }
        std::sort(met.begin(), met.end());
        met.erase(std::unique(met.begin(), met.end()), met.end());
        int64_t sum = 0;
        const uint32_t row = r.paths[node.path].depth - 1;
        for (const auto& [lane, index] : met)
            sum += r.lanes[lane].rows[row].end(index) - r.lanes[lane].rows[row].begin(index);
        return met.empty() ? 0 : static_cast<double>(sum) / static_cast<double>(met.size());
    }

public:
    /// What the walk met of other lanes' work may not be what ran long: that may lie in what ran before it there, or
    /// in another thread of a pool, which kept the work waiting.
    void nameWhatRanLong(FoundCause& found) const {
        if (found.object != kNone || found.contention != Contention::None || !found.path ||
            (found.met && !found.uncovered))
            return;
        const Recording& r = *e_.recording;
        const Segment* longest = nullptr;
        for (const Segment& segment : segments_)
            if (segment.marker.valid() && r.lanes[segment.lane].group == found.group &&
                r.paths.contains(found.path, segment.path) && (!longest || segment.duration() > longest->duration()))
                longest = &segment;
        if (!longest) return;
        const auto take = [&](const LongerCalls& longer) {
            if (!longer.path || 2 * longer.excess < found.excess || r.paths.contains(longer.path, found.path) ||
                (longer.slowdown > 0 && longer.slowdown < kSlower))
                return false;
            found.path = longer.path;
            found.kind = longer.slowdown > 0 ? CauseKind::Slower : CauseKind::Unusual;
            found.slowdown = longer.slowdown;
            found.uncovered = false;
            return true;
        };
        if (take(longerCallsIn(e_, frame_, longest->marker)) || !found.uncovered) return;
        const MarkerRow& outermost = r.lanes[longest->lane].rows[0];
        const uint32_t root = outermost.lastBefore(longest->begin + 1);
        if (root == kNone) return;
        const int64_t begin = outermost.begin(root);
        const Waker asker = requesterOf(r, longest->lane, begin, outermost.end(root));
        const int64_t asked = asker.lane == kNone ? e_.frame(frame_).begin : asker.time;
        if (asked < begin) take(longerCallsOf(e_, frame_, found.group, asked, begin));
    }

private:
    void takeOut(uint32_t node) {
        const int64_t amount = left(node), beyond = nodes_[node].beyond - nodes_[node].takenBeyond;
        for (;; node = nodes_[node].parent) {
            nodes_[node].taken += amount;
            nodes_[node].takenBeyond += beyond;
            if (node == 0) break;
        }
    }

    CauseFinder& finder_;
    const Explanation& e_;
    uint32_t frame_;
    std::span<const Segment> segments_;
    std::vector<Node> nodes_;
    bool everything_ = false;
};

CauseKey keyOf(const FoundCause& found) {
    CauseKey key;
    key.object = found.object;
    key.contention = found.contention;
    if (found.kind == CauseKind::NoCore) return key;  // one cause, whatever it held up
    key.group = found.group;
    key.path = found.path;
    key.outside = found.outside;
    key.waiting = found.kind == CauseKind::Waiting;
    key.unexplained = found.kind == CauseKind::Unexplained;
    return key;
}

CauseFinder::CauseFinder(const Explanation& e)
    : e_(e), beforeLate_(justBeforeLate(e)), divided_(e.recording->paths.size()) {
    for (const PartKey& key : e.pathSums->keys)
        if (key.path && key.kind == SegmentKind::Running) divided_[e.recording->paths[key.path].parent] = true;
}

std::vector<FoundCause> CauseFinder::causesOf(uint32_t frame, std::span<const Segment> segments) {
    ExcessTree tree(*this, frame, segments);
    const auto excess = static_cast<double>(tree.excess());
    std::vector<FoundCause> found;
    double covered = 0;
    while (found.size() < kMostCauses && covered < kEnoughExplained * excess) {
        FoundCause next = tree.takeNext();
        const auto worthNaming = [&] {
            return next.excess > 0 && (found.empty() || static_cast<double>(next.excess) >= kWorthNaming * excess);
        };
        if (!worthNaming() && covered < kHalfExplained * excess) {  // then also what some usual frames reach
            tree.countEverything();
            next = tree.takeNext();
        }
        if (!worthNaming()) break;
        covered += static_cast<double>(next.excess);
        tree.nameWhatRanLong(next);
        const auto same = std::find_if(found.begin(), found.end(),
                                       [&](const FoundCause& other) { return keyOf(other) == keyOf(next); });
        same == found.end() ? found.push_back(next) : void(same->excess += next.excess);
    }
    // Work that is as long as ever, but now waited for, came too late because of something else.
    const auto reason = std::find_if(found.begin(), found.end(), [](auto& f) { return !f.uncovered; });
    if (reason != found.end()) {
        const auto at = static_cast<size_t>(reason - found.begin());
        for (const FoundCause& cause : found)
            if (cause.uncovered) found[at].excess += cause.excess;
        found.erase(std::remove_if(found.begin(), found.end(), [](auto& f) { return f.uncovered; }), found.end());
    }
    if (found.empty() || covered < kHalfExplained * excess) {  // or, late, yet nothing took longer than usual
        FoundCause rest;
        rest.group = e_.recording->lanes[e_.frame(frame).lane].group;
        rest.excess = found.empty() ? e_.frames[frame].overrun : static_cast<int64_t>(excess - covered);
        found.push_back(rest);
    }
    return found;
}

}  // namespace fugato
