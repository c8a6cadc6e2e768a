// SPDX-License-Identifier: GPL-3.0-or-later
//
// The ground and edge of a button that is a card: more words than a button has, in a rounded frame.
#pragma once

#include <QAbstractButton>
#include <QPainter>
#include <QPainterPath>

#include "app/theme/theme.h"

namespace fugato {

inline void paintCard(QPainter& painter, const QAbstractButton& card) {
    const Theme& t = theme();
    painter.setRenderHint(QPainter::Antialiasing);
    QPainterPath edge;
    edge.addRoundedRect(QRectF(card.rect()).adjusted(1, 1, -1, -1), 4, 4);
    painter.fillPath(edge, card.underMouse() || card.isDown() ? t.panel : t.paper);
    painter.setPen(QPen(card.hasFocus() ? t.path : t.handle, card.hasFocus() ? 2 : 1));
    painter.drawPath(edge);
    painter.setRenderHint(QPainter::Antialiasing, false);
}

}  // namespace fugato
