// SPDX-License-Identifier: GPL-3.0-or-later
#include "core_use.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <tuple>
#include <unordered_map>

#include "adding.h"
#include "core/explain/walk/core_holder.h"
#include "core/explain/words/quantities.h"
#include "core/store/long_work.h"
#include "format/number_text.h"

namespace fugato {

namespace {

constexpr size_t kTellEach = size_t{1} << 16;

/// The name of a lane's program: where the recording holds one, the recorded one's.
std::string programOf(const Recording& r, const Lane& lane) {
    if (!lane.program.empty()) return lane.program;
    const auto program = r.context.find("program");
    return program == r.context.end() ? "the program" : program->second;
}

std::string programOf(const Recording& r, CoreHolder holder) {
    if (holder < kOtherProgram) return programOf(r, r.lanes[r.groups[holder].lanes.front()]);
    return holder == kNone ? "not known" : coreHolderText(r, holder);
}

bool isBusy(const CoreSpan& span) {
    return span.end > span.begin && span.thread != layout::kIdleThread && span.thread != layout::kUnknownThread &&
           span.thread != kStoppedMachine;
}

/// Calls `take(core, span, begin, end)` for what of each busy span lies in a stretch. False where it was cancelled.
template <class Take>
bool eachSpan(const Recording& r, const std::vector<TimeRange>& stretches, const Progress& progress, Take&& take) {
    size_t looked = 0;
    for (uint32_t core = 0; core < r.lanes.size(); ++core) {
        const auto& spans = r.lanes[core].coreSpans;
        for (const TimeRange& stretch : stretches) {
            auto span = std::partition_point(spans.begin(), spans.end(),
                                             [&](const CoreSpan& s) { return s.end <= stretch.begin; });
            for (; span != spans.end() && span->begin < stretch.end; ++span) {
                if (++looked % kTellEach == 0 && progress &&
                    !progress(static_cast<double>(core) / static_cast<double>(r.lanes.size())))
                    return false;
                if (isBusy(*span))
                    take(core, *span, std::max(span->begin, stretch.begin), std::min(span->end, stretch.end));
            }
        }
    }
    return true;
}

/// A change of how many cores are busy, or threads ready.
struct Change {
    int64_t time = 0;
    int32_t busy = 0, ready = 0;
};

class Summing {
public:
    Summing(const Recording& r, const Scope& scope, const Progress& progress)
        : r_(r), scope_(scope), progress_(progress), holders_(r) {}

    std::shared_ptr<const CoreUse> all() {
        made_->length = scope_.length();
        for (const Lane& lane : r_.lanes) made_->cores += !lane.coreSpans.empty();
        lanes();
        if (!eachSpan(r_, scope_.stretches, progress_,
                      [this](uint32_t, const CoreSpan& span, int64_t begin, int64_t end) {
                          changes_.push_back({begin, 1, 0});
                          changes_.push_back({end, -1, 0});
                          if (ofLanes_.count(span.thread)) return;  // told by its lane
                          ThreadUse& use = others_[span.thread];
                          use.thread = span.thread;
                          addTime(use.ran, end - begin);
                      }))
            return nullptr;
        for (auto& [thread, use] : others_) {
            const auto known = r_.osThreads.find(thread);
            const CoreHolder holder = holders_.of(thread);
            use.name = holder < kOtherProgram                                      ? coreHolderText(r_, holder)
                       : known == r_.osThreads.end() || known->second.name.empty() ? "thread " + std::to_string(thread)
                                                                                   : known->second.name;
            use.program = programOf(r_, holder);
            made_->threads.push_back(std::move(use));
        }
        std::sort(made_->threads.begin(), made_->threads.end(), [](const ThreadUse& a, const ThreadUse& b) {
            return std::tie(b.ran, a.name, a.thread) < std::tie(a.ran, b.name, b.thread);
        });
        sweep();
        return made_;
    }

private:
    void lanes() {
        for (uint32_t l = 0; l < r_.lanes.size(); ++l) {
            const Lane& lane = r_.lanes[l];
            if (lane.kind != LaneKind::Thread || lane.schedule.empty() || !scope_.has(l)) continue;
            if (lane.osId) ofLanes_[static_cast<uint32_t>(lane.osId)] = l;
            ThreadUse use;
            use.name = lane.name;
            use.program = programOf(r_, lane);
            use.lane = l;
            use.thread = static_cast<uint32_t>(lane.osId);
            for (const TimeRange& stretch : scope_.stretches) {
                const TimeSplit split = lane.splitBetween(stretch.begin, stretch.end);
                addTime(use.ran, split.ran);
                addTime(use.ready, split.ready);
                addTime(use.blocked, split.blocked);
                walk(lane, stretch, use);
            }
            made_->moves += use.moves;
            made_->threads.push_back(std::move(use));
        }
    }

    void walk(const Lane& lane, const TimeRange& stretch, ThreadUse& use) {
        uint32_t core = kNone;
        auto span = std::partition_point(lane.schedule.begin(), lane.schedule.end(),
                                         [&](const ScheduleSpan& s) { return s.end <= stretch.begin; });
        for (; span != lane.schedule.end() && span->begin < stretch.end; ++span) {
            if (span->state == ThreadState::Ready) {
                changes_.push_back({std::max(span->begin, stretch.begin), 0, 1});
                changes_.push_back({std::min(span->end, stretch.end), 0, -1});
            }
            if (span->state != ThreadState::Running || span->core == kNone) continue;
            use.moves += core != kNone && span->core != core;
            core = span->core;
        }
    }

    /// How long so many cores were busy at once. What ends at an instant ends before what begins then.
    void sweep() {
        std::sort(changes_.begin(), changes_.end(), [](const Change& a, const Change& b) {
            return std::pair(a.time, a.busy + a.ready) < std::pair(b.time, b.busy + b.ready);
        });
        made_->busyAtOnce.assign(made_->cores + 1, 0);
        int64_t busy = 0, ready = 0, told = 0;
        for (size_t i = 0; i < changes_.size(); ++i) {
            busy += changes_[i].busy;
            ready += changes_[i].ready;
            if (i + 1 == changes_.size()) break;
            const int64_t ns = changes_[i + 1].time - changes_[i].time;
            if (busy > 0 && ns > 0) {
                addTime(made_->busyAtOnce[static_cast<size_t>(std::min<int64_t>(busy, made_->cores))], ns);
                addTime(told, ns);
                if (busy >= made_->cores && ready > 0) addTime(made_->crowded, ns);
            }
        }
        made_->busyAtOnce[0] = std::max<int64_t>(0, made_->length - told);
    }

    const Recording& r_;
    const Scope& scope_;
    const Progress& progress_;
    const CoreHolders holders_;
    std::shared_ptr<CoreUse> made_ = std::make_shared<CoreUse>();
    std::unordered_map<uint32_t, uint32_t> ofLanes_;  // lanes by thread of the operating system
    std::map<uint32_t, ThreadUse> others_;            // by thread
    std::vector<Change> changes_;
};

class TableOfCores : public NestedTable {
public:
    TableOfCores(std::shared_ptr<const Recording> recording, std::shared_ptr<const CoreUse> use)
        : recording_(std::move(recording)), use_(std::move(use)) {
        std::map<std::string, Row> programs;
        std::vector<Row> top;
        std::vector<std::vector<Row>> children;
        for (uint32_t i = 0; i < use_->threads.size(); ++i) {
            const ThreadUse& thread = use_->threads[i];
            const auto [at, isNew] = programs.try_emplace(thread.program, static_cast<Row>(lines_.size()));
            if (isNew) {
                lines_.push_back({thread.program, kNone, 0, 0, 0, 0});
                children.emplace_back();
                top.push_back(at->second);
            }
            Line& all = lines_[at->second];
            addTime(all.ran, thread.ran);
            addTime(all.ready, thread.ready);
            addTime(all.blocked, thread.blocked);
            all.moves += thread.moves;
            all.ofLanes = all.ofLanes || thread.lane != kNone;
            children[at->second].push_back(static_cast<Row>(lines_.size()));
            lines_.push_back(
                {thread.name, i, thread.ran, thread.ready, thread.blocked, thread.moves, thread.lane != kNone});
            children.emplace_back();
        }
        std::stable_sort(top.begin(), top.end(), [&](Row a, Row b) { return lines_[a].ran > lines_[b].ran; });
        nest(std::move(top), std::move(children));
        columns_ = {{"name", "Program or thread", Quantity::Text, "Programs, and below them their threads"},
                    {"ran_ns", "Ran", Quantity::Duration, "Time in which it had a core"},
                    {"ready_ns", "Ready", Quantity::Duration, "Time in which it could have run and had no core"},
                    {"blocked_ns", "Blocked", Quantity::Duration, "Time in which it waited for something else"},
                    {"part_permille", "Of the cores", Quantity::PerMille, "Its running time by that of all cores"},
                    {"moves", "Moves", Quantity::Count, "How often it went on on another core"}};
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    TableValue value(Row row, size_t column) const override {
        const Line& line = lines_[row];
        const auto ofLane = [&](int64_t value) { return line.ofLanes ? TableValue(value) : TableValue(); };
        switch (column) {
            case kCoreName: return line.name;
            case kCoreRan: return line.ran;
            case kCoreReady: return ofLane(line.ready);
            case kCoreBlocked: return line.thread == kNone ? TableValue() : ofLane(line.blocked);
            case kCorePart: {
                const double all = static_cast<double>(use_->length) * use_->cores;
                return all > 0 ? TableValue(std::llround(1000.0 * static_cast<double>(line.ran) / all)) : TableValue();
            }
            default: return ofLane(static_cast<int64_t>(line.moves));
        }
    }
    Emphasis emphasis(Row row, size_t) const override {
        return lines_[row].thread == kNone ? Emphasis::Strong : Emphasis::None;
    }
    TablePlace place(Row row) const override {
        TablePlace place;
        if (lines_[row].thread != kNone) place.lane = use_->threads[lines_[row].thread].lane;
        return place;
    }
    uint64_t keyOf(Row row) const override {
        const Line& line = lines_[row];
        if (line.thread == kNone) return std::hash<std::string>()(line.name);
        const ThreadUse& thread = use_->threads[line.thread];
        return uint64_t{thread.lane} << 32 | thread.thread;
    }

private:
    struct Line {
        std::string name;
        uint32_t thread = kNone;  // in CoreUse::threads; kNone: a program
        int64_t ran = 0, ready = 0, blocked = 0;
        uint64_t moves = 0;
        bool ofLanes = false;
    };
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const CoreUse> use_;
    std::vector<Line> lines_;
    std::vector<TableColumn> columns_;
};

}  // namespace

bool tellsCores(const Recording& recording) {
    return std::any_of(recording.lanes.begin(), recording.lanes.end(),
                       [](const Lane& lane) { return !lane.coreSpans.empty(); });
}

double CoreUse::meanBusy() const {
    double sum = 0;
    for (size_t i = 1; i < busyAtOnce.size(); ++i) sum += static_cast<double>(busyAtOnce[i]) * static_cast<double>(i);
    return length > 0 ? sum / static_cast<double>(length) : 0;
}

std::shared_ptr<const CoreUse> coreUse(const Recording& recording, const Scope& scope, const Progress& progress) {
    longWork("use of the cores");
    return Summing(recording, scope, progress).all();
}

std::shared_ptr<const CoreCurve> coreCurve(const Recording& r, const TimeRange& range, size_t columns, bool byProgram,
                                           size_t most, const Progress& progress) {
    longWork("use of the cores over time");
    auto made = std::make_shared<CoreCurve>();
    made->range = range;
    for (const Lane& lane : r.lanes) made->cores += !lane.coreSpans.empty();
    const CoreHolders holders(r);
    const int64_t length = std::max<int64_t>(1, range.end - range.begin);
    std::map<std::string, std::vector<int64_t>> byName;
    std::unordered_map<uint32_t, std::vector<int64_t>*> ofThread;
    const auto columnOf = [&](int64_t time) {
        const double part = static_cast<double>(time - range.begin) / static_cast<double>(length);
        return std::min(columns - 1, static_cast<size_t>(part * static_cast<double>(columns)));
    };
    const auto beginOf = [&](size_t column) {
        return range.begin + static_cast<int64_t>(static_cast<double>(length) * static_cast<double>(column) /
                                                  static_cast<double>(columns));
    };
    const auto nameOf = [&](uint32_t thread) {
        return byProgram ? programOf(r, holders.of(thread)) : r.osThreadText(thread);
    };
    const bool whole = eachSpan(r, {range}, progress, [&](uint32_t, const CoreSpan& span, int64_t begin, int64_t end) {
        auto& at = ofThread[span.thread];
        if (!at) {
            at = &byName[nameOf(span.thread)];
            at->resize(columns);
        }
        for (size_t column = columnOf(begin); column < columns && begin < end; ++column) {
            const int64_t past = column + 1 == columns ? end : std::min(end, std::max(begin, beginOf(column + 1)));
            (*at)[column] += past - begin;
            begin = past;
        }
    });
    if (!whole) return nullptr;
    std::vector<std::pair<int64_t, std::string>> order;
    for (const auto& [name, parts] : byName) {
        int64_t sum = 0;
        for (const int64_t ns : parts) sum += ns;
        order.emplace_back(-sum, name);
    }
    std::sort(order.begin(), order.end());
    for (size_t i = 0; i < order.size(); ++i) {
        std::vector<int64_t>& parts = byName[order[i].second];
        if (i < most) {
            made->names.push_back(order[i].second);
            made->parts.push_back(std::move(parts));
            continue;
        }
        if (i == most) {
            made->names.push_back("others");
            made->parts.emplace_back(columns, 0);
        }
        for (size_t column = 0; column < columns; ++column) made->parts.back()[column] += parts[column];
    }
    return made;
}

std::shared_ptr<const Table> coreTable(std::shared_ptr<const Recording> recording, std::shared_ptr<const CoreUse> use) {
    return std::make_shared<TableOfCores>(std::move(recording), std::move(use));
}

std::string coreSentences(const CoreUse& use) {
    const auto part = [&](int64_t ns) {
        return fixedText(use.length > 0 ? 100.0 * static_cast<double>(ns) / static_cast<double>(use.length) : 0, 1) +
               " %";
    };
    int64_t ready = 0;
    for (const ThreadUse& thread : use.threads) ready += thread.ready;
    std::string words = "On average " + fixedText(use.meanBusy(), 2) + " of " + plural(use.cores, "core", "cores") +
                        " were busy: all of them for " + part(use.busyAtOnce.empty() ? 0 : use.busyAtOnce.back()) +
                        " of the time, none for " + part(use.busyAtOnce.empty() ? 0 : use.busyAtOnce.front()) + ".";
    words += ready > 0
                 ? " Threads of the program were ready without a core for " + durationText(ready) + " in all; for " +
                       part(use.crowded) + " of the time more wanted to run than there are cores."
                 : " No thread of the program had to wait for a core.";
    return words + " They moved " + plural(use.moves, "time", "times") + " from one core to another.";
}

}  // namespace fugato
