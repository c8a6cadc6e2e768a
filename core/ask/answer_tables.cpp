// SPDX-License-Identifier: GPL-3.0-or-later
#include "answer_tables.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "core/explain/words/quantities.h"
#include "format/number_text.h"

namespace fugato {

namespace {

constexpr double kTellingExcess = 1e6;  // ns; a marker so much above usual in a late frame is emphasised

TableValue number(uint64_t value) { return static_cast<int64_t>(value); }

class TableOfMarkers : public NestedTable {
public:
    TableOfMarkers(std::shared_ptr<const Recording> recording, std::shared_ptr<const Symbols> symbols,
                   std::shared_ptr<const GroupedMarkers> made)
        : recording_(std::move(recording)), symbols_(std::move(symbols)), made_(std::move(made)) {
        std::vector<std::vector<Row>> children;
        children.reserve(made_->rows.size());
        for (const GroupedMarker& row : made_->rows) children.push_back(row.children);
        nest(made_->top, std::move(children));
        makeColumns();
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    TableValue value(Row row, size_t column) const override {
        const GroupedMarker& r = made_->rows[row];
        if (column == kMarkerName) return nameOf(r);
        if (r.function != kNone) return column == kMarkerTotal ? TableValue(r.total) : TableValue();
        const auto known = [](int64_t ns) { return ns < 0 ? TableValue() : TableValue(ns); };
        switch (column) {
            case kMarkerTotal: return r.total;
            case kMarkerOfFrame: return partOf(r.total, made_->from->frameTime);
            case kMarkerOfBudget: return partOf(r.total, made_->from->budget);
            case kMarkerUsual: return known(r.usual);
            case kMarkerExcess: return r.usual < 0 ? TableValue() : TableValue(r.excess());
            case kMarkerRan: return known(r.ran);
            case kMarkerAllocations: return r.allocations ? number(r.allocations) : TableValue();
            case kMarkerAllocated: return r.allocations ? number(r.allocated) : TableValue();
            default: break;
        }
        if (r.group) return {};
        switch (column) {
            case kMarkerSelf: return r.self;
            case kMarkerCalls: return number(r.count);
            case kMarkerMean: return r.count ? TableValue(r.total / static_cast<int64_t>(r.count)) : TableValue();
            default: return r.count ? TableValue(r.longest) : TableValue();
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        const GroupedMarker& r = made_->rows[row];
        if (r.function != kNone) return Emphasis::Muted;               // what the row above consists of
        if (r.wait || (!r.count && !r.group)) return Emphasis::Muted;  // waiting is not work
        if (column == kMarkerExcess && made_->from->late && r.usual >= 0 &&
            static_cast<double>(r.excess()) >= kTellingExcess * std::max(1.0, made_->from->frames))
            return Emphasis::Excess;
        return r.group && column == kMarkerName ? Emphasis::Strong : Emphasis::None;
    }
    TablePlace place(Row row) const override {
        const GroupedMarker& r = made_->rows[row];
        TablePlace place;
        place.lane = r.lane;
        place.site = r.site;
        if (made_->from->scope.stretches.size() == 1) place.marker = r.first;
        return place;
    }
    std::string help(Row row) const override {
        const GroupedMarker& r = made_->rows[row];
        if (r.function == kNone) return r.site == kNone ? std::string() : recording_->sites[r.site].description;
        const std::string& file = symbols_->functions[r.function].file;
        return "By call stacks: " + symbols_->fullName(r.function) + (file.empty() ? "" : "\n" + file);
    }
    uint64_t keyOf(Row row) const override { return made_->rows[row].key; }

private:
    std::string nameOf(const GroupedMarker& r) const {
        if (r.function == kNone) return r.name;
        return (r.samples ? "in " : "blocked in ") + symbols_->nameOf(r.function) +
               (r.samples ? ", " + plural(r.samples, "sample", "samples") : "");
    }
    static TableValue partOf(int64_t ns, int64_t whole) {
        return whole > 0 ? TableValue(std::llround(1000.0 * static_cast<double>(ns) / static_cast<double>(whole)))
                         : TableValue();
    }
    void makeColumns() {
        constexpr int64_t kLong = 10'000'000'000;  // from here on each duration has the unit that suits it
        const bool ms = made_->from->scope.length() < kLong;
        const auto time = [&](const char* key, const std::string& title, const char* help, bool difference = false) {
            return TableColumn{
                key, ms || difference ? title + " ms" : title,
                difference ? Quantity::SignedMilliseconds : (ms ? Quantity::Milliseconds : Quantity::Duration), help};
        };
        columns_ = {
            {"marker", "Marker", Quantity::Text, "Markers, and what they lie in or are called from"},
            time("total_ns", "Total", "Time inside it; of a lane, its markers less its waits"),
            time("self_ns", "Self", "The part that lies in no marker below"),
            {"calls", "Calls", Quantity::Count, "How often it begins or goes on there"},
            time("mean_ns", "Mean", "Total by calls"),
            time("longest_ns", "Longest", "The whole length of its longest occurrence"),
            {"of_frame_permille", "Of frame", Quantity::PerMille, "Total by the length of the frames there"},
            {"of_budget_permille", "Of budget", Quantity::PerMille, "Total by the time that these frames have"},
            time("usual_ns", "Usual", "The median over usual frames, for as many frames as there are here"),
            time("excess_ns", "Excess", "Total less usual", true),
            time("ran_ns", "Ran", "The part of total in which its thread had a core; the rest it was ready or blocked"),
            {"allocations", "Allocations", Quantity::Count, "Taken while it was open"},
            {"allocated_bytes", "Allocated", Quantity::Bytes, "Bytes taken while it was open"}};
        for (const size_t optional :
             {kMarkerMean, kMarkerLongest, kMarkerOfBudget, kMarkerRan, kMarkerAllocations, kMarkerAllocated})
            columns_[optional].optional = true;
        for (size_t c = kMarkerOfFrame; c < columns_.size(); ++c)
            columns_[c].empty = std::all_of(made_->top.begin(), made_->top.end(), [&](Row row) {
                return std::holds_alternative<std::monostate>(value(row, c));
            });
    }

    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const Symbols> symbols_;
    const std::shared_ptr<const GroupedMarkers> made_;
    std::vector<TableColumn> columns_;
};

class TableOfDifferences : public Table {
public:
    TableOfDifferences(std::shared_ptr<const Recording> recording, std::vector<MarkerDifference> differences)
        : recording_(std::move(recording)), rows_(std::move(differences)) {}
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> columns{
            {"marker", "Marker", Quantity::Text, "The marker with its callers"},
            {"lane", "Lane", Quantity::Text, "The lane, or the role of several"},
            {"here_ns", "Here ms", Quantity::Milliseconds, "Its own time in a frame of what is looked at, on average"},
            {"there_ns", "Compared ms", Quantity::Milliseconds, "The same in what that is compared with"},
            {"difference_ns", "Difference ms", Quantity::SignedMilliseconds, "The first less the second"}};
        return columns;
    }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(rows_.size()); }
    TableValue value(Row row, size_t column) const override {
        const MarkerDifference& r = rows_[row];
        switch (column) {
            case kDifferenceMarker: return recording_->pathText(r.path, kCallers);
            case kDifferenceLane: return recording_->groups[r.group].name;
            case kDifferenceHere: return std::llround(r.here);
            case kDifferenceThere: return std::llround(r.there);
            default: return std::llround(r.difference());
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        return column == kDifferenceDifference && rows_[row].difference() >= kTellingExcess ? Emphasis::Excess
                                                                                            : Emphasis::None;
    }
    TablePlace place(Row row) const override {
        TablePlace place;
        place.site = recording_->paths[rows_[row].path].site;
        return place;
    }
    uint64_t keyOf(Row row) const override { return keyOfPath(rows_[row].group, rows_[row].path); }

private:
    static constexpr size_t kCallers = 3;
    const std::shared_ptr<const Recording> recording_;
    const std::vector<MarkerDifference> rows_;
};

class TableOfCounters : public NestedTable {
public:
    TableOfCounters(std::shared_ptr<const Recording> recording, std::shared_ptr<const CounterAndStateFigures> figures)
        : recording_(std::move(recording)), figures_(std::move(figures)) {
        std::vector<Row> top;
        std::vector<std::vector<Row>> children;
        const auto add = [&](const Line& line) {
            lines_.push_back(line);
            children.emplace_back();
            return static_cast<Row>(lines_.size() - 1);
        };
        for (uint32_t i = 0; i < figures_->counters.size(); ++i) top.push_back(add({i, kNone, kNone}));
        for (uint32_t i = 0; i < figures_->states.size(); ++i) {
            const Row state = add({kNone, i, kNone});
            top.push_back(state);
            for (uint32_t value = 0; value < figures_->states[i].times.size(); ++value) {
                const Row row = add({kNone, i, value});
                children[state].push_back(row);
            }
        }
        nest(std::move(top), std::move(children));
        const bool judged = figures_->lateFrames + figures_->otherFrames > 0;
        const bool any = judged && std::any_of(figures_->counters.begin(), figures_->counters.end(),
                                               [&](const CounterFigures& f) { return counterOf(f).threshold; });
        columns_ = {{"name", "Counter or state", Quantity::Text, "Counters with their units; states with their values"},
                    {"now", "At the instant", Quantity::Number,
                     "What it was at the chosen instant, or where the selected marker or frame begins"},
                    {"least", "Least", Quantity::Number, "The least that held there"},
                    {"mean", "Mean", Quantity::Number, "The mean there, by how long each value held"},
                    {"greatest", "Greatest", Quantity::Number, "The greatest that held there"},
                    {"threshold", "Threshold", Quantity::Number, "What it should not exceed"},
                    {"late_beyond_permille", "Above when late", Quantity::PerMille,
                     "In so many of the late frames there it was above its threshold"},
                    {"other_beyond_permille", "Above otherwise", Quantity::PerMille, "In so many of the other frames"},
                    {"time_ns", "Time", Quantity::Duration, "How long a state had that value there"},
                    {"times", "Times", Quantity::Count, "How often a value was told, or a state entered, there"}};
        columns_[kCounterThreshold].empty = columns_[kCounterLateBeyond].empty = columns_[kCounterOtherBeyond].empty =
            !any;
        columns_[kCounterTime].empty = figures_->states.empty();
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    TableValue value(Row row, size_t column) const override {
        const Line& line = lines_[row];
        if (line.counter != kNone) return valueOf(figures_->counters[line.counter], column);
        const StateFigures& state = figures_->states[line.state];
        if (line.value == kNone) {
            if (column == kCounterName) return recording_->states[state.state].name;
            return column == kCounterNow && !state.now.empty() ? TableValue(state.now) : TableValue();
        }
        const StateTime& time = state.times[line.value];
        switch (column) {
            case kCounterName: return time.value;
            case kCounterTime: return time.ns;
            case kCounterCount: return number(time.times);
            default: return {};
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        const Line& line = lines_[row];
        if (line.counter == kNone || column != kCounterLateBeyond) return Emphasis::None;
        const CounterFigures& f = figures_->counters[line.counter];
        // As advice does: it goes with late frames where it is beyond in them much more often.
        constexpr int64_t kOften = 100, kMoreOften = 5;  // permille, times
        const int64_t late = permille(f.lateBeyond, figures_->lateFrames),
                      other = permille(f.otherBeyond, figures_->otherFrames);
        return late >= kOften && late >= kMoreOften * other ? Emphasis::Excess : Emphasis::None;
    }
    uint64_t keyOf(Row row) const override {
        const Line& line = lines_[row];
        return line.counter != kNone ? line.counter : uint64_t{line.state + 1} << 32 | line.value;
    }

private:
    struct Line {
        uint32_t counter, state, value;  // kNone: not of one; a state's own row has no value
    };
    const Counter& counterOf(const CounterFigures& f) const { return recording_->counters[f.counter]; }
    static int64_t permille(size_t part, size_t all) {
        return all ? std::llround(1000.0 * static_cast<double>(part) / static_cast<double>(all)) : 0;
    }
    TableValue valueOf(const CounterFigures& f, size_t column) const {
        const Counter& counter = counterOf(f);
        const auto known = [](const std::optional<double>& value) { return value ? TableValue(*value) : TableValue(); };
        const auto part = [&](size_t beyond, size_t all) {
            return counter.threshold && all ? TableValue(permille(beyond, all)) : TableValue();
        };
        switch (column) {
            case kCounterName: return counter.name + (counter.unit.empty() ? "" : ", " + counter.unit);
            case kCounterNow: return known(f.now);
            case kCounterLeast: return known(f.least);
            case kCounterMean: return known(f.mean);
            case kCounterGreatest: return known(f.greatest);
            case kCounterThreshold: return known(counter.threshold);
            case kCounterLateBeyond: return part(f.lateBeyond, figures_->lateFrames);
            case kCounterOtherBeyond: return part(f.otherBeyond, figures_->otherFrames);
            case kCounterCount: return number(f.values);
            default: return {};
        }
    }

    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const CounterAndStateFigures> figures_;
    std::vector<Line> lines_;
    std::vector<TableColumn> columns_;
};

class TableOfWaits : public NestedTable {
public:
    explicit TableOfWaits(std::shared_ptr<const Waits> waits) : waits_(std::move(waits)) {
        std::vector<std::vector<Row>> children;
        for (const WaitSum& row : waits_->rows) children.push_back(row.children);
        nest(waits_->top, std::move(children));
        columns_ = {
            {"what", "Waits", Quantity::Text,
             "What was waited for, who waited, who held it meanwhile, and where several waited at once"},
            {"total_ns", "Total", Quantity::Duration,
             "Time waited; of a holder, in which it held it while others waited; of several, until only one did"},
            {"waits", "Waits", Quantity::Count,
             "How often; of a holder, how many waits it met; of several, how often that was"},
            {"mean_ns", "Mean", Quantity::Duration, "Total by waits"},
            {"longest_ns", "Longest", Quantity::Duration,
             "The whole length of the longest wait; of a holder, of the longest time it was held; of several, of "
             "the longest time they waited together"},
            {"at_once", "At once", Quantity::Count, "How many waited for it at the same instant, at most"},
            {"kind", "Kind", Quantity::Text, "What kind of wait it is"}};
        columns_[kWaitAtOnce].empty = columns_[kWaitKind].empty = waits_->by != WaitsBy::Object;
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    TableValue value(Row row, size_t column) const override {
        const WaitSum& r = waits_->rows[row];
        switch (column) {
            case kWaitWhat: return r.name;
            case kWaitTotal: return r.total;
            case kWaitCount: return r.of == WaitRow::Queue ? TableValue() : number(r.count);
            case kWaitMean:
                return r.count && r.of != WaitRow::Queue ? TableValue(r.total / static_cast<int64_t>(r.count))
                                                         : TableValue();
            case kWaitLongest: return r.longest;
            case kWaitAtOnce: return r.atOnce ? number(r.atOnce) : TableValue();
            default: break;
        }
        const bool top = parentOf(row) == kTop && waits_->by == WaitsBy::Object;
        return top ? TableValue(waitKindText(r.kind)) : TableValue();
    }
    Emphasis emphasis(Row row, size_t column) const override {
        const WaitSum& r = waits_->rows[row];
        const Row above = parentOf(row);
        if (r.of == WaitRow::Queue) return Emphasis::Muted;
        const WaitKind kind = above == kTop ? r.kind : waits_->rows[above].kind;
        if (waits_->by == WaitsBy::Object && (kind == WaitKind::Pacing || kind == WaitKind::Sleep))
            return Emphasis::Muted;  // idle on purpose
        return above == kTop && column == kWaitWhat ? Emphasis::Strong : Emphasis::None;
    }
    TablePlace place(Row row) const override {
        const WaitSum& r = waits_->rows[row];
        TablePlace place;
        place.marker = r.longestWait;
        if (r.of == WaitRow::Waits) return place;
        place.lane = r.lane;
        place.begin = r.longestOne.begin;
        place.end = r.longestOne.end;
        return place;
    }
    uint64_t keyOf(Row row) const override { return waits_->rows[row].key; }

private:
    const std::shared_ptr<const Waits> waits_;
    std::vector<TableColumn> columns_;
};

class TableOfOperations : public NestedTable {
public:
    TableOfOperations(std::shared_ptr<const Recording> recording, std::shared_ptr<const OperationList> operations,
                      OperationsBy by)
        : recording_(std::move(recording)), operations_(std::move(operations)), by_(by) {
        std::vector<Row> top;
        std::vector<std::vector<Row>> children;
        const auto add = [&](const Line& line, std::vector<Row>& to) {
            const auto row = static_cast<Row>(lines_.size());
            lines_.push_back(line);
            children.emplace_back();
            to.push_back(row);
            return row;
        };
        std::map<std::string, Row> groups;
        for (uint32_t i = 0; i < operations_->longest.size(); ++i) {
            const ListedOperation& operation = operations_->longest[i];
            std::vector<Row> here;
            const Row row = add({i, kNone, 0, 0, 0}, here);
            for (uint32_t layer = 0; layer < operation.layers.size(); ++layer) {
                std::vector<Row> below;
                add({i, layer, 0, 0, 0}, below);
                children[row].push_back(below[0]);
            }
            if (by_ == OperationsBy::Each) {
                top.push_back(row);
                continue;
            }
            const auto [group, fresh] = groups.try_emplace(groupOf(operation), 0);
            if (fresh) group->second = add({i, kGroup, 0, 0, 0}, top);
            Line& line = lines_[group->second];
            ++line.count;
            line.total += operation.end - operation.begin;
            line.longest = std::max(line.longest, operation.end - operation.begin);
            children[group->second].push_back(row);
        }
        if (by_ != OperationsBy::Each)
            std::stable_sort(top.begin(), top.end(), [&](Row a, Row b) { return lines_[a].total > lines_[b].total; });
        nest(std::move(top), std::move(children));
        columns_ = {{"what", "What", Quantity::Text, "The operation or file request, and the layers it passed through"},
                    {"path", "Path", Quantity::Text, "Of a file, where it is known"},
                    {"duration_ns", "Duration", Quantity::Duration, "From its begin to its end; of several, together"},
                    {"count", "Count", Quantity::Count, "How many they are"},
                    {"longest_ns", "Longest", Quantity::Duration, "The longest of them"},
                    {"bytes", "Bytes", Quantity::Bytes, "Read or written, where it is known"},
                    {"begin_ns", "Begin", Quantity::Instant, "Since the recording's begin", recording_->begin},
                    {"lane", "Lane", Quantity::Text, "Where it began, and where it ended"},
                    {"result", "Result", Quantity::Text, "Why it failed, or that it was never ended"}};
        columns_[kOperationCount].empty = columns_[kOperationLongest].empty = by_ == OperationsBy::Each;
        const auto& all = operations_->longest;
        const auto none = [&](auto&& has) { return std::none_of(all.begin(), all.end(), has); };
        columns_[kOperationPath].empty = none([](const ListedOperation& o) { return !o.path.empty(); });
        columns_[kOperationBytes].empty = none([](const ListedOperation& o) { return o.bytes.has_value(); });
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    TableValue value(Row row, size_t column) const override {
        const Line& line = lines_[row];
        const ListedOperation& operation = operations_->longest[line.operation];
        if (line.layer == kGroup) {
            switch (column) {
                case kOperationWhat: return groupOf(operation);
                case kOperationDuration: return line.total;
                case kOperationCount: return number(line.count);
                case kOperationLongest: return line.longest;
                default: return {};
            }
        }
        const bool whole = line.layer == kNone;
        const int64_t begin = whole ? operation.begin : operation.layers[line.layer].begin,
                      end = whole ? operation.end : operation.layers[line.layer].end;
        switch (column) {
            case kOperationWhat: return whole ? operation.what : operation.layers[line.layer].name;
            case kOperationPath: return whole && !operation.path.empty() ? TableValue(operation.path) : TableValue();
            case kOperationDuration: return end - begin;
            case kOperationBytes: return whole && operation.bytes ? TableValue(*operation.bytes) : TableValue();
            case kOperationBegin: return begin;
            case kOperationLane: return lanesOf(line);
            case kOperationResult: return whole ? resultOf(operation) : TableValue();
            default: return {};
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        const Line& line = lines_[row];
        if (line.layer == kGroup) return column == kOperationWhat ? Emphasis::Strong : Emphasis::None;
        const bool failed = line.layer == kNone && operations_->longest[line.operation].code != 0;
        if (failed && column == kOperationResult) return Emphasis::Excess;
        return line.layer == kNone ? Emphasis::None : Emphasis::Muted;
    }
    TablePlace place(Row row) const override {
        const Line& line = lines_[row];
        const ListedOperation& operation = operations_->longest[line.operation];
        TablePlace place;
        place.marker = operation.marker;
        if (operation.file()) return place;
        const bool layer = line.layer != kNone && line.layer != kGroup;
        place.lane = layer ? operation.layers[line.layer].lane : operation.beganOn;
        place.begin = layer ? operation.layers[line.layer].begin : operation.begin;
        place.end = layer ? operation.layers[line.layer].end : operation.end;
        return place;
    }
    uint64_t keyOf(Row row) const override {
        const Line& line = lines_[row];
        const ListedOperation& operation = operations_->longest[line.operation];
        if (line.layer == kGroup) return std::hash<std::string>()(groupOf(operation)) | 1;
        const auto begin = static_cast<uint64_t>(operation.begin);
        return ((begin * kKeyMixer ^ operation.beganOn) * kKeyMixer + line.layer + operation.marker.row) & ~uint64_t{1};
    }

private:
    static constexpr uint32_t kGroup = kNone - 1;
    struct Line {
        uint32_t operation = 0;
        uint32_t layer = kNone;  // kNone: all of it; kGroup: several
        uint64_t count = 0;      // of a group, as the next two
        int64_t total = 0, longest = 0;
    };
    std::string groupOf(const ListedOperation& operation) const {
        if (by_ == OperationsBy::What) return operation.what;
        return operation.path.empty() ? "without a path" : operation.path;
    }
    std::string lanesOf(const Line& line) const {
        const ListedOperation& operation = operations_->longest[line.operation];
        if (line.layer != kNone) return recording_->lanes[operation.layers[line.layer].lane].name;
        const std::string& began = recording_->lanes[operation.beganOn].name;
        return operation.endedOn == kNone || operation.endedOn == operation.beganOn
                   ? began
                   : began + " → " + recording_->lanes[operation.endedOn].name;
    }
    static TableValue resultOf(const ListedOperation& operation) {
        if (operation.endedOn == kNone) return "never ended";
        if (!operation.code) return operation.result.empty() ? TableValue() : TableValue(operation.result);
        return "failed, " + std::to_string(operation.code) + (operation.result.empty() ? "" : ": " + operation.result);
    }

    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const OperationList> operations_;
    const OperationsBy by_;
    std::vector<Line> lines_;
    std::vector<TableColumn> columns_;
};

class TableOfFound : public Table {
public:
    TableOfFound(std::shared_ptr<const Recording> recording, std::shared_ptr<const Found> found)
        : recording_(std::move(recording)),
          found_(std::move(found)),
          markers_(static_cast<Row>(found_->markers.size())),
          lanes_(markers_ + static_cast<Row>(found_->lanes.size())),
          arguments_(lanes_ + static_cast<Row>(found_->arguments.size())),
          columns_{{"what", "Found", Quantity::Text, "A name of a marker or lane, an argument, or a point's words"},
                   {"kind", "Kind", Quantity::Text, ""},
                   {"in", "Inside", Quantity::Text, "A marker's category, or the marker that has the argument"},
                   {"lane", "Lane", Quantity::Text, ""},
                   {"count", "Count", Quantity::Count, "Occurrences of the marker in the recording"},
                   {"time_ns", "Time", Quantity::Duration, "In all, or of the occurrence that has the argument"},
                   {"begin_ns", "Begin", Quantity::Instant, "Since the recording's begin", recording_->begin}} {}
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return arguments_ + static_cast<Row>(found_->points.size()); }

    TableValue value(Row row, size_t column) const override {
        const Recording& r = *recording_;
        if (row < markers_) {
            const FoundMarker& marker = found_->markers[row];
            switch (column) {
                case kFoundWhat: return r.sites[marker.site].name;
                case kFoundKind: return "marker";
                case kFoundInside: return text(r.sites[marker.site].category);
                case kFoundCount: return number(marker.count);
                case kFoundTime: return marker.total;
                default: return {};
            }
        }
        if (row < lanes_) {
            const Lane& lane = r.lanes[found_->lanes[row - markers_]];
            switch (column) {
                case kFoundWhat: return lane.name;
                case kFoundKind: return "lane";
                case kFoundInside: return text(lane.role);
                case kFoundLane: return lane.name;
                default: return {};
            }
        }
        if (row < arguments_) {
            const FoundArgument& argument = found_->arguments[row - lanes_];
            const Argument& said = r.lanes[argument.marker.lane].arguments[argument.marker.row][argument.argument];
            switch (column) {
                case kFoundWhat: return r.keys[said.key] + " = " + r.valueText(said);
                case kFoundKind: return "argument";
                case kFoundInside: return r.nameOf(r.pathOf(argument.marker));
                case kFoundLane: return r.lanes[argument.marker.lane].name;
                case kFoundTime: return argument.duration;
                case kFoundBegin: return argument.begin;
                default: return {};
            }
        }
        const Point& point = pointOf(row);
        switch (column) {
            case kFoundWhat: return std::string(r.text(point.text));
            case kFoundKind: return "point";
            case kFoundLane: return r.lanes[point.lane].name;
            case kFoundBegin: return point.time;
            default: return {};
        }
    }
    std::string help(Row row) const override {
        if (row >= markers_) return {};
        const Site& site = recording_->sites[found_->markers[row].site];
        const std::string place = site.file + (site.line ? ":" + std::to_string(site.line) : "");
        return site.description + (site.description.empty() || place.empty() ? "" : "\n") + place;
    }
    TablePlace place(Row row) const override {
        TablePlace place;
        if (row < markers_) {
            place.site = found_->markers[row].site;
        } else if (row < lanes_) {
            place.lane = found_->lanes[row - markers_];
        } else if (row < arguments_) {
            place.marker = found_->arguments[row - lanes_].marker;
            place.lane = place.marker.lane;
        } else {
            const Point& point = pointOf(row);
            place.lane = point.lane;
            place.begin = place.end = point.time;
        }
        return place;
    }

private:
    static TableValue text(const std::string& words) { return words.empty() ? TableValue() : TableValue(words); }
    const Point& pointOf(Row row) const { return recording_->points[found_->points[row - arguments_].point]; }
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const Found> found_;
    const Row markers_, lanes_, arguments_;  // where each kind ends
    const std::vector<TableColumn> columns_;
};

TablePlace placeOf(const Advice& advice) {
    TablePlace place;
    place.site = advice.site;
    place.lane = advice.lane;
    place.begin = advice.begin;
    place.end = advice.end;
    return place;
}

class TableOfAdvice : public NestedTable {
public:
    static constexpr Row kEach = 3;  // the finding, its evidence, what to look at next

    TableOfAdvice(std::shared_ptr<const std::vector<Advice>> advice, const std::set<std::string>& acceptedKeys)
        : advice_(std::move(advice)) {
        std::vector<Row> top, last;
        std::vector<std::vector<Row>> children;
        for (const Advice& finding : *advice_) {
            const auto row = static_cast<Row>(children.size());
            accepted_.push_back(acceptedKeys.count(finding.key) > 0);
            (accepted_.back() ? last : top).push_back(row);
            children.push_back({row + 1, row + 2});
            children.resize(children.size() + 2);
        }
        top.insert(top.end(), last.begin(), last.end());
        nest(std::move(top), std::move(children));
    }
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> columns{
            {"finding", "Finding", Quantity::Text, ""},
            {"confidence", "Confidence", Quantity::Text, ""},
            {"cost_ns", "Takes in all", Quantity::Duration, "As far as that can be told"},
            {"accepted", "Accepted", Quantity::Flag,
             "Accepted findings stand at the end, and stay accepted for this program"}};
        return columns;
    }
    TableValue value(Row row, size_t column) const override {
        const Advice& finding = (*advice_)[row / kEach];
        if (column == kAdviceFinding)
            return row % kEach == 0 ? finding.title : row % kEach == 1 ? finding.evidence : finding.next;
        if (row % kEach) return {};
        if (column == kAdviceConfidence) return confidenceName(finding.confidence);
        if (column == kAdviceAccepted) return int64_t{accepted_[row / kEach]};
        return finding.cost ? TableValue(finding.cost) : TableValue();
    }
    Emphasis emphasis(Row row, size_t column) const override {
        if (accepted_[row / kEach] || row % kEach == 2) return Emphasis::Muted;
        return row % kEach == 0 && column == kAdviceFinding ? Emphasis::Strong : Emphasis::None;
    }
    std::string help(Row row) const override { return std::get<std::string>(value(row, kAdviceFinding)); }
    TablePlace place(Row row) const override { return placeOf((*advice_)[row / kEach]); }
    uint64_t keyOf(Row row) const override {
        return std::hash<std::string>{}((*advice_)[row / kEach].key) * kEach + row % kEach;
    }
    bool belowSpans() const override { return true; }

private:
    const std::shared_ptr<const std::vector<Advice>> advice_;
    std::vector<bool> accepted_;
};

class FactsOfAdvice : public Table {
public:
    FactsOfAdvice(std::shared_ptr<const Recording> recording, std::shared_ptr<const std::vector<Advice>> advice)
        : recording_(std::move(recording)), advice_(std::move(advice)) {}
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> columns{
            {"kind", "Kind", Quantity::Text, ""},     {"confidence", "Confidence", Quantity::Text, ""},
            {"title", "Finding", Quantity::Text, ""}, {"evidence", "Evidence", Quantity::Text, ""},
            {"next", "Next", Quantity::Text, ""},     {"cost_ns", "Takes in all", Quantity::Duration, ""},
            {"lane", "Lane", Quantity::Text, ""},     {"begin_ns", "Begin", Quantity::Instant, ""},
            {"end_ns", "End", Quantity::Instant, ""}};
        return columns;
    }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(advice_->size()); }
    TableValue value(Row row, size_t column) const override {
        const Advice& a = (*advice_)[row];
        const bool placed = a.begin < a.end;
        switch (column) {
            case 0: return adviceKindName(a.kind);
            case 1: return confidenceName(a.confidence);
            case 2: return a.title;
            case 3: return a.evidence;
            case 4: return a.next;
            case 5: return a.cost;
            case 6: return placed ? TableValue(recording_->lanes[a.lane].name) : TableValue();
            case 7: return placed ? TableValue(a.begin) : TableValue();
            default: return placed ? TableValue(a.end) : TableValue();
        }
    }
    TablePlace place(Row row) const override { return placeOf((*advice_)[row]); }

private:
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const std::vector<Advice>> advice_;
};

}  // namespace

std::shared_ptr<const Table> markerTable(std::shared_ptr<const Recording> recording,
                                         std::shared_ptr<const Symbols> symbols,
                                         std::shared_ptr<const GroupedMarkers> made) {
    return std::make_shared<TableOfMarkers>(std::move(recording), std::move(symbols), std::move(made));
}

std::shared_ptr<const Table> differenceTable(std::shared_ptr<const Recording> recording,
                                             std::vector<MarkerDifference> differences) {
    return std::make_shared<TableOfDifferences>(std::move(recording), std::move(differences));
}

std::shared_ptr<const Table> counterTable(std::shared_ptr<const Recording> recording,
                                          std::shared_ptr<const CounterAndStateFigures> figures) {
    return std::make_shared<TableOfCounters>(std::move(recording), std::move(figures));
}

std::shared_ptr<const Table> waitTable(std::shared_ptr<const Waits> waits) {
    return std::make_shared<TableOfWaits>(std::move(waits));
}

std::shared_ptr<const Table> operationTable(std::shared_ptr<const Recording> recording,
                                            std::shared_ptr<const OperationList> operations, OperationsBy by) {
    return std::make_shared<TableOfOperations>(std::move(recording), std::move(operations), by);
}

std::shared_ptr<const Table> foundTable(std::shared_ptr<const Recording> recording,
                                        std::shared_ptr<const Found> found) {
    return std::make_shared<TableOfFound>(std::move(recording), std::move(found));
}

std::shared_ptr<const Table> adviceTable(std::shared_ptr<const std::vector<Advice>> advice,
                                         const std::set<std::string>& acceptedKeys) {
    return std::make_shared<TableOfAdvice>(std::move(advice), acceptedKeys);
}

uint32_t findingOf(Table::Row row) { return row / TableOfAdvice::kEach; }

std::shared_ptr<const Table> adviceFacts(std::shared_ptr<const Recording> recording,
                                         std::shared_ptr<const std::vector<Advice>> advice) {
    return std::make_shared<FactsOfAdvice>(std::move(recording), std::move(advice));
}

}  // namespace fugato
