// SPDX-License-Identifier: GPL-3.0-or-later
//
// The picture of the overrun strip, without a widget: each frame against its own deadline, which is
// one straight line. Overrun rises above it, headroom hangs below; a column shows its worst frame.
#pragma once

#include <QImage>
#include <QRect>
#include <vector>

#include "core/explain/simulation/what_if.h"

class QPainter;

namespace fugato {

class StripPicture {
public:
    /// One column of pixels: the frames that begin in it.
    struct Column {
        uint32_t first = kNone, last = kNone;  // frames; kNone: no frame begins here
        uint32_t worst = kNone;                // the frame with the greatest overrun, else the least headroom
        int64_t overrun = 0;
        int64_t predicted = 0;  // overrun with the repairs being tried
        int64_t headroom = 0;   // least of the column, deadline − work
        bool near = false;
        bool goesOn = false;     // no frame begins here; the one before still fills it
        uint32_t point = kNone;  // the gravest point in it
    };

    /// Lays the whole recording out on `width` columns. Costs one pass over the frames; painting
    /// then costs pixels only.
    /// `prediction`: of the repairs being tried, or null.
    void layOut(std::shared_ptr<const Explanation> explanation, int width,
                std::shared_ptr<const Prediction> prediction = nullptr);
    void paint(QPainter& painter, const QRect& area, uint32_t cause) const;

    /// The overrun that fills the height. Single ones far beyond all others do not flatten these.
    int64_t scale() const { return scale_; }
    const std::vector<Column>& columns() const { return columns_; }
    int64_t timeAt(double x) const;  // x from the left edge
    double xAt(int64_t time) const;
    int deadlineY(const QRect& area) const;
    static constexpr int kStageHeight = 16;
    static constexpr int kLetterHeight = 16;
    static constexpr int kBoundHeight = 8;
    /// The band that tells what each frame is bound by.
    QRect boundBand(const QRect& area) const {
        return {area.left(), area.bottom() - kStageHeight - kBoundHeight + 1, area.width(), kBoundHeight - 1};
    }

private:
    void paintBound(QPainter& painter, const QRect& band) const;
    void paintStages(QPainter& painter, const QRect& band) const;
    std::shared_ptr<const Explanation> explanation_;
    std::shared_ptr<const Prediction> prediction_;
    std::vector<Column> columns_;
    int64_t tallest_ = 0, deepest_ = 0;
    int64_t scale_ = 0;  // the overrun that fills the height; what goes beyond is drawn broken
    std::vector<std::pair<int, uint32_t>> letters_;  // x, cause
};

}  // namespace fugato
