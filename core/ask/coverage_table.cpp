// SPDX-License-Identifier: GPL-3.0-or-later
#include "coverage_table.h"

#include <cmath>

namespace fugato {

namespace {

class TableOfUnmarked : public Table {
public:
    TableOfUnmarked(std::shared_ptr<const Recording> recording, std::shared_ptr<const Coverage> coverage)
        : recording_(std::move(recording)),
          coverage_(std::move(coverage)),
          columns_{
              {"inside", "Inside", Quantity::Text, "The marker in which the time lies, with its callers"},
              {"lane", "Lane", Quantity::Text, ""},
              {"longest_ns", "Longest", Quantity::Duration, "The longest stretch without a marker or wait below"},
              {"total_ns", "Total", Quantity::Duration, "All such time there"},
              {"part_permille", "Of it", Quantity::PerMille,
               "Total by the time of these markers; outside all markers, by the time that is looked at"},
              {"stretches", "Stretches", Quantity::Count, "In how many pieces it lies"},
              {"begin_ns", "Longest at", Quantity::Instant, "Where the longest stretch begins", recording_->begin}} {}
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(coverage_->unmarked.size()); }
    TableValue value(Row row, size_t column) const override {
        const Unmarked& one = coverage_->unmarked[row];
        switch (column) {
            case kUnmarkedInside: return one.path ? recording_->pathText(one.path) : std::string("outside all markers");
            case kUnmarkedLane: return recording_->lanes[one.lane].name;
            case kUnmarkedLongest: return one.longest.end - one.longest.begin;
            case kUnmarkedTotal: return one.total;
            case kUnmarkedPart:
                return one.around > 0 ? TableValue(std::llround(1000.0 * static_cast<double>(one.total) /
                                                                static_cast<double>(one.around)))
                                      : TableValue();
            case kUnmarkedStretches: return static_cast<int64_t>(one.stretches);
            default: return one.longest.begin;
        }
    }
    Emphasis emphasis(Row row, size_t) const override {
        return coverage_->unmarked[row].path ? Emphasis::None : Emphasis::Muted;  // a thread may have nothing to do
    }
    TablePlace place(Row row) const override {
        const Unmarked& one = coverage_->unmarked[row];
        TablePlace place;
        place.lane = one.lane;
        place.begin = one.longest.begin;
        place.end = one.longest.end;
        return place;
    }
    uint64_t keyOf(Row row) const override {
        return uint64_t{coverage_->unmarked[row].lane} << 32 | coverage_->unmarked[row].path;
    }

private:
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const Coverage> coverage_;
    const std::vector<TableColumn> columns_;
};

class TableOfMissing : public Table {
public:
    TableOfMissing(std::shared_ptr<const Recording> recording, std::shared_ptr<const Coverage> coverage)
        : recording_(std::move(recording)), coverage_(std::move(coverage)) {}
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> columns{{"marker", "Marker", Quantity::Text, "Known to the recording"},
                                                      {"where", "Occurs", Quantity::Text, "Whether it occurs anywhere"},
                                                      {"category", "Category", Quantity::Text, ""},
                                                      {"source", "Source", Quantity::Text, "Where it stands"}};
        return columns;
    }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(coverage_->missing.size()); }
    TableValue value(Row row, size_t column) const override {
        const Site& site = recording_->sites[coverage_->missing[row]];
        switch (column) {
            case kMissingMarker: return site.name;
            case kMissingWhere: return std::string(coverage_->elsewhere[row] ? "only elsewhere" : "never");
            case kMissingCategory: return site.category.empty() ? TableValue() : TableValue(site.category);
            default: return site.file.empty() ? TableValue() : TableValue(site.file + ":" + std::to_string(site.line));
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        return !coverage_->elsewhere[row] && column == kMissingWhere ? Emphasis::Excess : Emphasis::None;
    }
    TablePlace place(Row row) const override {
        TablePlace place;
        if (coverage_->elsewhere[row]) place.site = coverage_->missing[row];
        return place;
    }
    std::string help(Row row) const override { return recording_->sites[coverage_->missing[row]].description; }
    uint64_t keyOf(Row row) const override { return coverage_->missing[row]; }

private:
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const Coverage> coverage_;
};

}  // namespace

std::shared_ptr<const Table> unmarkedTable(std::shared_ptr<const Recording> recording,
                                           std::shared_ptr<const Coverage> coverage) {
    return std::make_shared<TableOfUnmarked>(std::move(recording), std::move(coverage));
}

std::shared_ptr<const Table> missingTable(std::shared_ptr<const Recording> recording,
                                          std::shared_ptr<const Coverage> coverage) {
    return std::make_shared<TableOfMissing>(std::move(recording), std::move(coverage));
}

}  // namespace fugato
