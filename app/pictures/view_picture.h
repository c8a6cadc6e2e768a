// SPDX-License-Identifier: GPL-3.0-or-later
//
// A view as a picture in a file: PNG, or SVG where the name ends so; as large as shown or larger, drawn again at that
// size. Interface thread; what takes long of it is done on another one.
#pragma once

#include <QSize>
#include <QString>
#include <functional>

#include "app/work/task.h"

class QPainter;
class QWidget;

namespace fugato {

struct ViewPicture {
    QString id;    // on the command line: --view lanes
    QString name;  // "Lanes"
    QSize size;    // as it is shown
    std::function<void(QPainter&)> paint;
    // In SVG, where each part is cut at its own edges: the widget it is, and what a part paints in another way than it
    // is shown; null where it is painted as a whole, and as it is shown.
    QWidget* widget = nullptr;
    std::function<bool(QWidget& part, QPainter&)> paintPart = {};
};

/// Paints it at once, and writes it on another thread; `done` hears nothing where that went well, else why it did not.
/// What was there before stays until the whole is written.
void saveViewPicture(const ViewPicture& view, double factor, const QString& path,
                     const std::function<void(const QString& why)>& done);

}  // namespace fugato
