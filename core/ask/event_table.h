// SPDX-License-Identifier: GPL-3.0-or-later
//
// A list of events as a table, of which rows are read where they are looked at.
#pragma once

#include <mutex>

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

/// Rows further apart than a window are read one window after the other, so it is cheap to go through all of them.
class EventTable : public Table {
public:
    explicit EventTable(std::shared_ptr<const EventList> list);
    const EventList& list() const { return *list_; }

    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override;
    bool ordered() const override { return true; }
    std::shared_ptr<const Table> window(Row first, uint32_t count) const override;
    TableValue value(Row row, size_t column) const override;
    Emphasis emphasis(Row row, size_t column) const override;
    TablePlace place(Row row) const override;
    uint64_t keyOf(Row row) const override;

private:
    ListedEvent eventAt(Row row) const;

    const std::shared_ptr<const EventList> list_;
    const std::vector<TableColumn> columns_;
    mutable std::mutex mutex_;  // guards what was read last:
    mutable std::vector<ListedEvent> read_;
    mutable Row readFrom_ = 0;
};

/// The last `count` events of each lane of a list, below the lane; the lane whose last event is the latest first.
std::shared_ptr<const Table> lastEventTable(std::shared_ptr<const EventList> list, size_t count);

/// "begins"
const char* textOf(EventWhat what);

}  // namespace fugato
