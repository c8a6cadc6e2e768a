// SPDX-License-Identifier: GPL-3.0-or-later
//
// Call stacks are kept once each: programs are found at the same places again and again. Of one thread.
#pragma once

#include <tsl/robin_map.h>

#include <cstdint>
#include <fugato_layout.hpp>
#include <span>

#include "recording.h"

namespace fugato {

/// The same for samples of a recording that have the same call stack, and only for these; spread over all bits, since
/// tables that use it look at the lowest.
inline uint64_t stackKey(const StackSample& sample) {
    const uint64_t key = (uint64_t{sample.count} << 32 | sample.first) * 0x9e3779b97f4a7c15ull;
    return key ^ key >> 32;
}

class StackPlaces {
public:
    /// Where `stack` begins in `addresses`, which is a list of call stacks one after another; its end, where `stack`
    /// does not stand there yet and is to be added.
    template <class List>
    uint32_t placeOf(std::span<const uint64_t> stack, const List& addresses) {
        const Place here{static_cast<uint32_t>(addresses.size()), static_cast<uint32_t>(stack.size())};
        const auto [at, isNew] = known_.try_emplace(layout::checksum(stack.data(), stack.size_bytes()), here);
        const Place& known = at->second;
        bool same = !isNew && known.count == here.count;  // else another one with the same checksum
        for (uint32_t i = 0; same && i < here.count; ++i) same = addresses[known.first + i] == stack[i];
        return same ? known.first : here.first;
    }

private:
    struct Place {
        uint32_t first, count;
    };
    tsl::robin_map<uint64_t, Place> known_;  // by checksum
};

}  // namespace fugato
