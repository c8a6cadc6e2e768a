// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a row of markers shows in each column of pixels. Worked out from the recording alone, without a painter, so
// that several rows may be worked out at once. Costs columns of pixels, not markers.
#pragma once

#include <QRgb>
#include <functional>
#include <optional>
#include <vector>

#include "core/model/recording.h"

namespace fugato {

struct Theme;

struct RowContent {
    /// Narrower markers (in pixels) are shown together.
    static constexpr double kNarrow = 2.0;

    struct Wide {  // a marker shown by itself
        uint32_t index = 0;
        double left = 0, right = 0;  // in pixels from the axis' left, as far as it reaches
    };
    struct Run {  // narrow markers of one path, side by side, that get one name together
        PathId path = 0;
        double left = 0, right = 0, highlight = 0;
        size_t count = 0;
        bool mostly = false;  // others are among them
    };
    struct Unread {
        uint32_t from = 0, to = 0;
    };
    std::vector<Wide> wide;
    std::vector<Run> runs;
    std::vector<QRgb> pixels;  // premultiplied, one of each column, where narrow markers begin:
    int first = 0, past = 0;   // the columns to be drawn
    size_t markers = 0;        // shown, together or by themselves
    /// Markers whose columns lie on a disk still: they are shown from their groups.
    std::optional<Unread> unread;
};

/// What rows are worked out from. The same for all of a picture; only read.
struct RowView {
    const Theme* theme = nullptr;  // never null; theme() itself may only be called on the interface thread
    int64_t begin = 0, end = 1;
    int width = 0;          // pixels between them
    bool waits = false;     // for what lies on a disk
    bool allExact = false;  // whatever that costs
    /// Strength of colour for the markers [first, last] of a row.
    std::function<double(const MarkerRow& row, uint32_t first, uint32_t last)> highlight;
    /// By path; null: all are shown as they are. Of a column that holds none of those in focus, so much is
    /// seen.
    const std::vector<uint8_t>*focused = nullptr, *tints = nullptr;
    double faded = 0;
    /// Nothing outside these times has highlight.
    int64_t highlightFrom = 0, highlightTo = 0;
};

/// Fills `content` anew; what it had is used again.
void workOut(const MarkerRow& markers, const RowView& view, RowContent& content);

}  // namespace fugato
