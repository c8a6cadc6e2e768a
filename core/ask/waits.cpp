// SPDX-License-Identifier: GPL-3.0-or-later
#include "waits.h"

#include <algorithm>
#include <map>
#include <tuple>

#include "adding.h"
#include "core/store/long_work.h"
#include "core/table/table.h"

namespace fugato {

namespace {

/// How many waited at once is found out for an object with up to so many waits.
constexpr size_t kMostQueued = 1'000'000;

class AddingUp {
public:
    AddingUp(const Recording& r, const Scope& scope, WaitsBy by)
        : r_(r), scope_(scope), made_(std::make_shared<Waits>()) {
        made_->by = by;
    }

    std::shared_ptr<const Waits> all(const Progress& progress) {
        longWork("the waits in a scope");
        for (uint32_t l = 0; l < r_.lanes.size(); ++l) {
            if (progress && !progress(static_cast<double>(l) / static_cast<double>(r_.lanes.size()))) return nullptr;
            if (scope_.has(l)) addLane(l);
        }
        for (const auto& [row, spans] : queued_) addQueues(row, spans);
        sortAll();
        return made_;
    }

private:
    struct Span {
        TimeRange range;
        uint32_t lane;
    };
    using Spans = std::vector<Span>;
    /// A stretch of time in which several waited.
    struct Queue {
        TimeRange range;
        std::vector<uint32_t> most;                 // lanes of those that waited when there were the most of them
        bool operator<(const Queue& other) const {  // the worst first
            if (most.size() != other.most.size()) return most.size() > other.most.size();
            const int64_t length = range.end - range.begin, others = other.range.end - other.range.begin;
            return length != others ? length > others : range.begin < other.range.begin;
        }
    };

    void addLane(uint32_t lane) {
        const Lane& of = r_.lanes[lane];
        size_t past = 0;  // those before it have been counted
        for (const TimeRange& stretch : scope_.stretches)
            for (size_t i = firstIn(of, stretch.begin); i < of.waits.size() && of.waits[i].begin < stretch.end; ++i) {
                const Wait& wait = of.waits[i];
                if (wait.end <= stretch.begin && wait.begin < stretch.begin) continue;
                const TimeRange inside{std::max(wait.begin, stretch.begin), std::min(wait.end, stretch.end)};
                add(lane, wait, inside, i >= past);
                past = std::max(past, i + 1);
            }
    }
    /// The first wait of which something may lie at `time` or later: none lies over the begin of an outermost one.
    static size_t firstIn(const Lane& lane, int64_t time) {
        auto outer = std::partition_point(lane.blocked.begin(), lane.blocked.end(),
                                          [&](const Lane::Blocked& b) { return b.end <= time; });
        const int64_t from = outer == lane.blocked.end() ? time : std::min(time, outer->begin);
        return static_cast<size_t>(
            std::partition_point(lane.waits.begin(), lane.waits.end(), [&](const Wait& w) { return w.begin < from; }) -
            lane.waits.begin());
    }

    std::string inText(PathId path) const { return path ? ", in " + r_.pathText(path) : std::string(); }

    void add(uint32_t lane, const Wait& wait, const TimeRange& inside, bool fresh) {
        const MarkerRef marker{lane, wait.row, wait.index};
        const PathId caller = r_.paths[r_.pathOf(marker)].parent;
        const auto count = [&](uint32_t row) { take(row, wait, marker, inside, fresh); };
        made_->count += fresh;
        addTime(made_->total, inside.end - inside.begin);
        if (made_->by == WaitsBy::Object) {
            const uint32_t object = objectRow(kNone, wait);
            count(object);
            const uint32_t who = rowBelow(object, uint64_t{lane} << 32 | caller);
            if (made_->rows[who].name.empty()) made_->rows[who].name = r_.lanes[lane].name + inText(caller);
            count(who);
            Spans& spans = queued_[object];
            if (wait.object != kNone && spans.size() <= kMostQueued) spans.push_back({inside, lane});
            addHolders(object, wait, inside, fresh);
            return;
        }
        const bool byLane = made_->by == WaitsBy::Lane;
        const uint32_t top = rowBelow(kNone, byLane ? lane : caller);
        if (made_->rows[top].name.empty())
            made_->rows[top].name = byLane ? r_.lanes[lane].name : caller ? r_.pathText(caller) : "in no other marker";
        if (byLane) made_->rows[top].lane = lane;
        count(top);
        count(objectRow(top, wait));
    }

    /// Who held it while it was waited for.
    void addHolders(uint32_t object, const Wait& wait, const TimeRange& inside, bool fresh) {
        if (wait.object >= r_.holds.size()) return;
        const Column<Hold>& holds = r_.holds[wait.object];
        auto hold =
            std::partition_point(holds.begin(), holds.end(), [&](const Hold& h) { return h.end <= inside.begin; });
        const std::vector<int64_t>& begins = beginsFrom(wait.object);
        std::vector<uint32_t> met;
        for (; hold != holds.end() && begins[static_cast<size_t>(hold - holds.begin())] < inside.end; ++hold) {
            const int64_t ns = std::min(hold->end, inside.end) - std::max(hold->begin, inside.begin);
            if (ns <= 0) continue;
            const uint32_t row = rowBelow(object, uint64_t{1} << 63 | uint64_t{hold->lane} << 32 | hold->path);
            WaitSum& sum = made_->rows[row];
            if (sum.name.empty()) sum.name = "held by " + r_.lanes[hold->lane].name + inText(hold->path);
            sum.of = WaitRow::Holds;
            sum.lane = hold->lane;
            addTime(sum.total, ns);
            if (hold->end - hold->begin > sum.longest) {
                sum.longest = hold->end - hold->begin;
                sum.longestOne = {hold->begin, hold->end};
            }
            if (fresh && std::find(met.begin(), met.end(), row) == met.end()) {
                ++sum.count;
                met.push_back(row);
            }
        }
    }

    /// By hold of an object, in order of their ends: when the first of it and those after it begins. What several may
    /// hold at once does not begin in the order in which it ends.
    const std::vector<int64_t>& beginsFrom(uint32_t object) {
        std::vector<int64_t>& begins = begins_[object];
        const Column<Hold>& holds = r_.holds[object];
        if (begins.empty()) {
            begins.resize(holds.size());
            int64_t first = INT64_MAX;
            for (size_t i = holds.size(); i-- > 0;) begins[i] = first = std::min(first, holds[i].begin);
        }
        return begins;
    }

    void take(uint32_t row, const Wait& wait, const MarkerRef& marker, const TimeRange& inside, bool fresh) {
        WaitSum& sum = made_->rows[row];
        sum.count += fresh;
        addTime(sum.total, inside.end - inside.begin);
        if (sum.longestWait.valid() && wait.end - wait.begin <= sum.longest) return;
        sum.longest = wait.end - wait.begin;
        sum.longestWait = marker;
    }

    /// Of what was waited for; where that has no name, by its kind.
    uint32_t objectRow(uint32_t parent, const Wait& wait) {
        const bool named = wait.object < r_.objects.size() && !r_.objects[wait.object].empty();
        const uint32_t row =
            rowBelow(parent, named ? wait.object : uint64_t{1} << 40 | static_cast<uint64_t>(wait.kind));
        WaitSum& sum = made_->rows[row];
        if (sum.name.empty()) sum.name = named ? r_.objects[wait.object] : waitKindText(wait.kind);
        sum.kind = wait.kind;
        return row;
    }
    uint32_t rowBelow(uint32_t parent, uint64_t id) {
        const auto [found, fresh] = below_.try_emplace({parent, id}, 0);
        if (!fresh) return found->second;
        const auto at = static_cast<uint32_t>(made_->rows.size());
        made_->rows.emplace_back();
        made_->rows.back().key = (parent == kNone ? 0 : made_->rows[parent].key * kKeyMixer) ^ (id + 1) * kKeyMixer;
        (parent == kNone ? made_->top : made_->rows[parent].children).push_back(at);
        return found->second = at;
    }

    /// Where several waited for an object at once.
    static std::vector<Queue> queuesOf(const Spans& spans) {
        struct Edge {
            int64_t time;
            bool comes;
            uint32_t lane;
            bool operator<(const Edge& other) const {  // who leaves before who comes
                return std::tie(time, comes, lane) < std::tie(other.time, other.comes, other.lane);
            }
        };
        std::vector<Edge> edges;
        for (const Span& span : spans) {
            if (span.range.begin == span.range.end) continue;
            edges.push_back({span.range.begin, true, span.lane});
            edges.push_back({span.range.end, false, span.lane});
        }
        std::sort(edges.begin(), edges.end());
        std::vector<Queue> queues;
        std::vector<uint32_t> waiting;
        for (const Edge& edge : edges) {
            if (edge.comes)
                waiting.push_back(edge.lane);
            else
                waiting.erase(std::find(waiting.begin(), waiting.end(), edge.lane));
            if (edge.comes && waiting.size() == 2) queues.push_back({{edge.time, edge.time}, waiting});
            if (edge.comes && waiting.size() > 2 && waiting.size() > queues.back().most.size())
                queues.back().most = waiting;
            if (!edge.comes && waiting.size() == 1) queues.back().range.end = edge.time;
        }
        return queues;
    }

    /// Who waits so is out of work, not in others' way.
    static bool isIdle(WaitKind kind) {
        return kind == WaitKind::Pacing || kind == WaitKind::Sleep || kind == WaitKind::Job;
    }

    void addQueues(uint32_t object, const Spans& spans) {
        if (spans.size() > kMostQueued) return;
        std::vector<Queue> queues = queuesOf(spans);
        WaitSum& sum = made_->rows[object];
        sum.atOnce = spans.empty() ? 0 : 1;
        if (queues.empty()) return;
        std::sort(queues.begin(), queues.end());
        for (Queue& queue : queues) std::sort(queue.most.begin(), queue.most.end());
        const auto most = static_cast<uint32_t>(queues[0].most.size());
        sum.atOnce = most;
        if (isIdle(sum.kind)) return;
        const auto fill = [&](uint32_t row, WaitRow of, const Queue& queue) -> WaitSum& {
            WaitSum& made = made_->rows[row];
            made.of = of;
            made.atOnce = static_cast<uint32_t>(queue.most.size());
            made.lane = queue.most[0];
            made.longestOne = queue.range;
            return made;
        };
        const uint32_t all = rowBelow(object, uint64_t{1} << 62);
        WaitSum& several = fill(all, WaitRow::Queues, queues[0]);
        several.name = "several waited at once";
        several.count = queues.size();
        for (const Queue& queue : queues) {
            const int64_t ns = queue.range.end - queue.range.begin;
            addTime(several.total, ns);
            several.longest = std::max(several.longest, ns);
        }
        for (size_t i = 0; i < std::min(queues.size(), kMostQueues); ++i) {
            const uint32_t row = rowBelow(all, static_cast<uint64_t>(queues[i].range.begin));
            WaitSum& one = fill(row, WaitRow::Queue, queues[i]);
            for (const uint32_t lane : queues[i].most) one.name += (one.name.empty() ? "" : ", ") + r_.lanes[lane].name;
            one.count = queues[i].most.size();
            one.total = one.longest = queues[i].range.end - queues[i].range.begin;
        }
    }

    void sortAll() {
        const auto sort = [&](std::vector<uint32_t>& rows) {
            std::stable_sort(rows.begin(), rows.end(), [&](uint32_t a, uint32_t b) {
                const WaitSum &x = made_->rows[a], &y = made_->rows[b];
                return x.of != y.of ? x.of < y.of : x.of != WaitRow::Queue && x.total > y.total;
            });
        };
        sort(made_->top);
        for (WaitSum& row : made_->rows) sort(row.children);
    }

    const Recording& r_;
    const Scope& scope_;
    const std::shared_ptr<Waits> made_;
    std::map<std::pair<uint32_t, uint64_t>, uint32_t> below_;
    std::map<uint32_t, Spans> queued_;  // by row of an object
    std::map<uint32_t, std::vector<int64_t>> begins_;
};

}  // namespace

std::shared_ptr<const Waits> waitsIn(const Recording& recording, const Scope& scope, WaitsBy by,
                                     const Progress& progress) {
    return AddingUp(recording, scope, by).all(progress);
}

std::string waitKindText(WaitKind kind) {
    switch (kind) {
        case WaitKind::Lock: return "lock";
        case WaitKind::Condition: return "condition";
        case WaitKind::Job: return "job";
        case WaitKind::Gpu: return "GPU";
        case WaitKind::File: return "file";
        case WaitKind::Sleep: return "sleep";
        case WaitKind::Pacing: return "pacing";
        default: return "not told";
    }
}

}  // namespace fugato
