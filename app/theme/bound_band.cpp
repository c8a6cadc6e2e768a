// SPDX-License-Identifier: GPL-3.0-or-later
#include "bound_band.h"

#include <QPainter>
#include <algorithm>

#include "theme.h"

namespace fugato {

void paintBoundBy(QPainter& painter, const QRect& box, BoundBy by) {
    const Theme& t = theme();
    switch (by) {
        case BoundBy::Cpu: {  // what is usual is pale
            QColor pale = t.markerEdge;
            pale.setAlpha(110);
            return painter.fillRect(box, pale);
        }
        case BoundBy::Gpu: return painter.fillRect(box, t.path);
        case BoundBy::NoCore: return painter.fillRect(box, t.plum);
        case BoundBy::Pacing: return painter.fillRect(box, t.headroom);
        case BoundBy::Waiting:  // dotted
            for (int x = box.left(); x <= box.right(); ++x)
                for (int y = box.top() + x % 2 * 2; y <= box.bottom(); y += 4)
                    painter.fillRect(x, y, 1, std::min(2, box.bottom() - y + 1), t.muted);
            return;
    }
}

}  // namespace fugato
