// SPDX-License-Identifier: GPL-3.0-or-later
//
// How it is painted what a frame is bound by: in the band under the strip, and in its legend.
#pragma once

#include <QRect>

#include "core/explain/walk/bound.h"

class QPainter;

namespace fugato {

void paintBoundBy(QPainter& painter, const QRect& box, BoundBy by);

}  // namespace fugato
