// SPDX-License-Identifier: GPL-3.0-or-later
//
// A table without a screen: named columns with their kinds of values, rows that may lie below each other, and where
// each row leads. Rows are worked out when they are looked at. A table never changes: any number of threads may read
// one. Everything that lists something is such a table: one item model shows them all (app/table), and the command line
// writes them as text, JSON or CSV (writing.h).
#pragma once

#include <cstdint>
#include <fugato_mutex.hpp>
#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "core/model/recording.h"

namespace fugato {

/// What the values of a column are. Times are nanoseconds.
enum class Quantity : uint8_t {
    Text,
    Count,
    Duration,            // shown in the unit that suits each
    Milliseconds,        // a duration, shown in ms whatever its length, so that rows can be compared
    SignedMilliseconds,  // a difference
    Instant,             // since TableColumn::origin
    Number,              // a real one
    Bytes,
    PerMille,  // shown as a percentage
    Flag,      // 0 or 1, which the person may change
};

struct TableColumn {
    std::string key;    // in JSON and CSV, with the unit: "total_ns"
    std::string title;  // for the person: "Total"
    Quantity quantity = Quantity::Text;
    std::string help;
    int64_t origin = 0;
    bool optional = false;  // not shown unless the person chooses it
    bool empty = false;     // holds nothing in this table, and is not shown
    bool wide = false;      // has the width that is left; where none has, the first one
    bool code = false;      // letters of one width
};

/// Nothing, a number, or a text.
using TableValue = std::variant<std::monostate, int64_t, std::string, double>;

/// What a row is about, as far as that can be said: a click leads there.
struct TablePlace {
    MarkerRef marker;
    uint32_t site = kNone;
    uint32_t lane = kNone;
    int64_t begin = 0, end = 0;  // begin < end: a span of time on that lane; equal and a lane: an instant
};

/// Makes the key of a row of several numbers, which are multiplied by it in turn: 2^64 divided by the golden ratio.
inline constexpr uint64_t kKeyMixer = 0x9e3779b97f4a7c15;

enum class Emphasis : uint8_t { None, Strong, Muted, Excess };

class Table {
public:
    using Row = uint32_t;
    static constexpr Row kTop = kNone;  // the parent of rows that lie below no other

    virtual ~Table() = default;
    virtual const std::vector<TableColumn>& columns() const = 0;
    /// Rows are numbered from 0 to below this; what a filter left out keeps its number.
    virtual uint32_t rowLimit() const = 0;

    // How rows lie below each other. Unless told otherwise they do not.
    virtual bool nested() const { return false; }
    virtual uint32_t countBelow(Row parent) const { return parent == kTop ? rowLimit() : 0; }
    virtual Row rowBelow(Row, uint32_t position) const { return position; }
    virtual Row parentOf(Row) const { return kTop; }
    virtual uint32_t positionOf(Row row) const { return row; }  // among those with the same parent

    /// Its rows come in an order of its own and may be too many to look at each: they are not filtered, sorted as it
    /// can itself, and shown by windows. Such do not lie below each other.
    virtual bool ordered() const { return false; }
    /// Such a table in the order of a column; null where `progress` cancelled it.
    virtual std::shared_ptr<const Table> sorted(size_t, bool /*descending*/, const Progress&) const { return nullptr; }
    /// How many come after the last row, where such a table in another order than its own is not held in full.
    virtual uint64_t leftOut() const { return 0; }
    /// Some rows of such a table, read at once, as a table.
    virtual std::shared_ptr<const Table> window(Row, uint32_t) const { return nullptr; }

    virtual TableValue value(Row row, size_t column) const = 0;
    virtual Emphasis emphasis(Row, size_t) const { return Emphasis::None; }
    virtual std::string help(Row) const { return {}; }
    virtual TablePlace place(Row) const { return {}; }
    /// The first row that leads to a marker, if any. Costs a look at each, unless the table knows better.
    virtual std::optional<Row> rowOf(const MarkerRef& marker) const;
    /// The same for the same thing in a later table of this kind, so that what was opened and chosen stays so.
    virtual uint64_t keyOf(Row row) const { return row; }
    /// Of rows that lie below others, the first text takes the whole width.
    virtual bool belowSpans() const { return false; }
};

/// A table in an order of its own that is looked at row by row through its windows, so it is cheap to go through all.
class WindowedTable : public Table {
public:
    bool ordered() const override { return true; }
    TableValue value(Row row, size_t column) const override {
        return at(row, [&](const Table& window, Row here) { return window.value(here, column); });
    }
    Emphasis emphasis(Row row, size_t column) const override {
        return at(row, [&](const Table& window, Row here) { return window.emphasis(here, column); });
    }
    TablePlace place(Row row) const override {
        return at(row, [](const Table& window, Row here) { return window.place(here); });
    }
    uint64_t keyOf(Row row) const override {
        return at(row, [](const Table& window, Row here) { return window.keyOf(here); });
    }

protected:
    explicit WindowedTable(uint32_t readAtOnce) : readAtOnce_(readAtOnce) {}

private:
    template <class Look>
    auto at(Row row, Look&& look) const -> decltype(look(*this, row)) {
        const Lock lock(mutex_);
        if (!read_ || row < readFrom_ || row - readFrom_ >= read_->rowLimit()) {
            readFrom_ = row - row % readAtOnce_;
            read_ = window(readFrom_, readAtOnce_);
        }
        if (row - readFrom_ >= read_->rowLimit()) return {};  // damaged: fewer than it seemed
        return look(*read_, row - readFrom_);
    }
    const uint32_t readAtOnce_;
    mutable Mutex mutex_;
    mutable std::shared_ptr<const Table> read_ FUGATO_GUARDED_BY(mutex_);  // last
    mutable Row readFrom_ FUGATO_GUARDED_BY(mutex_) = 0;
};

/// A table whose rows lie below each other as `children` say.
class NestedTable : public Table {
public:
    uint32_t rowLimit() const override { return static_cast<uint32_t>(parents_.size()); }
    bool nested() const override { return true; }
    uint32_t countBelow(Row parent) const override { return static_cast<uint32_t>(below(parent).size()); }
    Row rowBelow(Row parent, uint32_t position) const override { return below(parent)[position]; }
    Row parentOf(Row row) const override { return parents_[row]; }
    uint32_t positionOf(Row row) const override { return positions_[row]; }

protected:
    void nest(std::vector<Row> top, std::vector<std::vector<Row>> children);

private:
    const std::vector<Row>& below(Row parent) const { return parent == kTop ? top_ : children_[parent]; }
    std::vector<Row> top_;
    std::vector<std::vector<Row>> children_;
    std::vector<Row> parents_;
    std::vector<uint32_t> positions_;
};

struct Arrangement {
    uint32_t column = kNone;  // to sort by; kNone: as the table has them
    bool descending = false;
    std::string words;  // rows whose texts hold these (letters fit whatever their case), and what lies above and below
    bool operator==(const Arrangement&) const = default;
};

/// The same rows, under the same numbers, sorted and filtered. Rows without a value come last. Null where `progress`
/// cancelled it. Costs a value of each row and 16 bytes for it. One in an order of its own is sorted if it can be, and
/// not filtered.
std::shared_ptr<const Table> arranged(const std::shared_ptr<const Table>& table, const Arrangement& arrangement,
                                      const Progress& progress = {});

}  // namespace fugato
