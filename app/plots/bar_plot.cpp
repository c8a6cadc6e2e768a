// SPDX-License-Identifier: GPL-3.0-or-later
#include "bar_plot.h"

#include <QContextMenuEvent>
#include <QHelpEvent>
#include <QMenu>
#include <QPainter>
#include <QToolTip>

#include "app/theme/theme.h"
#include "app/theme/words.h"

namespace fugato {

namespace {
constexpr int kSide = 10, kBeside = 4;
}

BarPlot::BarPlot(QWidget* parent) : QWidget(parent), parts_(new PaintedParts(this, [this] { return listParts(); })) {
    setFont(smallFont());
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
}

void BarPlot::setContents(Contents contents) {
    contents_ = std::move(contents);
    highest_ = 0;
    if (!contents_.bars.empty()) highest_ = contents_.most;
    for (const Bar& bar : contents_.bars) highest_ = std::max(highest_, bar.height);
    setAccessibleName(contents_.title);
    parts_->changed();
    update();
}

/// Where the bars stand: below the title, above the ticks.
QRect BarPlot::area() const {
    const int line = fontMetrics().height();
    return rect().adjusted(kSide, 2 * line + 8, -kSide, -line - 6);
}

QRectF BarPlot::boxOf(const Bar& bar) const {
    const QRectF in = area();
    const double high = highest_ > 0 ? std::max(1.0, in.height() * bar.height / highest_) : 0;
    const double left = in.left() + in.width() * bar.from, wide = in.width() * (bar.to - bar.from);
    return {left, in.bottom() - high, std::max(1.0, wide > 3 ? wide - 1 : wide), high};
}

const BarPlot::Bar* BarPlot::barAt(const QPoint& place) const {
    const QRectF in = area();
    if (in.width() <= 0) return nullptr;
    const double at = (place.x() - in.left()) / in.width(), reach = 3 / in.width();
    const Bar* nearest = nullptr;
    for (const Bar& bar : contents_.bars) {
        if (bar.height <= 0 || at < bar.from - reach || at > bar.to + reach) continue;
        if (!nearest || bar.height > nearest->height || (at >= bar.from && at < bar.to)) nearest = &bar;
    }
    return nearest;
}

std::vector<PaintedPart> BarPlot::listParts() {
    std::vector<PaintedPart> parts;
    for (const Mark& mark : contents_.marks) {
        PaintedPart part;
        part.key = "mark " + mark.words;
        const QRect in = area();
        part.box = QRect(in.left() + static_cast<int>(in.width() * mark.at) - 1, in.top(), 3, in.height());
        part.name = mark.words;
        parts.push_back(std::move(part));
    }
    for (const Bar& bar : contents_.bars) {
        if (bar.height <= 0) continue;
        PaintedPart part;
        part.key = QString::number(bar.from, 'g', 12);
        part.box = boxOf(bar).toAlignedRect();
        part.role = QAccessible::ListItem;
        part.name = bar.words;
        part.act = bar.act;
        parts.push_back(std::move(part));
    }
    return parts;
}

void BarPlot::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    const Theme& t = theme();
    const QRect in = area();
    const int line = fontMetrics().height();
    painter.setPen(t.line);
    painter.drawRect(rect().adjusted(0, 0, -1, -1));
    painter.setFont(smallBoldFont());
    painter.setPen(t.text);
    painter.drawText(QRect(kSide, 4, width() - 2 * kSide, line), Qt::AlignLeft,
                     painter.fontMetrics().elidedText(contents_.title, Qt::ElideRight, width() - 2 * kSide));
    painter.setFont(font());
    painter.setPen(t.muted);
    if (contents_.bars.empty() || highest_ <= 0)
        painter.drawText(in, Qt::AlignCenter | Qt::TextWordWrap, contents_.empty);
    else
        painter.drawText(highestBox(), Qt::AlignLeft, contents_.highest);
    for (const Bar& bar : contents_.bars)
        if (bar.height > 0) paintBar(painter, bar);
    paintLegend(painter);
    painter.setPen(t.muted);
    painter.drawLine(in.bottomLeft() + QPoint(0, 1), in.bottomRight() + QPoint(0, 1));
    int past = in.left() - 1;
    for (const Tick& tick : contents_.ticks) {
        const int wide = fontMetrics().horizontalAdvance(tick.words);
        const int left = std::clamp(in.left() + static_cast<int>(in.width() * tick.at) - wide / 2, in.left(),
                                    std::max(in.left(), in.right() - wide));
        if (left <= past) continue;
        painter.drawText(QRect(left, in.bottom() + 4, wide + 1, line), Qt::AlignLeft, tick.words);
        past = left + wide + 6;
    }
    paintMarks(painter);
    parts_->paintFocus(painter);
    parts_->paintPanelFocus(painter, rect());
}

/// Where it says what the highest bar is.
QRect BarPlot::highestBox() const {
    const int line = fontMetrics().height();
    return {kSide, 4 + line, fontMetrics().horizontalAdvance(contents_.highest) + 1, line};
}

void BarPlot::paintBar(QPainter& painter, const Bar& bar) const {
    const Theme& t = theme();
    const QRectF box = boxOf(bar);
    if (bar.parts.empty()) return painter.fillRect(box, bar.telling ? t.plum : t.headroom);
    // In whole pixels and without gaps between: together they are an area.
    const QRect in = area();
    const int left = in.left() + static_cast<int>(in.width() * bar.from),
              right = in.left() + static_cast<int>(in.width() * bar.to);
    double below = 0;
    for (const Bar::Part& part : bar.parts) {
        const double bottom = box.bottom() - box.height() * below / bar.height;
        below += part.height;
        const double top = box.bottom() - box.height() * below / bar.height;
        painter.fillRect(QRectF(left, top, std::max(1, right - left), bottom - top),
                         part.tint ? t.tint(part.tint) : t.headroom);
    }
}

/// Beside the title, as many as there is room for.
void BarPlot::paintLegend(QPainter& painter) const {
    const Theme& t = theme();
    const int line = fontMetrics().height();
    int right = width() - kSide;
    const int left = kSide + QFontMetrics(smallBoldFont()).horizontalAdvance(contents_.title) + 3 * kBeside;
    int needed = 0;
    for (const Legend& one : contents_.legend)
        needed += fontMetrics().horizontalAdvance(one.words) + line + 3 * kBeside;
    int x = std::max(left, right - needed);
    for (const Legend& one : contents_.legend) {
        const int wide = fontMetrics().horizontalAdvance(one.words) + line + 2 * kBeside;
        if (x + wide > right) break;
        painter.fillRect(QRect(x, 6, line - 4, line - 4), one.tint ? t.tint(one.tint) : t.headroom);
        painter.setPen(t.muted);
        painter.drawText(QRect(x + line, 4, wide, line), Qt::AlignLeft, one.words);
        x += wide + kBeside;
    }
}

void BarPlot::paintMarks(QPainter& painter) const {
    const Theme& t = theme();
    const QRect in = area();
    const int line = fontMetrics().height();
    int row = 0;  // of words, where none is chosen
    for (const Mark& mark : contents_.marks) {
        const int x = in.left() + static_cast<int>(in.width() * std::clamp(mark.at, 0.0, 1.0));
        QPen pen(mark.chosen ? t.path : t.text, mark.chosen ? 2 : 1);
        if (!mark.chosen) pen.setStyle(Qt::DashLine);
        painter.setPen(pen);
        const bool belowWords = !mark.chosen || x <= highestBox().right() + kBeside;
        painter.drawLine(x, belowWords ? in.top() : in.top() - line, x, in.bottom());
        const int wide = fontMetrics().horizontalAdvance(mark.words);
        const bool left = x + kBeside + wide > rect().right() - kSide;
        QRect words(left ? x - kBeside - wide : x + kBeside, mark.chosen ? in.top() - line : in.top() + row++ * line,
                    wide + 1, line);
        if (words.intersects(highestBox())) words.moveLeft(highestBox().right() + 2 * kBeside);
        painter.fillRect(words, t.paper);
        painter.setPen(mark.chosen ? t.path : t.text);
        painter.drawText(words, Qt::AlignLeft, mark.words);
    }
}

void BarPlot::resizeEvent(QResizeEvent*) { parts_->changed(); }

void BarPlot::mousePressEvent(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton) return QWidget::mousePressEvent(event);
    parts_->leaveKeyboard();
    if (const Bar* const bar = barAt(event->position().toPoint()); bar && bar->act) {
        const auto act = bar->act;  // it may change what stands here
        act();
    }
}

void BarPlot::keyPressEvent(QKeyEvent* event) {
    // From bar to bar: as they stand beside each other.
    const int key = event->key() == Qt::Key_Left    ? Qt::Key_Up
                    : event->key() == Qt::Key_Right ? Qt::Key_Down
                                                    : event->key();
    const QKeyEvent step(event->type(), key, event->modifiers(), event->text());
    if (!parts_->press(key == event->key() ? *event : step)) QWidget::keyPressEvent(event);
}

void BarPlot::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    parts_->fillMenu(menu, event->pos());
    menu.exec(event->globalPos());
}

bool BarPlot::event(QEvent* event) {
    if (event->type() != QEvent::ToolTip) return QWidget::event(event);
    const auto* const help = static_cast<QHelpEvent*>(event);
    const Bar* const bar = barAt(help->pos());
    QToolTip::showText(help->globalPos(), bar ? plainTip(bar->words) : QString(), this);
    return true;
}

}  // namespace fugato
