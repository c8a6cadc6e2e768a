// SPDX-License-Identifier: GPL-3.0-or-later
#include "table.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "first_in_order.h"
#include "letters.h"

namespace fugato {

std::optional<Table::Row> Table::rowOf(const MarkerRef& marker) const {
    for (Row row = 0; row < rowLimit(); ++row)
        if (place(row).marker == marker) return row;
    return std::nullopt;
}

void NestedTable::nest(std::vector<Row> top, std::vector<std::vector<Row>> children) {
    top_ = std::move(top);
    children_ = std::move(children);
    parents_.assign(children_.size(), kTop);
    positions_.assign(children_.size(), 0);
    for (uint32_t i = 0; i < top_.size(); ++i) positions_[top_[i]] = i;
    for (Row row = 0; row < children_.size(); ++row)
        for (uint32_t i = 0; i < children_[row].size(); ++i) {
            parents_[children_[row][i]] = row;
            positions_[children_[row][i]] = i;
        }
}

namespace {

struct Cancelled {};

class ArrangedTable : public Table {
public:
    explicit ArrangedTable(std::shared_ptr<const Table> source)
        : source_(std::move(source)), all_(source_->rowLimit()) {}

    /// Once. Throws Cancelled.
    void arrange(const Arrangement& arrangement, const Progress& progress) {
        progress_ = progress;
        std::vector<char> kept;
        if (!arrangement.words.empty()) kept = keptFor(Letters(arrangement.words));
        firsts_.assign(size_t{all_} + 1, 0);
        counts_.assign(size_t{all_} + 1, 0);
        positions_.assign(all_, 0);
        // Row by row what lies below it; the top comes last, under the number of all rows.
        std::vector<Row> parents{kTop};
        while (!parents.empty()) {
            const Row parent = parents.back();
            parents.pop_back();
            const uint32_t count = source_->countBelow(parent);
            const size_t first = order_.size();
            for (uint32_t i = 0; i < count; ++i) {
                const Row row = source_->rowBelow(parent, i);
                if (!kept.empty() && !kept[row]) continue;
                order_.push_back(row);
                if (source_->countBelow(row)) parents.push_back(row);
                step();
            }
            firsts_[slot(parent)] = static_cast<uint32_t>(first);
            counts_[slot(parent)] = static_cast<uint32_t>(order_.size() - first);
            if (arrangement.column != kNone) sort(first, arrangement);
            for (size_t i = first; i < order_.size(); ++i) positions_[order_[i]] = static_cast<uint32_t>(i - first);
        }
        progress_ = {};
    }

    const std::vector<TableColumn>& columns() const override { return source_->columns(); }
    uint32_t rowLimit() const override { return all_; }
    bool nested() const override { return source_->nested(); }
    uint32_t countBelow(Row parent) const override { return counts_[slot(parent)]; }
    Row rowBelow(Row parent, uint32_t position) const override { return order_[firsts_[slot(parent)] + position]; }
    Row parentOf(Row row) const override { return source_->parentOf(row); }
    uint32_t positionOf(Row row) const override { return positions_[row]; }
    TableValue value(Row row, size_t column) const override { return source_->value(row, column); }
    Emphasis emphasis(Row row, size_t column) const override { return source_->emphasis(row, column); }
    std::string help(Row row) const override { return source_->help(row); }
    TablePlace place(Row row) const override { return source_->place(row); }
    std::optional<Row> rowOf(const MarkerRef& marker) const override { return source_->rowOf(marker); }
    uint64_t keyOf(Row row) const override { return source_->keyOf(row); }
    bool belowSpans() const override { return source_->belowSpans(); }

private:
    size_t slot(Row parent) const { return parent == kTop ? all_ : parent; }

    void step() {
        if (++steps_ % 4096 == 0 && progress_ && !progress_(std::min(0.99, steps_ / (20.0 * all_ + 1))))
            throw Cancelled{};
    }

    /// A row is kept for its own texts, for those of one below it, or of one above it.
    std::vector<char> keptFor(const Letters& words) {
        std::vector<char> kept(all_, 0);
        std::vector<Row> todo{kTop};
        while (!todo.empty()) {
            const Row parent = todo.back();
            todo.pop_back();
            for (uint32_t i = 0; i < source_->countBelow(parent); ++i) {
                const Row row = source_->rowBelow(parent, i);
                step();
                todo.push_back(row);
                if (!(parent != kTop && kept[parent] == 2) && !says(row, words)) continue;
                kept[row] = 2;
                for (Row above = source_->parentOf(row); above != kTop && !kept[above];
                     above = source_->parentOf(above))
                    kept[above] = 1;
            }
        }
        return kept;
    }
    bool says(Row row, const Letters& words) const {
        for (size_t c = 0; c < columns().size(); ++c)
            if (columns()[c].quantity == Quantity::Text) {
                const TableValue value = source_->value(row, c);
                if (const auto* text = std::get_if<std::string>(&value); text && words.in(*text)) return true;
            }
        return false;
    }

    void sort(size_t first, const Arrangement& by) {
        const auto from = order_.begin() + static_cast<std::ptrdiff_t>(first);
        if (columns()[by.column].quantity == Quantity::Text) {
            std::vector<std::pair<std::string, Row>> keys;
            for (auto at = from; at != order_.end(); ++at) {
                const TableValue value = source_->value(*at, by.column);
                const auto* text = std::get_if<std::string>(&value);
                keys.emplace_back(text ? lowered(*text) : std::string(), *at);
            }
            place(keys, from, by.descending, [](const std::string& text) { return text.empty(); });
        } else if (columns()[by.column].quantity == Quantity::Number) {
            std::vector<std::pair<double, Row>> keys;
            for (auto at = from; at != order_.end(); ++at) {
                const TableValue value = source_->value(*at, by.column);
                const auto* number = std::get_if<double>(&value);
                keys.emplace_back(number ? *number : std::numeric_limits<double>::quiet_NaN(), *at);
            }
            place(keys, from, by.descending, [](double key) { return std::isnan(key); });
        } else {
            constexpr int64_t kMissing = INT64_MIN;
            std::vector<std::pair<int64_t, Row>> keys;
            for (auto at = from; at != order_.end(); ++at) {
                const TableValue value = source_->value(*at, by.column);
                keys.emplace_back(std::holds_alternative<int64_t>(value) ? std::get<int64_t>(value) : kMissing, *at);
            }
            place(keys, from, by.descending, [](int64_t key) { return key == kMissing; });
        }
    }
    template <class Key, class To, class Missing>
    void place(std::vector<std::pair<Key, Row>>& keys, To to, bool descending, Missing&& missing) {
        std::stable_sort(keys.begin(), keys.end(), [&](const auto& a, const auto& b) {
            step();
            const bool noA = missing(a.first), noB = missing(b.first);
            if (noA || noB) return !noA && noB;
            return descending ? b.first < a.first : a.first < b.first;
        });
        for (const auto& [key, row] : keys) *to++ = row;
    }

    const std::shared_ptr<const Table> source_;
    Progress progress_;
    const uint32_t all_;
    size_t steps_ = 0;
    std::vector<Row> order_;
    std::vector<uint32_t> firsts_, counts_;  // by parent: its rows in order_
    std::vector<uint32_t> positions_;
};

}  // namespace

SortKey::SortKey(TableValue value) : value_(std::move(value)) {
    if (auto* text = std::get_if<std::string>(&value_)) *text = lowered(*text);
    const auto* text = std::get_if<std::string>(&value_);
    const auto* number = std::get_if<double>(&value_);
    missing_ =
        std::holds_alternative<std::monostate>(value_) || (text && text->empty()) || (number && std::isnan(*number));
}

std::shared_ptr<const Table> arranged(const std::shared_ptr<const Table>& table, const Arrangement& arrangement,
                                      const Progress& progress) {
    if (arrangement == Arrangement{}) return table;
    if (table->ordered()) {
        const size_t column = arrangement.column;
        return column < table->columns().size() ? table->sorted(column, arrangement.descending, progress) : table;
    }
    try {
        auto made = std::make_shared<ArrangedTable>(table);
        made->arrange(arrangement, progress);
        return made;
    } catch (const Cancelled&) {
        return nullptr;
    }
}

}  // namespace fugato
