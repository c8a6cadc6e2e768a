// SPDX-License-Identifier: GPL-3.0-or-later
//
// Of a list that is too long to be sorted: those that come first in the order of one of its columns, as a table. Every
// entry is looked at once, on several threads; what is kept does not grow with the list.
#pragma once

#include <atomic>
#include <functional>

#include "core/store/side_by_side.h"
#include "table.h"

namespace fugato {

/// What such a list is to a table of it. All of it may be called from several threads at once.
template <class Item>
struct LongList {
    std::shared_ptr<const Table> table;  // of all of it, in its own order
    uint64_t size = 0;
    uint32_t readAtOnce = 0;  // rows that are cheap to read together
    std::function<std::vector<Item>(uint64_t first, size_t count)> read;
    /// Some of them as a table. `window`: of a longer one.
    std::function<std::shared_ptr<const Table>(std::vector<Item>, bool window)> rows;
    std::function<bool(const Item&, const MarkerRef&)> isOf;
};

/// By what the rows of a column are sorted: texts whatever their case, and nothing comes last either way.
class SortKey {
public:
    SortKey() = default;
    explicit SortKey(TableValue value);
    bool comesBefore(const SortKey& other, bool descending) const {
        if (missing_ || other.missing_) return !missing_ && other.missing_;
        return descending ? other.value_ < value_ : value_ < other.value_;
    }

private:
    TableValue value_;
    bool missing_ = true;
};

/// Keeps the first `most` of what it is told.
template <class Item>
class KeptFirst {
public:
    struct Entry {
        SortKey key;
        uint64_t place = 0;  // in the list: those alike stand as they do there
        Item item;
    };
    KeptFirst(size_t most, bool descending) : most_(most), descending_(descending) {}
    void add(Entry entry) {
        if (full_ && !before(entry, last_)) return;
        entries_.push_back(std::move(entry));
        if (entries_.size() >= 2 * most_) keep();
    }
    void add(KeptFirst&& other) {
        for (Entry& entry : other.entries_) add(std::move(entry));
    }
    std::vector<Item> inOrder() {
        keep();
        std::sort(entries_.begin(), entries_.end(), [this](const Entry& a, const Entry& b) { return before(a, b); });
        std::vector<Item> items;
        items.reserve(entries_.size());
        for (Entry& entry : entries_) items.push_back(std::move(entry.item));
        return items;
    }

private:
    bool before(const Entry& a, const Entry& b) const {
        if (a.key.comesBefore(b.key, descending_)) return true;
        return !b.key.comesBefore(a.key, descending_) && a.place < b.place;
    }
    void keep() {
        if (entries_.size() <= most_) return;
        const auto end = entries_.begin() + static_cast<std::ptrdiff_t>(most_);
        std::nth_element(entries_.begin(), end - 1, entries_.end(),
                         [this](const Entry& a, const Entry& b) { return before(a, b); });
        entries_.erase(end, entries_.end());
        last_ = entries_.back();
        full_ = true;
    }

    const size_t most_;
    const bool descending_;
    std::vector<Entry> entries_;
    Entry last_{};  // of those kept, once there were more
    bool full_ = false;
};

/// The first rows of a long list in another order than its own.
template <class Item>
class FirstInOrder : public WindowedTable {
public:
    /// Null where `progress` cancelled it.
    static std::shared_ptr<const Table> of(const LongList<Item>& list, size_t column, bool descending, size_t most,
                                           const Progress& progress) {
        const uint64_t shares = list.size / list.readAtOnce + 1;
        std::vector<KeptFirst<Item>> kept(threadsFor(shares - 1), {std::max<size_t>(most, 1), descending});
        std::atomic<uint64_t> next{0};
        std::atomic<bool> cancelled{false};
        sideBySide(kept.size(), [&](size_t thread) {
            for (uint64_t share; !cancelled && (share = next++) < shares;) {
                const uint64_t first = share * list.readAtOnce;
                std::vector<Item> items = list.read(first, list.readAtOnce);
                const auto rows = list.rows(items, false);
                for (uint32_t row = 0; row < rows->rowLimit(); ++row)
                    kept[thread].add({SortKey(rows->value(row, column)), first + row, std::move(items[row])});
                if (thread == 0 && progress && !progress(static_cast<double>(share) / static_cast<double>(shares)))
                    cancelled = true;
            }
        });
        if (cancelled) return nullptr;
        for (size_t i = 1; i < kept.size(); ++i) kept[0].add(std::move(kept[i]));
        return std::make_shared<FirstInOrder>(list, kept[0].inOrder());
    }

    FirstInOrder(const LongList<Item>& list, std::vector<Item> items)
        : WindowedTable(list.readAtOnce), list_(list), items_(std::move(items)) {}
    const std::vector<TableColumn>& columns() const override { return list_.table->columns(); }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(items_.size()); }
    uint64_t leftOut() const override { return list_.size - std::min<uint64_t>(list_.size, items_.size()); }
    std::shared_ptr<const Table> window(Row first, uint32_t count) const override {
        const auto at = [&](size_t row) {
            return items_.begin() + static_cast<std::ptrdiff_t>(std::min(row, items_.size()));
        };
        return list_.rows(std::vector<Item>(at(first), at(size_t{first} + count)), true);
    }
    std::shared_ptr<const Table> sorted(size_t column, bool descending, const Progress& progress) const override {
        return list_.table->sorted(column, descending, progress);
    }
    std::optional<Row> rowOf(const MarkerRef& marker) const override {
        const auto found =
            std::find_if(items_.begin(), items_.end(), [&](const Item& item) { return list_.isOf(item, marker); });
        return found == items_.end() ? std::nullopt : std::optional(static_cast<Row>(found - items_.begin()));
    }

private:
    const LongList<Item> list_;
    const std::vector<Item> items_;
};

}  // namespace fugato
