// SPDX-License-Identifier: GPL-3.0-or-later
#include "answer_tables.h"

#include <algorithm>

#include "core/explain/words/quantities.h"
#include "format/number_text.h"

namespace fugato {

namespace {

constexpr int64_t kTellingExcess = 1'000'000;  // ns; a marker so much above usual in a late frame is emphasised

TableValue number(uint64_t value) { return static_cast<int64_t>(value); }

/// Rows of markers below lanes; the row of a lane has no path.
template <class Made>
class MarkerTable : public NestedTable {
public:
    MarkerTable(std::shared_ptr<const Recording> recording, std::vector<Made> rows, std::vector<Row> lanes)
        : recording_(std::move(recording)), rows_(std::move(rows)) {
        std::vector<std::vector<Row>> children;
        children.reserve(rows_.size());
        for (Made& row : rows_) children.push_back(std::move(row.children));
        nest(std::move(lanes), std::move(children));
    }
    std::string help(Row row) const override {
        return rows_[row].path ? recording_->siteOf(rows_[row].path).description : std::string();
    }
    TablePlace place(Row row) const override {
        TablePlace place;
        place.lane = rows_[row].lane;
        if (rows_[row].path) place.site = recording_->paths[rows_[row].path].site;
        return place;
    }
    uint64_t keyOf(Row row) const override { return keyOfPath(rows_[row].lane, rows_[row].path); }

protected:
    const std::string& nameOf(const Made& row) const {
        return row.path ? recording_->nameOf(row.path) : recording_->lanes[row.lane].name;
    }
    const std::shared_ptr<const Recording> recording_;
    std::vector<Made> rows_;
};

class TableOfFrame : public MarkerTable<FrameTableRow> {
public:
    TableOfFrame(const std::shared_ptr<const Explanation>& e, uint32_t frame, FrameTable made)
        : MarkerTable(e->recording, std::move(made.rows), std::move(made.lanes)),
          symbols_(e->symbols),
          late_(e->frames[frame].overrun > 0) {
        const auto& lanes = e->recording->lanes;
        if (std::all_of(lanes.begin(), lanes.end(), [](const Lane& lane) { return lane.schedule.empty(); }))
            columns_.pop_back();
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    static std::vector<TableColumn> allColumns() {
        return {{"marker", "Marker", Quantity::Text, "Lanes, and the markers nested on them"},
                {"total_ns", "Total ms", Quantity::Milliseconds, "Time inside it in this frame"},
                {"self_ns", "Self ms", Quantity::Milliseconds, "The part that lies in no marker below"},
                {"calls", "Calls", Quantity::Count, "How often it begins or goes on in this frame"},
                {"usual_ns", "Usual ms", Quantity::Milliseconds, "The median over this frame's usual frames"},
                {"excess_ns", "Excess ms", Quantity::SignedMilliseconds, "Total less usual"},
                {"ran_ns", "Ran ms", Quantity::Milliseconds,
                 "The part of total in which its thread had a core; the rest it was ready or blocked"}};
    }
    TableValue value(Row row, size_t column) const override {
        const FrameTableRow& r = rows_[row];
        if (r.function != kNone) {
            if (column == kFrameMarker)
                return (r.samples ? "in " : "blocked in ") + symbols_->nameOf(r.function) +
                       (r.samples ? ", " + plural(r.samples, "sample", "samples") : "");
            return column == kFrameTotal ? TableValue(r.total) : TableValue();
        }
        switch (column) {
            case kFrameMarker: return nameOf(r);
            case kFrameTotal: return r.total;
            case kFrameSelf: return r.path ? TableValue(r.self) : TableValue();
            case kFrameCalls: return r.path ? number(r.calls) : TableValue();
            case kFrameUsual: return r.usual;
            case kFrameRan: return r.ran < 0 ? TableValue() : TableValue(r.ran);
            default: return r.excess();
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        const FrameTableRow& r = rows_[row];
        if (r.function != kNone) return Emphasis::Muted;             // what the row above consists of
        if (r.wait || (!r.calls && r.path)) return Emphasis::Muted;  // waiting is not work
        if (column == kFrameExcess && late_ && r.excess() >= kTellingExcess) return Emphasis::Excess;
        return !r.path && column == kFrameMarker ? Emphasis::Strong : Emphasis::None;
    }
    TablePlace place(Row row) const override {
        TablePlace place = MarkerTable::place(row);
        place.marker = rows_[row].first;
        return place;
    }
    std::string help(Row row) const override {
        if (rows_[row].function == kNone) return MarkerTable::help(row);
        const std::string& file = symbols_->functions[rows_[row].function].file;
        return "By call stacks: " + symbols_->fullName(rows_[row].function) + (file.empty() ? "" : "\n" + file);
    }
    uint64_t keyOf(Row row) const override {
        if (rows_[row].function == kNone) return MarkerTable::keyOf(row);
        constexpr uint64_t kMixed = 0x9E3779B97F4A7C15;
        return (MarkerTable::keyOf(row) + 1) * kMixed + rows_[row].function;
    }

private:
    const std::shared_ptr<const Symbols> symbols_;
    const bool late_;
    std::vector<TableColumn> columns_ = allColumns();
};

class TableOfRange : public MarkerTable<RangeRow> {
public:
    using MarkerTable::MarkerTable;
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> columns{
            {"name", "Marker", Quantity::Text, "Lanes, and the markers nested on them"},
            {"total_ns", "Total", Quantity::Duration, "Time inside it"},
            {"self_ns", "Self", Quantity::Duration, "The part that lies in no marker below"},
            {"count", "Count", Quantity::Count, "Occurrences that lie or reach into it"},
            {"mean_ns", "Mean", Quantity::Duration, "Total by count"},
            {"longest_ns", "Longest", Quantity::Duration, "The whole length of the longest occurrence"}};
        return columns;
    }
    TableValue value(Row row, size_t column) const override {
        const RangeRow& r = rows_[row];
        if (column == kRangeMarker) return nameOf(r);
        if (column == kRangeTotal) return r.total;
        if (!r.path) return {};
        switch (column) {
            case kRangeSelf: return r.self;
            case kRangeCount: return number(r.count);
            case kRangeMean: return r.count ? r.total / static_cast<int64_t>(r.count) : 0;
            default: return r.longest;
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        return !rows_[row].path && column == kRangeMarker ? Emphasis::Strong : Emphasis::None;
    }
};

class TableOfFunctions : public Table {
public:
    explicit TableOfFunctions(std::shared_ptr<const Stacks> stacks) : stacks_(std::move(stacks)) {}
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> kOfRunning{
            {"function", "Function", Quantity::Text, "As the program's debug information or symbol table names it"},
            {"self_ns", "Self", Quantity::Duration, "Running time in it and in nothing it called, by its samples"},
            {"total_ns", "Total", Quantity::Duration, "Running time in it and in all it called, by its samples"},
            {"module", "Module", Quantity::Text, "The program or library it belongs to"},
            {"called_from", "Mostly called from", Quantity::Text, "The function that called it most of that time"},
            {"source", "Source", Quantity::Text, "Where it is declared"},
            {"self_samples", "Self samples", Quantity::Count, "Call stacks in which it was the innermost"},
            {"samples", "Samples", Quantity::Count, "Call stacks in which it was being executed"}};
        static const std::vector<TableColumn> kOfBlocking = [] {
            std::vector<TableColumn> columns(kOfRunning.begin(), kOfRunning.begin() + kFunctionSelfSamples);
            columns[kFunctionSelf].help = "Time blocked in it itself";
            columns[kFunctionTotal].help = "Time blocked in it and in all it called";
            return columns;
        }();
        return stacks_->scope.blocked ? kOfBlocking : kOfRunning;
    }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(stacks_->functions.size()); }
    TableValue value(Row row, size_t column) const override {
        const FunctionRow& r = stacks_->functions[row];
        const Symbols& symbols = *stacks_->symbols;
        const Symbols::Function& f = symbols.functions[r.function];
        const auto time = [&](uint64_t counted) {
            return stacks_->each ? TableValue(static_cast<int64_t>(counted) * stacks_->each) : TableValue();
        };
        switch (column) {
            case kFunctionName: return symbols.nameOf(r.function);
            case kFunctionSelf: return time(r.self);
            case kFunctionTotal: return time(r.total);
            case kFunctionSelfSamples: return number(r.self);
            case kFunctionSamples: return number(r.total);
            case kFunctionModule: return symbols.moduleOf(r.function);
            case kFunctionCaller: return r.caller == kNone ? std::string() : symbols.nameOf(r.caller);
            default: return f.file.empty() ? std::string() : f.file + (f.line ? ":" + std::to_string(f.line) : "");
        }
    }
    uint64_t keyOf(Row row) const override { return stacks_->functions[row].function; }

private:
    const std::shared_ptr<const Stacks> stacks_;
};

class TableOfOccurrences : public Table {
public:
    TableOfOccurrences(std::shared_ptr<const Recording> recording,
                       std::shared_ptr<const std::vector<Occurrence>> occurrences, uint32_t series)
        : recording_(std::move(recording)),
          occurrences_(std::move(occurrences)),
          series_(series < recording_->series.size() ? &recording_->series[series] : nullptr),
          columns_{{"lane", "Lane", Quantity::Text, ""},
                   {"in", "Inside", Quantity::Text, "The markers it lies in"},
                   {"arguments", "Arguments", Quantity::Text, ""},
                   {"duration_ns", "Duration", Quantity::Duration, ""},
                   {"begin_ns", "Begin", Quantity::Instant, "Since the recording's begin", recording_->begin},
                   {"frame", "Frame", Quantity::Count, "The frame it begins in"}} {}
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(occurrences_->size()); }
    TableValue value(Row row, size_t column) const override {
        const Recording& r = *recording_;
        const Occurrence& o = (*occurrences_)[row];
        switch (column) {
            case kOccurrenceLane: return r.lanes[o.marker.lane].name;
            case kOccurrenceInside: {
                const PathId above = r.paths[r.pathOf(o.marker)].parent;
                return above ? TableValue(r.pathText(above)) : TableValue();
            }
            case kOccurrenceArguments: {
                const std::string text = r.argumentsText(o.marker);
                return text.empty() ? TableValue() : TableValue(text);
            }
            case kOccurrenceDuration: return o.duration;
            case kOccurrenceBegin: return o.begin;
            default: {
                const uint32_t frame = series_ ? series_->frameAt(o.begin) : kNone;
                return frame != kNone && series_->frames[frame].end > o.begin ? number(frame) : TableValue();
            }
        }
    }
    TablePlace place(Row row) const override {
        TablePlace place;
        place.marker = (*occurrences_)[row].marker;
        place.lane = place.marker.lane;
        return place;
    }
    uint64_t keyOf(Row row) const override {
        const MarkerRef& m = (*occurrences_)[row].marker;
        return (uint64_t{m.lane} << 12 | m.row) << 32 | m.index;
    }

private:
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const std::vector<Occurrence>> occurrences_;
    const Series* const series_;
    const std::vector<TableColumn> columns_;
};

class TableOfFound : public Table {
public:
    TableOfFound(std::shared_ptr<const Recording> recording, std::shared_ptr<const Found> found)
        : recording_(std::move(recording)),
          found_(std::move(found)),
          markers_(static_cast<Row>(found_->markers.size())),
          arguments_(static_cast<Row>(found_->arguments.size())),
          columns_{{"what", "Found", Quantity::Text, "A marker's name, an argument, or a point's words"},
                   {"kind", "Kind", Quantity::Text, ""},
                   {"in", "Inside", Quantity::Text, "A marker's category, or the marker that has the argument"},
                   {"lane", "Lane", Quantity::Text, ""},
                   {"count", "Count", Quantity::Count, "Occurrences of the marker in the recording"},
                   {"time_ns", "Time", Quantity::Duration, "In all, or of the occurrence that has the argument"},
                   {"begin_ns", "Begin", Quantity::Instant, "Since the recording's begin", recording_->begin}} {}
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return markers_ + arguments_ + static_cast<Row>(found_->points.size()); }

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
        if (row < markers_ + arguments_) {
            const FoundArgument& argument = found_->arguments[row - markers_];
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
        } else if (row < markers_ + arguments_) {
            place.marker = found_->arguments[row - markers_].marker;
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
    const Point& pointOf(Row row) const {
        return recording_->points[found_->points[row - markers_ - arguments_].point];
    }
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const Found> found_;
    const Row markers_, arguments_;
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
    bool spans(Row row) const override { return row % kEach != 0; }

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

std::shared_ptr<const Table> frameTable(const std::shared_ptr<const Explanation>& explanation, uint32_t frame,
                                        FrameTable made) {
    return std::make_shared<TableOfFrame>(explanation, frame, std::move(made));
}

std::shared_ptr<const Table> rangeTable(std::shared_ptr<const Recording> recording, const RangeTable& made,
                                        uint32_t onlyLane) {
    std::vector<Table::Row> lanes = made.lanes;
    if (onlyLane != kNone) std::erase_if(lanes, [&](Table::Row row) { return made.rows[row].lane != onlyLane; });
    return std::make_shared<TableOfRange>(std::move(recording), made.rows, std::move(lanes));
}

std::shared_ptr<const Table> functionTable(std::shared_ptr<const Stacks> stacks) {
    return std::make_shared<TableOfFunctions>(std::move(stacks));
}

std::shared_ptr<const Table> occurrenceTable(std::shared_ptr<const Recording> recording,
                                             std::shared_ptr<const std::vector<Occurrence>> occurrences,
                                             uint32_t series) {
    return std::make_shared<TableOfOccurrences>(std::move(recording), std::move(occurrences), series);
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
