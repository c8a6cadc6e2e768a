// SPDX-License-Identifier: GPL-3.0-or-later
//
// A list of events as a table, of which rows are read where they are looked at. In the order of another column it holds
// the first 300 000.
#pragma once

#include "core/table/table.h"
#include "event_list.h"

namespace fugato {

enum EventColumn : size_t {
    kEventTime,
    kEventLane,
    kEventWhat,  // "begins"
    kEventName,
    kEventDuration,
    kEventDetails,
    kEventInside,
    kEventCategory
};

class EventTable : public WindowedTable {
public:
    explicit EventTable(std::shared_ptr<const EventList> list);
    const EventList& list() const { return *list_; }

    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override;
    std::shared_ptr<const Table> window(Row first, uint32_t count) const override;
    std::shared_ptr<const Table> sorted(size_t column, bool descending, const Progress& progress) const override;
    /// Where it begins.
    std::optional<Row> rowOf(const MarkerRef& marker) const override;

private:
    const std::shared_ptr<const EventList> list_;
    const std::vector<TableColumn> columns_;
};

/// The last `count` events of each lane of a list, below the lane; the lane whose last event is the latest first.
std::shared_ptr<const Table> lastEventTable(std::shared_ptr<const EventList> list, size_t count);

/// "begins"
const char* textOf(EventWhat what);

}  // namespace fugato
