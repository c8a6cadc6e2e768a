// SPDX-License-Identifier: GPL-3.0-or-later
//
// A line of plain text that ends in "…" where it has too little room, and is told in full by its tooltip then: a number
// that is merely cut is another number.
#pragma once

#include <QHelpEvent>
#include <QLabel>
#include <QPainter>
#include <QStyle>
#include <QToolTip>

#include "app/theme/words.h"

namespace fugato {

class ElidedLabel : public QLabel {
public:
    explicit ElidedLabel(QWidget* parent) : QLabel(parent) {
        setTextFormat(Qt::PlainText);
        setMinimumWidth(1);
    }
    /// What is seen of it.
    QString shownText() const { return fontMetrics().elidedText(text(), Qt::ElideRight, contentsRect().width()); }

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        style()->drawItemText(&painter, contentsRect(), static_cast<int>(Qt::AlignLeft | Qt::AlignVCenter), palette(),
                              isEnabled(), shownText(), foregroundRole());
    }
    bool event(QEvent* event) override {
        if (event->type() != QEvent::ToolTip || !toolTip().isEmpty() || shownText() == text())
            return QLabel::event(event);
        QToolTip::showText(static_cast<QHelpEvent*>(event)->globalPos(), plainTip(text()), this);
        return true;
    }
};

}  // namespace fugato
