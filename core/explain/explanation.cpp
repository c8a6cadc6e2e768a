// SPDX-License-Identifier: GPL-3.0-or-later
#include "explanation.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

namespace fugato {

const char* causeKindName(CauseKind kind) {
    static const char* const names[] = {"slower", "more_calls", "unusual", "waiting", "unexplained"};
    return names[static_cast<size_t>(kind)];
}

namespace {

constexpr size_t kFewestForBaseline = 8;
constexpr size_t kMostCauses = 6;
constexpr double kCovered = 0.8;  // causes are named until this part of the excess has an owner
constexpr double kWorthNaming = 0.05;
constexpr double kSlower =
    1.25;  // mean call ÷ usual call from which work that usually nobody waits for counts as slower

template <class T>
T medianWithZeros(std::vector<T>& values, size_t count) {
    // The middle of `count` values of which those not listed are 0; lower middle of an even count.
    const size_t zeros = count - values.size(), middle = (count - 1) / 2;
    if (middle < zeros) return T{};
    const auto at = values.begin() + static_cast<std::ptrdiff_t>(middle - zeros);
    std::nth_element(values.begin(), at, values.end());
    return *at;
}

void judge(Explanation& e) {
    const auto& frames = e.recording->series[e.series].frames;
    e.frames.resize(frames.size());
    std::vector<int64_t> durations;
    durations.reserve(frames.size());
    for (size_t i = 0; i < frames.size(); ++i) {
        FrameVerdict& v = e.frames[i];
        const int64_t duration = frames[i].duration(), pacing = e.accounts->pacing[i];
        v.deadline = e.budget ? e.budget : frames[i].deadline ? frames[i].deadline : kDefaultBudgetNs;
        v.work = duration - pacing;
        // A frame that paces itself ends on a tick: it is late only where it missed one.
        const bool heldToTick = pacing > 0 && v.work <= v.deadline && duration < v.deadline + v.deadline / 2;
        v.overrun = heldToTick ? 0 : std::max<int64_t>(0, duration - v.deadline);
        const auto nearFrom = static_cast<int64_t>(static_cast<double>(v.deadline) * (1 - kNearPart));
        v.state = v.overrun > 0 ? FrameState::Over : v.work > nearFrom ? FrameState::Near : FrameState::InBudget;
        e.figures.over += v.state == FrameState::Over;
        e.figures.near += v.state == FrameState::Near;
        e.figures.late += v.overrun;
        durations.push_back(duration);
    }
    e.figures.frames = frames.size();
    if (durations.empty()) return;
    std::sort(durations.begin(), durations.end());
    const auto nearestRank = [&](double part) {
        const auto rank = static_cast<size_t>(std::ceil(part * static_cast<double>(durations.size())));
        return durations[std::clamp<size_t>(rank, 1, durations.size()) - 1];
    };
    e.figures.p50 = nearestRank(0.50);
    e.figures.p95 = nearestRank(0.95);
    e.figures.p99 = nearestRank(0.99);
    e.figures.worst = durations.back();
}

Baseline makeBaseline(const FrameAccounts& accounts, const std::vector<uint32_t>& over, std::string stage) {
    Baseline baseline;
    baseline.stage = std::move(stage);
    baseline.frames = over.size();
    std::vector<std::vector<int64_t>> times(accounts.keys.size());
    std::vector<std::vector<uint32_t>> calls(accounts.places.size());
    for (const uint32_t frame : over) {
        for (const Part& part : accounts.partsOf(frame)) times[part.key].push_back(part.ns);
        for (const Calls& call : accounts.callsOf(frame)) calls[call.place].push_back(call.count);
    }
    baseline.usual.resize(times.size());
    baseline.usualCalls.resize(calls.size());
    if (over.empty()) return baseline;
    const size_t samples = std::min(kSampleFrames, over.size());
    for (size_t i = 0; i < samples; ++i) baseline.sample.push_back(over[i * over.size() / samples]);
    for (uint32_t key = 0; key < times.size(); ++key) {
        baseline.usual[key] = medianWithZeros(times[key], over.size());
        baseline.total += baseline.usual[key];
        if (baseline.usual[key]) baseline.usualKeys.push_back(key);
    }
    for (size_t place = 0; place < calls.size(); ++place)
        baseline.usualCalls[place] = medianWithZeros(calls[place], over.size());
    return baseline;
}

void makeBaselines(Explanation& e) {
    const auto& frames = e.recording->series[e.series].frames;
    std::map<std::string, std::vector<uint32_t>> byStage, goodByStage;
    std::vector<uint32_t> good;
    for (uint32_t i = 0; i < frames.size(); ++i) {
        const StateSpan* stage = e.recording->stageAt(frames[i].begin);
        const std::string name(stage ? e.recording->text(stage->value) : std::string_view());
        byStage[name].push_back(i);
        if (e.frames[i].overrun) continue;
        good.push_back(i);
        goodByStage[name].push_back(i);
    }
    bool onlyLate = false;
    if (good.empty()) {  // nothing met its deadline: the quickest quarter has to do
        onlyLate = true;
        good.resize(frames.size());
        std::iota(good.begin(), good.end(), 0u);
        std::stable_sort(good.begin(), good.end(),
                         [&](uint32_t a, uint32_t b) { return frames[a].duration() < frames[b].duration(); });
        good.resize((good.size() + 3) / 4);
    }
    uint32_t whole = kNone;
    for (const auto& [stage, members] : byStage) {
        uint32_t baseline;
        if (byStage.size() > 1 && goodByStage[stage].size() >= kFewestForBaseline) {
            baseline = static_cast<uint32_t>(e.baselines.size());
            e.baselines.push_back(makeBaseline(*e.accounts, goodByStage[stage], stage));
        } else {
            if (whole == kNone) {
                whole = static_cast<uint32_t>(e.baselines.size());
                e.baselines.push_back(makeBaseline(*e.accounts, good, ""));
                e.baselines.back().onlyLate = onlyLate;
            }
            baseline = whole;
        }
        for (const uint32_t frame : members) e.frames[frame].baseline = baseline;
    }
}

/// How often and how long a marker runs in usual frames, whether or not anybody waits for it there.
struct UsualOccurrence {
    double calls = 0;  // median per frame of the sample
    double meanNs = 0;
};

class UsualOccurrences {
public:
    explicit UsualOccurrences(const Explanation& e) : e_(e), known_(e.baselines.size()) {}

    UsualOccurrence of(uint32_t baseline, uint32_t group, PathId path) {
        if (!path) return {};
        if (known_[baseline].empty()) look(baseline);
        const auto found = known_[baseline].find(keyOf(group, path));
        return found == known_[baseline].end() ? UsualOccurrence{} : found->second;
    }

private:
    static uint64_t keyOf(uint32_t group, PathId path) { return static_cast<uint64_t>(group) << 32 | path; }

    /// All markers of the sample's frames at once.
    void look(uint32_t baseline) {
        const Recording& r = *e_.recording;
        const auto& sample = e_.baselines[baseline].sample;
        struct Sum {
            std::vector<uint32_t> counts;  // by frame of the sample
            int64_t ns = 0;
            uint64_t number = 0;
        };
        std::unordered_map<uint64_t, Sum> sums;
        for (size_t i = 0; i < sample.size(); ++i) {
            const Frame& f = e_.frame(sample[i]);
            for (const Lane& lane : r.lanes)
                for (const MarkerRow& row : lane.rows) {
                    const auto [from, to] = row.overlapping(f.begin, f.end);
                    if (from == to) break;  // and so nothing is nested
                    row.forEach(from, to, [&](uint32_t, int64_t, int64_t duration, uint32_t path, uint8_t) {
                        Sum& sum = sums[keyOf(lane.group, row.pathOf(path))];
                        sum.counts.resize(sample.size());
                        ++sum.counts[i];
                        sum.ns += duration;
                        ++sum.number;
                    });
                }
        }
        known_[baseline][UINT64_MAX] = {};  // looked, even where nothing was found
        for (auto& [key, sum] : sums) {
            const auto middle = sum.counts.begin() + static_cast<std::ptrdiff_t>((sum.counts.size() - 1) / 2);
            std::nth_element(sum.counts.begin(), middle, sum.counts.end());
            known_[baseline][key] = {static_cast<double>(*middle),
                                     static_cast<double>(sum.ns) / static_cast<double>(sum.number)};
        }
    }

    const Explanation& e_;
    std::vector<std::unordered_map<uint64_t, UsualOccurrence>> known_;  // by baseline
};

/// One frame's parts as a tree: lock (or none) → lane group → markers. Times include what is below.
class ExcessTree {
public:
    ExcessTree(const Explanation& e, uint32_t frame, std::span<const Piece> pieces, UsualOccurrences& occurrences)
        : e_(e), frame_(frame), pieces_(pieces), occurrences_(occurrences) {
        nodes_.push_back({});
        for (const ExcessPart& part : e.excessOf(frame)) {
            if (part.key.kind == PieceKind::WaitPacing) continue;  // idle on purpose
            uint32_t node = leaf(part.key);
            nodes_[node].own[static_cast<size_t>(part.key.kind)] += part.excess();
            for (;; node = nodes_[node].parent) {
                nodes_[node].ns += part.ns;
                nodes_[node].usual += part.usual;
                if (node == 0) break;
            }
        }
    }

    struct Found {
        uint32_t group = 0;
        PathId path = 0;
        uint32_t object = kNone;
        CauseKind kind = CauseKind::Unexplained;
        PieceKind piece = PieceKind::Running;
        int64_t excess = 0;
        double calls = 0, usualCalls = 0, slowdown = 0;
    };

    /// The next largest cause, whose excess is then taken out of the tree. Excess ≤ 0: nothing left.
    Found takeNext() {
        std::vector<uint32_t> chain;  // marker nodes from the outermost in
        uint32_t node = heaviestChild(0);
        if (node == kNone) return {};
        const bool throughLock = nodes_[node].object != kNone;
        if (throughLock) {  // the whole time behind one lock has one owner: its holder's marker
            Found found = describe(node);
            found.kind = CauseKind::Waiting;
            takeOut(node);
            return found;
        }
        for (;;) {
            if (nodes_[node].path) chain.push_back(node);
            const uint32_t child = heaviestChild(node);
            if (child == kNone) break;
            const bool marker = nodes_[node].path != 0;
            if (marker && 2 * left(child) < left(node)) break;
            node = child;
        }
        // The outermost marker that does not belong there, or is called more often, is the cause;
        // what happens inside it follows from it.
        for (const uint32_t outer : chain) {
            const Found seen = describe(outer);
            if (seen.kind != CauseKind::Unusual && seen.kind != CauseKind::MoreCalls) continue;
            node = outer;
            break;
        }
        const Found found = describe(node);
        takeOut(node);
        return found;
    }

private:
    struct Node {
        uint32_t parent = 0;
        uint32_t group = 0;
        PathId path = 0;
        uint32_t object = kNone;
        PathId holder = 0;
        uint32_t level = 0;  // 0 root, 1 lane group or lock, 2… markers
        int64_t ns = 0, usual = 0, taken = 0;
        std::array<int64_t, 12> own{};  // excess of this node itself, by kind
        std::vector<uint32_t> children;
    };

    int64_t left(uint32_t node) const { return nodes_[node].ns - nodes_[node].usual - nodes_[node].taken; }

    uint32_t heaviestChild(uint32_t node) const {
        uint32_t best = kNone;
        for (const uint32_t child : nodes_[node].children)
            if (left(child) > 0 && (best == kNone || left(child) > left(best))) best = child;
        return best;
    }

    template <class Same>
    uint32_t child(uint32_t parent, Node like, Same&& same) {
        for (const uint32_t at : nodes_[parent].children)
            if (same(nodes_[at])) return at;
        like.parent = parent;
        like.level = nodes_[parent].level + 1;
        const auto made = static_cast<uint32_t>(nodes_.size());
        nodes_.push_back(std::move(like));
        nodes_[parent].children.push_back(made);
        return made;
    }

    uint32_t leaf(const PartKey& key) {
        uint32_t node = 0;
        if (key.object != kNone) {
            Node lock;
            lock.object = key.object;
            lock.holder = lock.path = key.holder;
            lock.group = key.group;
            node = child(0, lock, [&](const Node& n) { return n.object == key.object && n.holder == key.holder; });
        }
        Node group;
        group.group = key.group;
        node =
            child(node, group, [&](const Node& n) { return n.object == kNone && n.path == 0 && n.group == key.group; });
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

    void addOwn(uint32_t node, std::array<int64_t, 12>& sums) const {
        for (size_t i = 0; i < sums.size(); ++i) sums[i] += nodes_[node].own[i];
        for (const uint32_t child : nodes_[node].children) addOwn(child, sums);
    }

    Found describe(uint32_t at) const {
        const Node& node = nodes_[at];
        Found found;
        found.group = node.group;
        found.path = node.path;
        found.object = node.object;
        found.excess = left(at);
        std::array<int64_t, 12> kinds{};
        addOwn(at, kinds);
        found.piece = static_cast<PieceKind>(std::max_element(kinds.begin(), kinds.end()) - kinds.begin());
        const uint32_t place = e_.accounts->place({node.group, node.path});
        if (place != kNone) {
            for (const Calls& calls : e_.accounts->callsOf(frame_))
                if (calls.place == place) found.calls = calls.count;
            found.usualCalls = e_.baselines[e_.frames[frame_].baseline].usualCalls[place];
        }
        const auto ns = static_cast<double>(node.ns), usual = static_cast<double>(node.usual);
        const UsualOccurrence elsewhere = occurrences_.of(e_.frames[frame_].baseline, node.group, node.path);
        const bool usuallyMet = found.usualCalls > 0 && usual > 0;
        if (usuallyMet) {
            if (found.calls > 0) found.slowdown = (ns / found.calls) / (usual / found.usualCalls);
        } else if (elsewhere.calls > 0) {
            found.slowdown = meanDuration(node) / elsewhere.meanNs;
        }
        int64_t ownWait = 0;
        for (size_t kind = 1; kind < node.own.size(); ++kind) ownWait += node.own[kind];
        if (2 * ownWait >= left(at) && ownWait > 0) {
            found.kind = CauseKind::Waiting;
        } else if (node.path == 0) {
            found.kind = CauseKind::Unexplained;
        } else if (usuallyMet) {
            const double byCalls = (found.calls - found.usualCalls) * usual / found.usualCalls;
            found.kind = byCalls >= (ns - usual) / 2 && found.calls > found.usualCalls ? CauseKind::MoreCalls
                                                                                       : CauseKind::Slower;
        } else if (elsewhere.calls > 0) {
            // Usually nobody waits for it. Either it is slower now, or somebody waits who should not.
            found.kind = found.slowdown >= kSlower ? CauseKind::Slower : CauseKind::Waiting;
        } else {
            found.kind = CauseKind::Unusual;
        }
        return found;
    }

    /// Of the occurrences of a node's marker that the frame's accounting met, at their full length.
    double meanDuration(const Node& node) const {
        const Recording& r = *e_.recording;
        std::vector<std::pair<uint32_t, uint32_t>> seen;  // lane, index
        int64_t sum = 0;
        for (const Piece& piece : pieces_) {
            if (!piece.marker.valid() || r.lanes[piece.lane].group != node.group ||
                !r.paths.contains(node.path, piece.path))
                continue;
            const auto& rows = r.lanes[piece.lane].rows;
            uint32_t row = piece.marker.row, index = piece.marker.index;
            for (; row + 1 > r.paths[node.path].depth; --row) index = rows[row].parent(index);
            const std::pair<uint32_t, uint32_t> instance{piece.lane, index};
            if (std::find(seen.begin(), seen.end(), instance) != seen.end()) continue;
            seen.push_back(instance);
            sum += rows[row].end(index) - rows[row].begin(index);
        }
        return seen.empty() ? 0 : static_cast<double>(sum) / static_cast<double>(seen.size());
    }

    void takeOut(uint32_t node) {
        const int64_t amount = left(node);
        for (;; node = nodes_[node].parent) {
            nodes_[node].taken += amount;
            if (node == 0) break;
        }
    }

    const Explanation& e_;
    uint32_t frame_;
    std::span<const Piece> pieces_;
    UsualOccurrences& occurrences_;
    std::vector<Node> nodes_;
};

/// The frame in which the work of `found` that fills most of `frame` was asked for, where a link
/// tells so; else `frame` itself.
uint32_t originOf(const Explanation& e, std::span<const Piece> pieces, uint32_t frame, const ExcessTree::Found& found) {
    const Recording& r = *e.recording;
    const Frame& f = e.frame(frame);
    std::map<std::pair<uint32_t, uint32_t>, std::pair<int64_t, const Piece*>> roots;  // lane, outermost marker
    for (const Piece& piece : pieces) {
        if (!piece.marker.valid() || piece.lock.object != kNone || piece.lane == f.lane) continue;
        if (r.lanes[piece.lane].group != found.group || !r.paths.contains(found.path, piece.path)) continue;
        uint32_t root = piece.marker.index;
        for (uint32_t row = piece.marker.row; row > 0; --row) root = r.lanes[piece.lane].rows[row].parent(root);
        auto& sum = roots[{piece.lane, root}];
        sum.first += piece.duration();
        sum.second = &piece;
    }
    const auto longest =
        std::max_element(roots.begin(), roots.end(), [](auto& a, auto& b) { return a.second.first < b.second.first; });
    if (longest == roots.end()) return frame;
    const Lane& lane = r.lanes[longest->first.first];
    const int64_t begin = lane.rows[0].begin(longest->first.second), end = lane.rows[0].end(longest->first.second);
    const auto in = std::lower_bound(lane.linkIns.begin(), lane.linkIns.end(), begin,
                                     [](const LinkEnd& l, int64_t t) { return l.time < t; });
    if (in == lane.linkIns.end() || in->time > end) return frame;
    const auto source = r.linkSource(in->link);
    if (!source || source->time >= f.begin) return frame;
    const uint32_t origin = r.series[e.series].frameAt(source->time);
    return origin == kNone ? frame : std::min(origin, frame);
}

std::string letterOf(size_t index) {
    std::string letters;
    for (size_t i = index + 1; i > 0; i = (i - 1) / 26)
        letters.insert(letters.begin(), static_cast<char>('A' + (i - 1) % 26));
    return letters;
}

/// Causes while they are being gathered.
class Gathering {
public:
    explicit Gathering(Explanation& e) : e_(e) {}

    uint32_t add(uint32_t frame, const ExcessTree::Found& found, int64_t late) {
        const auto key = std::tuple(found.group, found.path, found.object, found.kind == CauseKind::Waiting,
                                    found.kind == CauseKind::Unexplained);
        const auto [at, isNew] = indexOf_.try_emplace(key, static_cast<uint32_t>(e_.causes.size()));
        if (isNew) {
            e_.causes.push_back({});
            sums_.push_back({});
        }
        Cause& cause = e_.causes[at->second];
        Sum& sum = sums_[at->second];
        cause.group = found.group;
        cause.path = found.path;
        cause.object = found.object;
        cause.late += late;
        if (cause.frames.empty() || cause.frames.back() != frame) cause.frames.push_back(frame);
        if (found.excess >= e_.frames[frame].overrun) ++cause.saved;
        sum.byKind[static_cast<size_t>(found.kind)] += late;
        sum.byPiece[static_cast<size_t>(found.piece)] += found.excess;
        sum.calls += found.calls;
        sum.usualCalls += found.usualCalls;
        sum.slowdown += found.slowdown;
        return at->second;
    }

    /// Settles kinds and means, and puts the costliest first.
    void finish() {
        for (size_t i = 0; i < e_.causes.size(); ++i) {
            Cause& cause = e_.causes[i];
            const Sum& sum = sums_[i];
            const auto frames = static_cast<double>(cause.frames.size());
            cause.kind =
                static_cast<CauseKind>(std::max_element(sum.byKind.begin(), sum.byKind.end()) - sum.byKind.begin());
            cause.piece =
                static_cast<PieceKind>(std::max_element(sum.byPiece.begin(), sum.byPiece.end()) - sum.byPiece.begin());
            cause.calls = sum.calls / frames;
            cause.usualCalls = sum.usualCalls / frames;
            cause.slowdown = sum.slowdown / frames;
        }
        std::vector<uint32_t> order(e_.causes.size()), rank(e_.causes.size());
        std::iota(order.begin(), order.end(), 0u);
        std::stable_sort(order.begin(), order.end(),
                         [&](uint32_t a, uint32_t b) { return e_.causes[a].late > e_.causes[b].late; });
        std::vector<Cause> sorted;
        for (uint32_t i = 0; i < order.size(); ++i) {
            rank[order[i]] = i;
            sorted.push_back(std::move(e_.causes[order[i]]));
            sorted.back().letter = letterOf(i);
        }
        e_.causes = std::move(sorted);
        for (FrameVerdict& frame : e_.frames)
            for (CauseShare& share : frame.shares) share.cause = rank[share.cause];
    }

private:
    struct Sum {
        std::array<int64_t, 5> byKind{};
        std::array<int64_t, 12> byPiece{};
        double calls = 0, usualCalls = 0, slowdown = 0;
    };
    Explanation& e_;
    std::map<std::tuple<uint32_t, PathId, uint32_t, bool, bool>, uint32_t> indexOf_;
    std::vector<Sum> sums_;
};

bool findCauses(Explanation& e, const Progress& progress) {
    Gathering gathering(e);
    Accountant accountant(*e.recording);
    UsualOccurrences occurrences(e);
    for (uint32_t i = 0; i < e.frames.size(); ++i) {
        if (progress && i % 256 == 0 && !progress(static_cast<double>(i) / static_cast<double>(e.frames.size())))
            return false;
        FrameVerdict& verdict = e.frames[i];
        if (!verdict.overrun) continue;
        const auto excess = static_cast<double>(e.frame(i).duration() - e.usualOf(i));
        const std::span<const Piece> pieces = accountant.account(e.frame(i).lane, e.frame(i).begin, e.frame(i).end);
        ExcessTree tree(e, i, pieces, occurrences);
        std::vector<ExcessTree::Found> found;
        double covered = 0;
        while (found.size() < kMostCauses && covered < kCovered * excess) {
            const auto next = tree.takeNext();
            if (next.excess <= 0 || (!found.empty() && static_cast<double>(next.excess) < kWorthNaming * excess)) break;
            covered += static_cast<double>(next.excess);
            found.push_back(next);
        }
        if (found.empty()) {  // late, yet nothing took longer than usual
            ExcessTree::Found none;
            none.group = e.recording->lanes[e.frame(i).lane].group;
            none.excess = verdict.overrun;
            found.push_back(none);
            covered = static_cast<double>(verdict.overrun);
        }
        verdict.origin = originOf(e, pieces, i, found.front());
        int64_t given = 0;
        for (size_t k = 0; k < found.size(); ++k) {  // the overrun is shared in proportion to the excess
            const int64_t late = k + 1 == found.size()
                                     ? verdict.overrun - given
                                     : static_cast<int64_t>(static_cast<double>(verdict.overrun) *
                                                            static_cast<double>(found[k].excess) / covered);
            given += late;
            verdict.shares.push_back({gathering.add(i, found[k], late), found[k].excess, late});
        }
        std::stable_sort(verdict.shares.begin(), verdict.shares.end(),
                         [](auto& a, auto& b) { return a.excess > b.excess; });
    }
    gathering.finish();
    return true;
}

void findSpikes(Explanation& e) {
    for (uint32_t i = 0; i < e.frames.size();) {
        if (!e.frames[i].overrun) {
            ++i;
            continue;
        }
        Spike spike;
        spike.first = i;
        std::map<uint32_t, int64_t> lateBy;
        for (; i < e.frames.size() && e.frames[i].overrun; ++i) {
            e.frames[i].spike = static_cast<uint32_t>(e.spikes.size());
            spike.late += e.frames[i].overrun;
            for (const CauseShare& share : e.frames[i].shares) lateBy[share.cause] += share.late;
        }
        spike.last = i - 1;
        spike.cause =
            std::max_element(lateBy.begin(), lateBy.end(), [](auto& a, auto& b) { return a.second < b.second; })->first;
        spike.origin = kNone;
        for (uint32_t f = spike.first; f <= spike.last; ++f)
            if (e.frames[f].shares.front().cause == spike.cause)
                spike.origin = std::min(spike.origin, e.frames[f].origin);
        if (spike.origin == kNone) spike.origin = spike.first;
        e.causes[spike.cause].spikes.push_back(static_cast<uint32_t>(e.spikes.size()));
        e.spikes.push_back(spike);
    }
}

}  // namespace

std::vector<ExcessPart> Explanation::excessOf(uint32_t frame) const {
    const Baseline& baseline = baselines[frames[frame].baseline];
    std::vector<ExcessPart> out;
    size_t at = 0;
    for (const Part& part : accounts->partsOf(frame)) {  // both lists ascend by key
        for (; at < baseline.usualKeys.size() && baseline.usualKeys[at] < part.key; ++at)
            out.push_back({accounts->keys[baseline.usualKeys[at]], 0, baseline.usual[baseline.usualKeys[at]]});
        if (at < baseline.usualKeys.size() && baseline.usualKeys[at] == part.key) ++at;
        out.push_back({accounts->keys[part.key], part.ns, baseline.usual[part.key]});
    }
    for (; at < baseline.usualKeys.size(); ++at)
        out.push_back({accounts->keys[baseline.usualKeys[at]], 0, baseline.usual[baseline.usualKeys[at]]});
    std::stable_sort(out.begin(), out.end(), [](auto& a, auto& b) { return a.excess() > b.excess(); });
    return out;
}

uint32_t Explanation::worstFrameOf(const Spike& spike) const {
    uint32_t worst = spike.first;
    for (uint32_t f = spike.first; f <= spike.last; ++f)
        if (frames[f].overrun > frames[worst].overrun) worst = f;
    return worst;
}

std::shared_ptr<const Explanation> explain(std::shared_ptr<const Recording> recording,
                                           std::shared_ptr<const FrameAccounts> accounts, int64_t budget,
                                           const Progress& progress) {
    auto explanation = std::make_shared<Explanation>();
    Explanation& e = *explanation;
    e.recording = std::move(recording);
    e.accounts = std::move(accounts);
    e.series = e.accounts->series;
    e.budget = budget;
    judge(e);
    if (e.frames.empty()) return explanation;
    makeBaselines(e);
    if (!findCauses(e, progress)) return nullptr;
    findSpikes(e);
    return explanation;
}

}  // namespace fugato
