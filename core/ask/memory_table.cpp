// SPDX-License-Identifier: GPL-3.0-or-later
#include "memory_table.h"

#include <algorithm>

#include "core/explain/words/quantities.h"

namespace fugato {

namespace {

TableValue number(uint64_t value) { return static_cast<int64_t>(value); }

/// Where an allocation was taken.
TablePlace placeOf(const Recording& r, const Allocation& one) {
    TablePlace place;
    place.lane = one.lane;
    place.begin = place.end = one.taken;
    place.marker = r.innermostBefore(one.lane, one.taken + 1);
    return place;
}

class TableOfPools : public NestedTable {
public:
    TableOfPools(std::shared_ptr<const Recording> recording, std::shared_ptr<const MemoryFigures> figures)
        : recording_(std::move(recording)), figures_(std::move(figures)) {
        std::vector<Row> top;
        std::vector<std::vector<Row>> children;
        bool compared = false, any = false;
        for (uint32_t p = 0; p < figures_->pools.size(); ++p) {
            top.push_back(static_cast<Row>(lines_.size()));
            lines_.push_back({p, kNone});
            children.emplace_back();
            const auto& resources = figures_->pools[p].resources;
            for (uint32_t i = 0; i < resources.size(); ++i) {
                children[top.back()].push_back(static_cast<Row>(lines_.size()));
                lines_.push_back({p, i});
                children.emplace_back();
                compared = compared || resources[i].timesMedian > 0;
                any = true;
            }
        }
        nest(std::move(top), std::move(children));
        columns_ = {
            {"name", "Pool or resource", Quantity::Text, "Pools, and their named resources at the instant below them"},
            {"now_bytes", "In use", Quantity::Bytes, "At the instant"},
            {"times_median", "× median", Quantity::Number, "Its size by the median of the pool's resources"},
            {"growth_bytes", "Growth", Quantity::Bytes, "From the begin to the end of what is looked at"},
            {"begin_bytes", "At its begin", Quantity::Bytes, "In use where what is looked at begins"},
            {"end_bytes", "At its end", Quantity::Bytes, "In use where it ends"},
            {"peak_bytes", "Peak", Quantity::Bytes, "The most in use there"},
            {"peak_ns", "Peak at", Quantity::Instant, "When that was", recording_->begin},
            {"taken", "Taken", Quantity::Count, "How often memory was taken there"},
            {"taken_bytes", "Bytes taken", Quantity::Bytes, "So many bytes"},
            {"released", "Released", Quantity::Count, "How often it was released there"},
            {"released_bytes", "Bytes released", Quantity::Bytes, "So many bytes"},
            {"taken_ns", "Taken at", Quantity::Instant, "When the resource was taken", recording_->begin},
            {"taken_in", "Taken in", Quantity::Text, "By which marker"}};
        for (const size_t optional : {kPoolBegin, kPoolEnd, kPoolReleased, kPoolTaken})
            columns_[optional].optional = true;
        columns_[kPoolTimesMedian].empty = !compared;
        columns_[kPoolTakenAt].empty = columns_[kPoolTakenIn].empty = !any;
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    TableValue value(Row row, size_t column) const override {
        const Line& line = lines_[row];
        const PoolFigures& pool = figures_->pools[line.pool];
        if (line.resource != kNone) return ofResource(pool.resources[line.resource], column);
        switch (column) {
            case kPoolName: return recording_->pools[pool.pool].name;
            case kPoolNow: return pool.now;
            case kPoolGrowth: return pool.growth();
            case kPoolBegin: return pool.begin;
            case kPoolEnd: return pool.end;
            case kPoolPeak: return pool.peak;
            case kPoolPeakAt: return pool.peakAt;
            case kPoolTaken: return number(pool.taken);
            case kPoolTakenBytes: return number(pool.takenBytes);
            case kPoolReleased: return number(pool.released);
            case kPoolReleasedBytes: return number(pool.releasedBytes);
            default: return {};
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        const Line& line = lines_[row];
        if (line.resource == kNone) return column == kPoolName ? Emphasis::Strong : Emphasis::None;
        const bool large = figures_->pools[line.pool].resources[line.resource].timesMedian >= kStandsOut;
        return large && (column == kPoolTimesMedian || column == kPoolNow) ? Emphasis::Excess : Emphasis::None;
    }
    TablePlace place(Row row) const override {
        const Line& line = lines_[row];
        const PoolFigures& pool = figures_->pools[line.pool];
        if (line.resource != kNone)
            return placeOf(*recording_, recording_->allocations[pool.resources[line.resource].allocation]);
        TablePlace place;
        place.begin = place.end = pool.peakAt;
        return place;
    }
    std::string help(Row row) const override {
        const PoolFigures& pool = figures_->pools[lines_[row].pool];
        if (lines_[row].resource != kNone || pool.allResources <= pool.resources.size()) return {};
        return "The " + countText(pool.resources.size()) + " largest of " +
               plural(pool.allResources, "resource", "resources") + " are listed below it.";
    }
    uint64_t keyOf(Row row) const override {
        const Line& line = lines_[row];
        const PoolFigures& pool = figures_->pools[line.pool];
        return line.resource == kNone ? uint64_t{pool.pool} << 32 | kNone : pool.resources[line.resource].allocation;
    }

private:
    struct Line {
        uint32_t pool = 0, resource = kNone;
    };
    TableValue ofResource(const Resource& resource, size_t column) const {
        const Allocation& one = recording_->allocations[resource.allocation];
        switch (column) {
            case kPoolName: return std::string(recording_->text(one.name));
            case kPoolNow: return number(one.bytes);
            case kPoolTimesMedian: return resource.timesMedian > 0 ? TableValue(resource.timesMedian) : TableValue();
            case kPoolTakenAt: return one.taken;
            case kPoolTakenIn: return one.path ? TableValue(recording_->pathText(one.path)) : TableValue();
            default: return {};
        }
    }

    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const MemoryFigures> figures_;
    std::vector<Line> lines_;
    std::vector<TableColumn> columns_;
};

class TableOfKept : public Table {
public:
    TableOfKept(std::shared_ptr<const Recording> recording, std::shared_ptr<const MemoryFigures> figures)
        : recording_(std::move(recording)), figures_(std::move(figures)) {}
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> columns{
            {"marker", "Marker", Quantity::Text, "The marker that took it, with its callers"},
            {"held_bytes", "Still held", Quantity::Bytes, "Taken there, and not released by its end"},
            {"held", "Times", Quantity::Count, "How many pieces of memory that are"},
            {"never_bytes", "Never released", Quantity::Bytes, "Of it, not released until the recording's end"},
            {"never", "Times", Quantity::Count, "How many pieces of memory that are"},
            {"taken_bytes", "Bytes taken", Quantity::Bytes, "With what was released"},
            {"taken", "Taken", Quantity::Count, "How often"}};
        return columns;
    }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(figures_->kept.size()); }
    TableValue value(Row row, size_t column) const override {
        const KeptMemory& one = figures_->kept[row];
        switch (column) {
            case kKeptMarker: return one.path ? recording_->pathText(one.path) : std::string("outside all markers");
            case kKeptBytes: return number(one.bytes);
            case kKeptCount: return number(one.count);
            case kKeptNeverBytes: return number(one.neverBytes);
            case kKeptNever: return number(one.never);
            case kKeptTakenBytes: return number(one.takenBytes);
            default: return number(one.taken);
        }
    }
    TablePlace place(Row row) const override {
        const KeptMemory& one = figures_->kept[row];
        TablePlace place = placeOf(*recording_, recording_->allocations[one.largest]);
        if (one.path) place.site = recording_->paths[one.path].site;
        return place;
    }
    std::string help(Row) const override { return "Leads to where the largest of it was taken."; }
    uint64_t keyOf(Row row) const override { return figures_->kept[row].path; }

private:
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const MemoryFigures> figures_;
};

}  // namespace

std::shared_ptr<const Table> poolTable(std::shared_ptr<const Recording> recording,
                                       std::shared_ptr<const MemoryFigures> figures) {
    return std::make_shared<TableOfPools>(std::move(recording), std::move(figures));
}

std::shared_ptr<const Table> keptTable(std::shared_ptr<const Recording> recording,
                                       std::shared_ptr<const MemoryFigures> figures) {
    return std::make_shared<TableOfKept>(std::move(recording), std::move(figures));
}

}  // namespace fugato
