// SPDX-License-Identifier: GPL-3.0-or-later
//
// Under the virtual clock a computation takes the time that it is said to take, so nothing outside can look where it
// is. It says so itself: the loops of the race's computations tell their place, and where the clock wants call stacks
// of one, it keeps some of these places.
#pragma once

#include <cstddef>
#include <cstdint>
#include <random>
#include <vector>

namespace skerry {

/// Addresses of a call stack, innermost first.
using CallStack = std::vector<const void*>;

/// Keeps so many of the places of one computation, each as likely as any other.
class KeptPlaces {
public:
    KeptPlaces(size_t count, std::minstd_rand& chance) : kept_(count), chance_(chance) {}
    /// From a function that is not inlined into the place it tells.
    void tell();
    const std::vector<CallStack>& kept() const { return kept_; }

private:
    std::vector<CallStack> kept_;
    std::minstd_rand& chance_;
    uint32_t told_ = 0;
};

/// Of the computation that the calling thread makes; null: none are wanted.
extern thread_local KeptPlaces* keptPlaces;

}  // namespace skerry

/// A macro, so that the place is its caller's.
#define SKERRY_TELL_PLACE() \
    if (__builtin_expect(::skerry::keptPlaces != nullptr, 0)) ::skerry::keptPlaces->tell()
