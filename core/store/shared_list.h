// SPDX-License-Identifier: GPL-3.0-or-later
//
// A list of which copies share all that is the same in them, so that the list of a moment costs what is new since the
// one before. Values lie in blocks; changing one copies its block first, where this list did not make it. A list that
// was copied is only read from then on. Reading is thread safe, and so is changing different values that resize()
// added.
#pragma once

#include <array>
#include <cstddef>
#include <iterator>
#include <memory>
#include <utility>
#include <vector>

namespace fugato {

template <class T>
class SharedList {
    static constexpr size_t kBits = 9, kBlock = size_t{1} << kBits;
    using Block = std::array<T, kBlock>;

public:
    SharedList() = default;
    SharedList(SharedList&&) noexcept = default;
    SharedList& operator=(SharedList&&) noexcept = default;
    SharedList(const SharedList& other) : blocks_(other.blocks_), own_(blocks_.size(), false), size_(other.size_) {}
    SharedList& operator=(const SharedList& other) { return *this = SharedList(other); }

    size_t size() const { return size_; }
    bool empty() const { return !size_; }
    const T& operator[](size_t i) const { return (*blocks_[i >> kBits])[i & (kBlock - 1)]; }
    const T& front() const { return (*this)[0]; }
    const T& back() const { return (*this)[size_ - 1]; }

    /// To change it.
    T& change(size_t i) {
        const size_t block = i >> kBits;
        if (!own_[block]) {
            blocks_[block] = std::make_shared<Block>(*blocks_[block]);
            own_[block] = true;
        }
        return (*blocks_[block])[i & (kBlock - 1)];
    }
    /// So that every value may be changed by several threads, each by one.
    void copyShared() {
        for (size_t i = 0; i < size_; i += kBlock) change(i);
    }
    /// Leaves out the last ones, or adds T() at the end.
    void resize(size_t size) {
        const size_t before = std::exchange(size_, size), blocks = (size + kBlock - 1) >> kBits;
        if (size > before && before & (kBlock - 1)) change(before);  // so that it is not copied by several threads
        blocks_.resize(blocks);
        own_.resize(blocks, true);
        for (std::shared_ptr<Block>& block : blocks_)
            if (!block) block = std::make_shared<Block>();
        for (size_t i = before; i < size && i & (kBlock - 1); ++i) change(i) = T();  // that were left out once
    }

    class Iterator {
    public:
        using iterator_category = std::forward_iterator_tag;
        using value_type = T;
        using difference_type = std::ptrdiff_t;
        using pointer = const T*;
        using reference = const T&;
        Iterator() = default;
        Iterator(const SharedList* list, size_t at) : list_(list), at_(at) {}
        const T& operator*() const { return (*list_)[at_]; }
        const T* operator->() const { return &(*list_)[at_]; }
        Iterator& operator++() {
            ++at_;
            return *this;
        }
        Iterator operator++(int) {
            Iterator before = *this;
            ++at_;
            return before;
        }
        bool operator==(const Iterator& other) const = default;
        difference_type operator-(const Iterator& other) const {
            return static_cast<difference_type>(at_) - static_cast<difference_type>(other.at_);
        }

    private:
        const SharedList* list_ = nullptr;
        size_t at_ = 0;
    };
    Iterator begin() const { return {this, 0}; }
    Iterator end() const { return {this, size_}; }

private:
    std::vector<std::shared_ptr<Block>> blocks_;
    std::vector<bool> own_;  // by block: this list made it
    size_t size_ = 0;
};

}  // namespace fugato
