// SPDX-License-Identifier: GPL-3.0-or-later
//
// What every 16 frames of a series come to together, so that a picture of all frames costs columns of pixels and not
// frames. Of one frame it is the same as of a group of one.
#pragma once

#include <algorithm>
#include <cstdint>

#include "core/explain/walk/bound.h"
#include "core/model/path_table.h"

namespace fugato {

struct FrameGroup {
    static constexpr uint32_t kBits = 4, kFrames = 1u << kBits;

    uint32_t worst = kNone;  // the first with the greatest overrun; where none is over, with the least headroom
    uint8_t bounds = 0;      // a bit for each BoundBy that occurs
    bool near = false;       // one of them is near its deadline
    bool outside = false;    // none of them is in the scope
    int64_t overrun = 0;     // the greatest; ns
    int64_t headroom = 0, mostHeadroom = 0;           // the least and greatest deadline − work, not below 0; ns
    int64_t leastDeadline = 0, greatestDeadline = 0;  // ns

    /// Of frames that come after these.
    void add(const FrameGroup& later) {
        if (later.overrun > overrun || (!overrun && later.headroom < headroom)) worst = later.worst;
        bounds |= later.bounds;
        near |= later.near;
        outside &= later.outside;
        overrun = std::max(overrun, later.overrun);
        headroom = std::min(headroom, later.headroom);
        mostHeadroom = std::max(mostHeadroom, later.mostHeadroom);
        leastDeadline = std::min(leastDeadline, later.leastDeadline);
        greatestDeadline = std::max(greatestDeadline, later.greatestDeadline);
    }
    bool operator==(const FrameGroup&) const = default;
    bool has(BoundBy by) const { return bounds & (1u << static_cast<unsigned>(by)); }
};

}  // namespace fugato
