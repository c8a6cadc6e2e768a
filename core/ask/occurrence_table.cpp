// SPDX-License-Identifier: GPL-3.0-or-later
#include "occurrence_table.h"

#include <algorithm>

#include "core/table/first_in_order.h"

namespace fugato {

namespace {

constexpr uint32_t kReadAtOnce = 65536;
constexpr size_t kMostSorted = 100'000;  // by their arguments

std::vector<TableColumn> columnsFor(const Recording& r) {
    return {{"lane", "Lane", Quantity::Text, ""},
            {"in", "Inside", Quantity::Text, "The markers it lies in"},
            {"arguments", "Arguments", Quantity::Text, ""},
            {"duration_ns", "Duration", Quantity::Duration, ""},
            {"begin_ns", "Begin", Quantity::Instant, "Since the recording's begin", r.begin},
            {"frame", "Frame", Quantity::Count, "The frame it begins in"}};
}

/// Frames follow each other as their begins do.
std::optional<OccurrenceOrder> orderOf(size_t column) {
    switch (column) {
        case kOccurrenceLane: return OccurrenceOrder::Lane;
        case kOccurrenceInside: return OccurrenceOrder::Inside;
        case kOccurrenceDuration: return OccurrenceOrder::Duration;
        case kOccurrenceBegin:
        case kOccurrenceFrame: return OccurrenceOrder::Begin;
        default: return std::nullopt;
    }
}

/// Some of them. `window`: of a list that has its own order.
class SomeOccurrences : public Table {
public:
    SomeOccurrences(std::shared_ptr<const Recording> recording,
                    std::shared_ptr<const std::vector<Occurrence>> occurrences, uint32_t series, bool window)
        : recording_(std::move(recording)),
          occurrences_(std::move(occurrences)),
          series_(series < recording_->series.size() ? &recording_->series[series] : nullptr),
          window_(window),
          columns_(columnsFor(*recording_)) {}
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(occurrences_->size()); }
    bool ordered() const override { return window_; }
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
                if (frame == kNone || series_->frames[frame].end <= o.begin) return {};
                return static_cast<int64_t>(frame);
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
    const bool window_;
    const std::vector<TableColumn> columns_;
};

/// A long list in memory, shown through windows.
class HeldOccurrences : public WindowedTable {
public:
    HeldOccurrences(std::shared_ptr<const Recording> recording,
                    std::shared_ptr<const std::vector<Occurrence>> occurrences, uint32_t series)
        : WindowedTable(kReadAtOnce),
          recording_(std::move(recording)),
          occurrences_(std::move(occurrences)),
          series_(series),
          columns_(columnsFor(*recording_)) {}
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(occurrences_->size()); }
    std::shared_ptr<const Table> window(Row first, uint32_t count) const override {
        const auto at = [this](uint64_t row) {
            return occurrences_->begin() + static_cast<std::ptrdiff_t>(std::min<uint64_t>(row, rowLimit()));
        };
        return std::make_shared<SomeOccurrences>(
            recording_, std::make_shared<const std::vector<Occurrence>>(at(first), at(uint64_t{first} + count)),
            series_, true);
    }
    std::shared_ptr<const Table> sorted(size_t column, bool descending, const Progress& progress) const override {
        Arrangement by;
        by.column = column;
        by.descending = descending;
        const auto order = arranged(occurrenceTable(recording_, occurrences_, series_), by, progress);
        if (!order) return nullptr;
        auto others = std::make_shared<std::vector<Occurrence>>();
        others->reserve(rowLimit());
        for (Row at = 0; at < rowLimit(); ++at) others->push_back((*occurrences_)[order->rowBelow(kTop, at)]);
        return std::make_shared<HeldOccurrences>(recording_, std::move(others), series_);
    }
    std::optional<Row> rowOf(const MarkerRef& marker) const override {
        const auto found = std::find_if(occurrences_->begin(), occurrences_->end(),
                                        [&](const Occurrence& one) { return one.marker == marker; });
        if (found == occurrences_->end()) return std::nullopt;
        return static_cast<Row>(found - occurrences_->begin());
    }

private:
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const std::vector<Occurrence>> occurrences_;
    const uint32_t series_;
    const std::vector<TableColumn> columns_;
};

class AllOccurrences : public WindowedTable {
public:
    AllOccurrences(std::shared_ptr<const OccurrenceList> list, uint32_t series)
        : WindowedTable(kReadAtOnce),
          list_(std::move(list)),
          series_(series),
          columns_(columnsFor(*list_->recording())) {}
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override {
        return static_cast<uint32_t>(std::min<uint64_t>(list_->size(), uint64_t{kTop} - 1));
    }
    std::shared_ptr<const Table> window(Row first, uint32_t count) const override {
        return std::make_shared<SomeOccurrences>(
            list_->recording(), std::make_shared<const std::vector<Occurrence>>(list_->read(first, count)), series_,
            true);
    }
    std::shared_ptr<const Table> sorted(size_t column, bool descending, const Progress& progress) const override {
        const auto order = orderOf(column);
        auto list = order ? list_->inOrder(*order, descending, progress)
                          : list_->inOrder(OccurrenceOrder::Begin, false, progress);
        if (!list || order) return list ? std::make_shared<AllOccurrences>(std::move(list), series_) : nullptr;
        return FirstInOrder<Occurrence>::of(longList(list), column, descending, kMostSorted, progress);
    }
    std::optional<Row> rowOf(const MarkerRef& marker) const override {
        const auto place = list_->placeOf(marker);
        return place && *place < rowLimit() ? std::optional(static_cast<Row>(*place)) : std::nullopt;
    }

private:
    LongList<Occurrence> longList(const std::shared_ptr<const OccurrenceList>& list) const {
        return {std::make_shared<AllOccurrences>(list, series_),
                list->size(),
                kReadAtOnce,
                [list](uint64_t first, size_t count) { return list->read(first, count); },
                [recording = list->recording(), series = series_](std::vector<Occurrence> some, bool window) {
                    return std::make_shared<SomeOccurrences>(
                        recording, std::make_shared<const std::vector<Occurrence>>(std::move(some)), series, window);
                },
                [](const Occurrence& one, const MarkerRef& marker) { return one.marker == marker; }};
    }

    const std::shared_ptr<const OccurrenceList> list_;
    const uint32_t series_;
    const std::vector<TableColumn> columns_;
};

}  // namespace

std::shared_ptr<const Table> occurrenceTable(std::shared_ptr<const Recording> recording,
                                             std::shared_ptr<const std::vector<Occurrence>> occurrences,
                                             uint32_t series) {
    return std::make_shared<SomeOccurrences>(std::move(recording), std::move(occurrences), series, false);
}

std::shared_ptr<const Table> shownOccurrences(std::shared_ptr<const Recording> recording,
                                              std::shared_ptr<const std::vector<Occurrence>> occurrences,
                                              uint32_t series) {
    if (occurrences->size() <= kMostShownWhole)
        return occurrenceTable(std::move(recording), std::move(occurrences), series);
    return std::make_shared<HeldOccurrences>(std::move(recording), std::move(occurrences), series);
}

std::shared_ptr<const Table> occurrenceTable(std::shared_ptr<const OccurrenceList> list, uint32_t series) {
    return std::make_shared<AllOccurrences>(std::move(list), series);
}

}  // namespace fugato
