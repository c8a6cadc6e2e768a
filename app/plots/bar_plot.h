// SPDX-License-Identifier: GPL-3.0-or-later
//
// Bars over an axis, with a title, ticks below and upright lines that mark a place: how long something takes, how much
// of it each frame has. Places are parts of the width, from 0 to 1. What stands in it is reached by the arrow keys too,
// and found by screen readers.
#pragma once

#include <QWidget>
#include <functional>

#include "app/parts/painted_parts.h"

namespace fugato {

class BarPlot : public QWidget {
    Q_OBJECT
public:
    struct Bar {
        double from = 0, to = 1;
        double height = 0;     // the highest fills the plot
        bool telling = false;  // drawn in plum
        QString words;
        std::function<void()> act = {};  // at a click or Enter; null: nothing
        struct Part {
            double height = 0;
            int tint = 0;  // Theme::tint(); 0: as other bars
        };
        std::vector<Part> parts = {};  // one above the other, from the bottom; empty: it is one
    };
    struct Legend {
        QString words;
        int tint = 0;
    };
    struct Mark {
        double at = 0;
        QString words;
        bool chosen = false;  // what is selected: a blue line, else a dashed one
    };
    struct Tick {
        double at = 0;
        QString words;
    };
    struct Contents {
        QString title;
        std::vector<Bar> bars;  // from left to right
        std::vector<Mark> marks;
        std::vector<Tick> ticks;
        QString highest;  // what the highest bar stands for
        QString empty;    // where there are no bars
        double most = 0;  // fills the plot, where that is more than the highest bar
        std::vector<Legend> legend = {};
    };

    explicit BarPlot(QWidget* parent = nullptr);
    void setContents(Contents contents);
    const Contents& contents() const { return contents_; }
    const PaintedParts& parts() const { return *parts_; }
    QSize sizeHint() const override { return {300, 130}; }
    QSize minimumSizeHint() const override { return {120, 90}; }

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    bool event(QEvent* event) override;

private:
    QRect area() const;
    QRect highestBox() const;
    QRectF boxOf(const Bar& bar) const;
    const Bar* barAt(const QPoint& place) const;
    std::vector<PaintedPart> listParts();
    void paintMarks(QPainter& painter) const;
    void paintBar(QPainter& painter, const Bar& bar) const;
    void paintLegend(QPainter& painter) const;

    PaintedParts* parts_;
    Contents contents_;
    double highest_ = 0;
};

}  // namespace fugato
