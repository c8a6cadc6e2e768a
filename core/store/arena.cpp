// SPDX-License-Identifier: GPL-3.0-or-later
#include "arena.h"

#include <bit>

namespace fugato {

namespace {
constexpr uint64_t kLeastBlock = 256 * 1024;  // of an arena
}  // namespace

ArenaPool::Block ArenaPool::take(uint64_t bytes) {
    const uint64_t wanted = std::bit_ceil(bytes);
    {
        const Lock lock(mutex_);
        if (auto& known = spare_[wanted]; !known.empty()) {
            const uint64_t at = known.back();
            known.pop_back();
            return {at, wanted};
        }
    }
    return {storage_->allocate(wanted), wanted};
}

void ArenaPool::giveBack(const std::vector<Block>& blocks) {
    const Lock lock(mutex_);
    for (const Block& block : blocks) spare_[block.bytes].push_back(block.at);
}

uint64_t Arena::allocate(size_t bytes) {
    const uint64_t rounded = (bytes + 7) / 8 * 8;
    if (blocks_.empty() || blocks_.back().bytes - used_ < rounded) {
        blocks_.push_back(room_->take(std::max(rounded, kLeastBlock)));
        used_ = 0;
    }
    used_ += rounded;
    return blocks_.back().at + used_ - rounded;
}

}  // namespace fugato
