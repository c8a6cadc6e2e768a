// SPDX-License-Identifier: GPL-3.0-or-later
#include "instant_table.h"

#include <algorithm>

#include "connections.h"
#include "core/explain/words/marker_words.h"
#include "core/explain/words/quantities.h"
#include "core/model/lane_order.h"
#include "core/table/writing.h"

namespace fugato {

namespace {

constexpr size_t kMostOperations = 64, kLookedAtOperations = 100'000;

/// The last value told at an instant or before; times.size() where there is none.
size_t lastTold(const Column<int64_t>& times, int64_t instant) {
    const auto after = std::upper_bound(times.begin(), times.end(), instant);
    return after == times.begin() ? times.size() : static_cast<size_t>(after - times.begin()) - 1;
}

class TableOfInstant : public NestedTable {
public:
    TableOfInstant(std::shared_ptr<const Recording> recording, int64_t instant)
        : recording_(std::move(recording)), instant_(instant) {
        group("Frames", [this] { frames(); });
        group("Lanes", [this] { lanes(); });
        group("States", [this] { states(); });
        group("Counters", [this] { counters(); });
        group("Memory in use", [this] { memory(); });
        group("Operations", [this] { operations(); });
        nest(std::move(top_), std::move(children_));
        columns_ = {{"what", "At this instant", Quantity::Text, "What the value is of"},
                    {"value", "Value", Quantity::Text, "What it is, or what the lane does", 0, false, false, true},
                    {"for_ns", "For", Quantity::Duration, "How long it had been so"},
                    {"whole_ns", "Lasts", Quantity::Duration, "How long it is so altogether"}};
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    TableValue value(Row row, size_t column) const override {
        const Line& line = lines_[row];
        const auto known = [](int64_t ns) { return ns < 0 ? TableValue() : TableValue(ns); };
        switch (column) {
            case kInstantWhat: return line.what;
            case kInstantValue: return line.value.empty() ? TableValue() : TableValue(line.value);
            case kInstantFor: return known(line.since == kUnknown ? -1 : instant_ - line.since);
            default: return known(line.since == kUnknown || line.until == kUnknown ? -1 : line.until - line.since);
        }
    }
    Emphasis emphasis(Row row, size_t) const override { return lines_[row].emphasis; }
    std::string help(Row row) const override { return lines_[row].help; }
    TablePlace place(Row row) const override { return lines_[row].place; }
    uint64_t keyOf(Row row) const override { return lines_[row].key; }

private:
    static constexpr int64_t kUnknown = std::numeric_limits<int64_t>::min();
    struct Line {
        std::string what, value, help;
        int64_t since = kUnknown, until = kUnknown;
        TablePlace place;
        Emphasis emphasis = Emphasis::None;
        uint64_t key = 0;  // the group, and what of it
    };

    template <class Fill>
    void group(const char* name, Fill&& fill) {
        const auto row = static_cast<Row>(lines_.size());
        ++group_;
        add(name, {}, 0).emphasis = Emphasis::Strong;
        fill();
        if (lines_.size() == row + 1) {  // nothing of the kind
            lines_.pop_back();
            children_.pop_back();
            return;
        }
        top_.push_back(row);
        for (Row below = row + 1; below < lines_.size(); ++below) children_[row].push_back(below);
    }
    Line& add(std::string what, std::string value, uint64_t number) {
        Line& line = lines_.emplace_back();
        line.what = std::move(what);
        line.value = std::move(value);
        line.key = uint64_t{group_} << 40 | number;
        children_.emplace_back();
        return line;
    }

    void frames() {
        const Recording& r = *recording_;
        for (uint32_t i = 0; i < r.series.size(); ++i) {
            const uint32_t at = r.series[i].frameAt(instant_);
            if (at == kNone) continue;
            const Frame& frame = r.series[i].frames[at];
            if (frame.end < instant_) continue;
            Line& line = add(r.series[i].name, "frame " + countText(at), i + 1);
            line.since = frame.begin;
            line.until = frame.end;
            if (frame.deadline && frame.duration() > frame.deadline) {
                line.value += ", " + durationText(frame.duration() - frame.deadline) + " late";
                line.emphasis = Emphasis::Excess;
            }
        }
    }

    void lanes() {
        const Recording& r = *recording_;
        for (const uint32_t lane : lanesInOrder(r)) {
            const Lane& one = r.lanes[lane];
            if (one.kind == LaneKind::Core || one.fromSystem || one.onlyCounts) continue;
            Line& line = add(one.name, {}, lane + 1);
            line.place.lane = lane;
            const MarkerRef marker = r.innermostBefore(lane, instant_ + 1);
            if (marker.valid()) {
                const MarkerRow& row = one.rows[marker.row];
                line.value = r.pathText(r.pathOf(marker), 3);
                line.since = row.begin(marker.index);
                line.until = row.end(marker.index);
                line.place.marker = marker;
                if (row.flags(marker.index) & kMarkerWait) line.emphasis = Emphasis::Muted;
            } else {
                line.value = "no marker";
                line.emphasis = Emphasis::Muted;
            }
            if (const std::string system = scheduleText(r, one, instant_); !system.empty())
                line.value += " · " + system;
        }
    }

    void states() {
        const Recording& r = *recording_;
        for (uint32_t i = 0; i < r.states.size(); ++i) {
            const auto& spans = r.states[i].spans;
            const auto after = std::upper_bound(spans.begin(), spans.end(), instant_,
                                                [](int64_t t, const StateSpan& s) { return t < s.begin; });
            if (after == spans.begin() || (after - 1)->end <= instant_) continue;
            Line& line = add(r.states[i].name, std::string(r.text((after - 1)->value)), i + 1);
            line.since = (after - 1)->begin;
            line.until = (after - 1)->end;
        }
    }

    void counters() {
        const Recording& r = *recording_;
        for (uint32_t i = 0; i < r.counters.size(); ++i) {
            const Counter& counter = r.counters[i];
            const size_t at = lastTold(counter.times, instant_);
            if (at >= counter.values.size()) continue;
            const double value = counter.values[at];
            Line& line = add(counter.name, realText(value) + (counter.unit.empty() ? "" : " " + counter.unit), i + 1);
            line.since = counter.times[at];
            if (at + 1 < counter.times.size()) line.until = counter.times[at + 1];
            if (!counter.threshold) continue;
            line.help = "threshold " + realText(*counter.threshold);
            if (value > *counter.threshold) {
                line.value += ", above its threshold of " + realText(*counter.threshold);
                line.emphasis = Emphasis::Excess;
            }
        }
    }

    void memory() {
        const Recording& r = *recording_;
        for (uint32_t i = 0; i < r.pools.size(); ++i) {
            const size_t at = lastTold(r.pools[i].times, instant_);
            if (at >= r.pools[i].bytesInUse.size()) continue;
            const int64_t bytes = std::max<int64_t>(0, r.pools[i].bytesInUse[at]);
            Line& line = add(r.pools[i].name, bytesText(static_cast<uint64_t>(bytes)), i + 1);
            line.since = r.pools[i].times[at];
            if (at + 1 < r.pools[i].times.size()) line.until = r.pools[i].times[at + 1];
        }
    }

    void operations() {
        const Recording& r = *recording_;
        const auto past = std::partition_point(r.operations.begin(), r.operations.end(),
                                               [&](const Operation& o) { return o.begin <= instant_; });
        size_t found = 0, looked = 0;
        for (auto it = past; it != r.operations.begin() && found < kMostOperations && looked < kLookedAtOperations;
             ++looked) {
            const Operation& o = *--it;
            if (o.end <= instant_ || o.site >= r.sites.size() || o.beganOn >= r.lanes.size()) continue;
            ++found;
            Line& line = add(r.sites[o.site].name, "begun on " + r.lanes[o.beganOn].name,
                             static_cast<uint64_t>(it - r.operations.begin()) + 1);
            for (const OperationStep& step : r.stepsOf(o))
                if (step.time <= instant_) line.value = r.sites[step.site].name + ", on " + r.lanes[step.lane].name;
            line.since = o.begin;
            line.until = o.end;
            line.place.lane = o.beganOn;
            line.place.begin = o.begin;
            line.place.end = o.end;
        }
    }

    const std::shared_ptr<const Recording> recording_;
    const int64_t instant_;
    std::vector<Line> lines_;
    std::vector<Row> top_;
    std::vector<std::vector<Row>> children_;
    uint32_t group_ = 0;
    std::vector<TableColumn> columns_;
};

}  // namespace

std::shared_ptr<const Table> instantTable(std::shared_ptr<const Recording> recording, int64_t instant) {
    return std::make_shared<TableOfInstant>(std::move(recording), instant);
}

size_t pictureAt(const Recording& recording, int64_t instant) {
    const auto after = std::upper_bound(recording.pictures.begin(), recording.pictures.end(), instant,
                                        [](int64_t t, const Picture& p) { return t < p.time; });
    return after == recording.pictures.begin() ? kNoPicture
                                               : static_cast<size_t>(after - recording.pictures.begin()) - 1;
}

}  // namespace fugato
