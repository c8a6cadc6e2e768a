// SPDX-License-Identifier: GPL-3.0-or-later
//
// A list that grows at its end, and columns of what it was at one moment after another. What is settled hardly changes
// again: it lies in rooms of a Storage, of which each column has one for itself as long as its recording lives; a room
// that is free again only lacks what was settled or changed since. So a column costs what is new, and memory holds
// little more than what is not settled. Of one thread; columns may be read by others.
#pragma once

#include <algorithm>
#include <list>
#include <memory>
#include <unordered_map>
#include <vector>

#include "arena.h"

namespace fugato {

template <class T>
class GrowingList {
    static_assert(std::is_trivially_copyable_v<T>);

public:
    GrowingList() = default;
    GrowingList(GrowingList&&) noexcept = default;
    GrowingList& operator=(GrowingList&&) noexcept = default;
    void add(const T& value) { tail_.push_back(value); }
    void add(const std::vector<T>& values) { tail_.insert(tail_.end(), values.begin(), values.end()); }
    size_t size() const { return settled_ + tail_.size(); }
    bool empty() const { return !size(); }
    const T& operator[](size_t i) const { return i < settled_ ? settledAt(i) : tail_[i - settled_]; }
    const T& back() const { return (*this)[size() - 1]; }
    /// So many of the first ones hardly change.
    size_t settled() const { return settled_; }
    /// Those that are not settled, for sorting and changing.
    std::vector<T>& tail() { return tail_; }
    const std::vector<T>& tail() const { return tail_; }
    /// One that is not settled.
    T& change(size_t i) { return tail_[i - settled_]; }
    /// Another value for any one; columns that were made keep the one before. For few of those that are settled.
    void set(size_t i, const T& value) {
        if (i >= settled_) return void(tail_[i - settled_] = value);
        changed_.insert_or_assign(i, value);
        changes_.emplace_back(i, value);
    }
    /// All that is there now, but for the last ones, is settled by the next column(place).
    void markSettled(size_t but = 0) { marked_ = size() - std::min(size(), but); }
    size_t marked() const { return marked_; }

    /// What is settled from `first` on may be changed after all. Columns that were made stay as they are.
    void unsettle(size_t first) {
        if (first >= settled_) return;
        const T* from = dataOf(*newest_);
        tail_.insert(tail_.begin(), from + first, from + settled_);
        for (const auto& [i, value] : changed_)
            if (i >= first) tail_[i - first] = value;
        std::erase_if(changed_, [&](const auto& change) { return change.first >= first; });
        settled_ = first;
        for (Room& room : rooms_) room.filled = std::min(room.filled, first);
    }

    Column<T> column(Arena& arena) { return column(arena, marked_); }
    /// All of it as it is now, of which the first `settle` are settled from now on. It is valid as long as the arena.
    Column<T> column(Arena& arena, size_t settle) { return column(arena, settle, tail_); }
    /// The same, with `shown` instead of the tail for this moment; they are the same as far as `settle`.
    Column<T> column(Arena& arena, size_t settle, const std::vector<T>& shown) {
        const size_t all = settled_ + shown.size();
        if (!all) return {};
        const Room& room = fill(arena, settle, shown);
        arena.use(room.lies);
        return {dataOf(room), all};
    }
    /// Only settles.
    void settle(Arena& arena, size_t settle) {
        if (settle > settled_) fill(arena, settle, tail_);
    }
    /// Where nothing is settled and nothing more will come.
    Column<T> column(Storage& storage, size_t = 0) const { return column(storage, 0, tail_); }
    static Column<T> column(Storage& storage, size_t, const std::vector<T>& shown) {
        return Column<T>::of(storage, shown);
    }
    void settle(Storage&, size_t) {}

private:
    static constexpr size_t kLeastBytes = 4096, kSpareEntries = 1024;
    struct Room {
        std::shared_ptr<SharedRoom> lies;
        size_t filled = 0;   // so many are there and settled
        size_t changes = 0;  // so many of all changes are in it
        size_t capacity() const { return lies->bytes() / sizeof(T); }
    };
    T* dataOf(const Room& room) const { return reinterpret_cast<T*>(room.lies->data()); }
    const T& settledAt(size_t i) const {
        const auto changed = changed_.empty() ? changed_.end() : changed_.find(i);
        return changed == changed_.end() ? dataOf(*newest_)[i] : changed->second;
    }

    /// Changes that are in every room go. A room that lacks more of them than it holds entries is filled from the
    /// beginning the next time.
    void forgetChanges() {
        if (changes_.empty()) return;
        const size_t all = forgotten_ + changes_.size();
        for (Room& room : rooms_)
            if (&room != newest_ && all - room.changes > room.filled) room.filled = 0, room.changes = all;
        size_t known = all;
        for (const Room& room : rooms_) known = std::min(known, room.changes);
        changes_.erase(changes_.begin(), changes_.begin() + static_cast<std::ptrdiff_t>(known - forgotten_));
        forgotten_ = known;
    }

    /// A room of all that is settled, and of `shown` behind that.
    Room& fill(Arena& arena, size_t settle, const std::vector<T>& shown) {
        Room& room = freeRoom(arena, settled_ + shown.size());
        T* const to = dataOf(room);
        for (size_t i = room.changes - forgotten_; i < changes_.size(); ++i)
            if (changes_[i].first < room.filled) to[changes_[i].first] = changes_[i].second;
        if (room.filled < settled_) {
            std::copy(dataOf(*newest_) + room.filled, dataOf(*newest_) + settled_, to + room.filled);
            for (const auto& [i, value] : changed_) to[i] = value;
        }
        std::copy(shown.begin(), shown.end(), to + settled_);
        settle = std::clamp(settle, settled_, size());
        tail_.erase(tail_.begin(), tail_.begin() + static_cast<std::ptrdiff_t>(settle - settled_));
        if (tail_.capacity() > kSpareEntries + 4 * tail_.size()) tail_.shrink_to_fit();  // much had come at once
        settled_ = room.filled = settle;
        room.changes = forgotten_ + changes_.size();
        newest_ = &room;
        changed_.clear();
        forgetChanges();
        return room;
    }

    /// One that no recording uses, with room for `entries`: the fullest.
    Room& freeRoom(Arena& arena, size_t entries) {
        Room* best = nullptr;
        for (Room& room : rooms_)
            if (!room.lies->inUse() && room.capacity() >= entries && (!best || room.filled > best->filled))
                best = &room;
        if (best) return *best;
        // Those that have become too small go, but for the one that holds what is settled.
        rooms_.remove_if(
            [&](const Room& room) { return &room != newest_ && !room.lies->inUse() && room.capacity() < entries; });
        rooms_.push_back({arena.shareable(std::max(kLeastBytes, (entries + entries / 4) * sizeof(T))), 0,
                          forgotten_ + changes_.size()});
        return rooms_.back();
    }

    std::vector<T> tail_;  // from settled_ on
    size_t settled_ = 0, marked_ = 0;
    std::list<Room> rooms_;
    Room* newest_ = nullptr;                     // holds all that is settled, but for those changed since
    std::unordered_map<size_t, T> changed_;      // since the newest room was filled
    std::vector<std::pair<size_t, T>> changes_;  // that some room lacks, in their order
    size_t forgotten_ = 0;                       // so many changes came before these
};

}  // namespace fugato
