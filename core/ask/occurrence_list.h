// SPDX-License-Identifier: GPL-3.0-or-later
//
// All occurrences of one marker that overlap a scope, in an order, however many there are: of each chunk of markers
// only how many lie in it is kept, and rows are found where they are looked at. Reading some thousand of them costs a
// look at their lengths, or at some chunks. A list never changes: any number of threads may read one.
#pragma once

#include <optional>

#include "occurrences.h"

namespace fugato {

/// What they are sorted by; those alike stand by lane, nesting and time.
enum class OccurrenceOrder : uint8_t { Duration, Begin, Lane, Inside };

class OccurrenceList {
public:
    /// Null where `progress` cancelled it.
    static std::shared_ptr<const OccurrenceList> of(std::shared_ptr<const Recording> recording, uint32_t site,
                                                    const Scope& scope, OccurrenceOrder order, bool descending,
                                                    const Progress& progress = {});
    virtual ~OccurrenceList() = default;
    virtual std::shared_ptr<const OccurrenceList> inOrder(OccurrenceOrder order, bool descending,
                                                          const Progress& progress = {}) const = 0;
    virtual const std::shared_ptr<const Recording>& recording() const = 0;
    virtual uint64_t size() const = 0;
    /// At most `count` of them from the one at `first` on.
    virtual std::vector<Occurrence> read(uint64_t first, size_t count) const = 0;
    /// Where one stands; none where it is not among them.
    virtual std::optional<uint64_t> placeOf(const MarkerRef& marker) const = 0;
};

}  // namespace fugato
