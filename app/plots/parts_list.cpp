// SPDX-License-Identifier: GPL-3.0-or-later
#include "parts_list.h"

#include <QContextMenuEvent>
#include <QHelpEvent>
#include <QMenu>
#include <QPainter>
#include <QScrollBar>
#include <QToolTip>

#include "app/theme/theme.h"
#include "app/theme/words.h"

namespace fugato {

namespace {
constexpr int kSide = 10, kAbove = 8;
constexpr double kNamePart = 0.38, kBarPart = 0.24;  // of the width; the rest is for words
}  // namespace

PartsList::PartsList(QWidget* parent)
    : QAbstractScrollArea(parent), parts_(new PaintedParts(this, [this] { return listParts(); })) {
    setFrameShape(QFrame::NoFrame);
    setFont(smallFont());
    setFocusPolicy(Qt::StrongFocus);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setAccessibleName(tr("Parts of the selected marker's time"));
    viewport()->setMouseTracking(true);
}

int PartsList::lineHeight() const { return fontMetrics().height() + 5; }

int PartsList::heightOfAll() const {
    int lines = 0;
    for (const Section& section : sections_) lines += 1 + static_cast<int>(section.lines.size());
    return lines * lineHeight() + static_cast<int>(sections_.size() + 1) * kAbove;
}

void PartsList::setSections(std::vector<Section> sections) {
    sections_ = std::move(sections);
    layOut();
}

void PartsList::layOut() {
    verticalScrollBar()->setPageStep(viewport()->height());
    verticalScrollBar()->setSingleStep(lineHeight());
    verticalScrollBar()->setRange(0, std::max(0, heightOfAll() - viewport()->height()));
    parts_->changed();
    viewport()->update();
}

std::vector<PaintedPart> PartsList::listParts() {
    std::vector<PaintedPart> parts;
    int y = kAbove;
    for (const Section& section : sections_) {
        PaintedPart head;
        head.key = section.title;
        head.box = QRect(0, y, viewport()->width(), lineHeight());
        head.role = QAccessible::Heading;
        head.name = section.title;
        const int at = static_cast<int>(parts.size());
        parts.push_back(std::move(head));
        y += lineHeight();
        for (const Line& line : section.lines) {
            PaintedPart part;
            part.key = section.title + "/" + line.name;
            part.box = QRect(0, y, viewport()->width(), lineHeight());
            part.role = QAccessible::ListItem;
            part.name = line.name + ", " + line.words;
            part.more = line.more;
            part.within = at;
            parts.push_back(std::move(part));
            y += lineHeight();
        }
        y += kAbove;
    }
    return parts;
}

void PartsList::paintEvent(QPaintEvent*) {
    QPainter painter(viewport());
    const Theme& t = theme();
    painter.translate(0, -verticalScrollBar()->value());
    const int width = viewport()->width() - 2 * kSide, high = lineHeight();
    const int nameWide = static_cast<int>(width * kNamePart), barWide = static_cast<int>(width * kBarPart);
    int y = kAbove;
    for (const Section& section : sections_) {
        painter.setFont(smallBoldFont());
        painter.setPen(t.text);
        painter.drawText(QRect(kSide, y, width, high), Qt::AlignVCenter | Qt::AlignLeft,
                         painter.fontMetrics().elidedText(section.title, Qt::ElideRight, width));
        painter.setFont(font());
        y += high;
        for (const Line& line : section.lines) {
            painter.setPen(t.text);
            painter.drawText(QRect(kSide, y, nameWide - 6, high), Qt::AlignVCenter | Qt::AlignLeft,
                             fontMetrics().elidedText(line.name, Qt::ElideMiddle, nameWide - 6));
            const int bar = std::max(1, static_cast<int>(barWide * line.part));
            painter.fillRect(kSide + nameWide, y + 4, bar, high - 8, t.headroom);
            painter.setPen(t.muted);
            const int after = kSide + nameWide + bar + 6;
            painter.drawText(QRect(after, y, width + kSide - after, high), Qt::AlignVCenter | Qt::AlignLeft,
                             fontMetrics().elidedText(line.words, Qt::ElideRight, width + kSide - after));
            y += high;
        }
        y += kAbove;
    }
    parts_->paintFocus(painter);
    painter.resetTransform();
    parts_->paintPanelFocus(painter, viewport()->rect());
}

void PartsList::resizeEvent(QResizeEvent* event) {
    QAbstractScrollArea::resizeEvent(event);
    layOut();
}

void PartsList::keyPressEvent(QKeyEvent* event) {
    if (!parts_->press(*event)) QAbstractScrollArea::keyPressEvent(event);
}

void PartsList::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    parts_->fillMenu(menu, event->pos());
    menu.exec(event->globalPos());
}

void PartsList::scrollContentsBy(int, int) { viewport()->update(); }

bool PartsList::viewportEvent(QEvent* event) {
    if (event->type() != QEvent::ToolTip) return QAbstractScrollArea::viewportEvent(event);
    const auto* const help = static_cast<QHelpEvent*>(event);
    const PaintedPart* const part = parts_->at(help->pos());
    QToolTip::showText(help->globalPos(),
                       part ? plainTip(part->more.isEmpty() ? part->name : part->name + "\n" + part->more) : QString(),
                       viewport());
    return true;
}

}  // namespace fugato
