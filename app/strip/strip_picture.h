// SPDX-License-Identifier: GPL-3.0-or-later
//
// The picture of the overrun strip, without a widget: each frame against its own deadline, which is
// one straight line. Overrun rises above it, headroom hangs below; a column shows its worst frame.
#pragma once

#include <QRect>
#include <QString>
#include <string>
#include <vector>

#include "core/explain/simulation/what_if.h"
#include "core/model/model_builder.h"

class QPainter;

namespace fugato {

class StripPicture {
public:
    /// One column of pixels: the frames that begin in it, and all that is painted of them.
    struct Column : FrameGroup {
        uint32_t first = kNone, last = kNone;  // frames; kNone: no frame begins here
        int64_t predicted = 0;                 // overrun with the repairs being tried
        int64_t goesOnTo = 0;    // where no frame begins after it, the last one fills the columns up to this time
        uint32_t point = kNone;  // the gravest point in it
        // Of the worst frame:
        BoundBy bound = BoundBy::Cpu;
        bool explained = false;  // else it is not known yet what bounds it
        bool startUp = false;
        bool ofOther = false;  // causes than the one selected
        bool goesOn = false;   // no frame begins here; the one before still fills it
        bool gravePoint = false;
        bool operator==(const Column&) const = default;
    };
    /// Columns [from, to).
    struct Range {
        int from = 0, to = 0;
        bool empty() const { return from >= to; }
    };

    /// Lays the whole recording out on `width` columns. Costs a look at each column, and at each 16 frames and 64
    /// points; painting then costs pixels only. While a recording grows there is room at the right for what is to come,
    /// so that what is there stays. `prediction`: of the repairs being tried, or null. `cause`: the selected one.
    void layOut(std::shared_ptr<const Explanation> explanation, int width,
                std::shared_ptr<const Prediction> prediction = nullptr, uint32_t cause = kNone,
                const std::vector<NewFrame>& newFrames = {});
    /// Another cause is selected. Costs the columns, and the new frames as they are.
    void setCause(uint32_t cause, const std::vector<NewFrame>& newFrames);
    /// Frames after those that are explained, instead of those told before. Costs these and the columns.
    void setNewFrames(const std::vector<NewFrame>& frames);
    /// Paints the columns of a range; all else in `area` stays as it is.
    void paint(QPainter& painter, const QRect& area, Range range) const;
    /// What has to be painted again where `before` was painted.
    Range changedSince(const StripPicture& before) const;

    const std::shared_ptr<const Explanation>& explanation() const { return explanation_; }
    /// The overrun that fills the height. Single ones far beyond all others do not flatten these.
    int64_t scale() const { return scale_; }
    const std::vector<Column>& columns() const { return columns_; }
    Range all() const { return {0, static_cast<int>(columns_.size())}; }
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
    struct Letter {
        int x = 0;
        std::string letter;
        uint32_t cause = kNone;
        bool selected = false;
        bool operator==(const Letter&) const = default;
    };
    struct Stage {
        int from = 0, to = 0;
        QString name;
        bool operator==(const Stage&) const = default;
    };
    void makeRoom(int64_t end);
    void layOutExplained();
    void layOutLetters();
    void layOutPoints();
    size_t columnAt(int64_t time) const;
    bool isOfOther(const FrameVerdict& frame) const;
    /// Frames that begin in a column; `worst`: what is said of the worst of them. The last one ends the column.
    void add(Column& column, uint32_t first, uint32_t last, const FrameGroup& frames, const FrameVerdict& worst,
             const Frame& lastFrame, int64_t lastDeadline) const;
    void paintBars(QPainter& painter, const QRect& area, Range range) const;
    void paintLabels(QPainter& painter, const QRect& area, Range range) const;
    void paintBound(QPainter& painter, const QRect& band, Range range) const;
    void paintStages(QPainter& painter, const QRect& band, Range range) const;

    std::shared_ptr<const Explanation> explanation_;
    std::shared_ptr<const Prediction> prediction_;
    uint32_t cause_ = kNone;
    int deadlineWidth_ = 0;                    // of the word
    int64_t until_ = 0;                        // the time at the right edge
    std::vector<Column> explained_, columns_;  // of the frames that are explained; and with the new ones
    int64_t tallest_ = 0, deepest_ = 0, deepestExplained_ = 0;  // overrun, headroom of all frames
    int64_t scale_ = 0;   // the overrun that fills the height; what goes beyond is drawn broken
    int recordedTo_ = 0;  // the column behind the last frame
    std::vector<Letter> letters_;
    std::vector<Stage> stages_;
};

}  // namespace fugato
