// SPDX-License-Identifier: GPL-3.0-or-later
#include "bound_legend.h"

#include <QPainter>
#include <array>

#include "app/theme/bound_band.h"
#include "app/theme/theme.h"

namespace fugato {

namespace {

constexpr int kSwatch = 14, kGap = 4, kBetween = 12;

QString nameOf(BoundBy by) {
    switch (by) {
        case BoundBy::Cpu: return BoundLegend::tr("CPU");
        case BoundBy::Gpu: return BoundLegend::tr("GPU");
        case BoundBy::Waiting: return BoundLegend::tr("waiting");
        case BoundBy::NoCore: return BoundLegend::tr("CPU contention");
        case BoundBy::Pacing: return BoundLegend::tr("display");
    }
    return {};
}

}  // namespace

BoundLegend::BoundLegend(QWidget* parent) : QWidget(parent) {
    setFont(smallFont());
    setToolTip(tr("The band under the strip: what most of each frame's critical path was"));
}

void BoundLegend::setExplanation(const Explanation* e) {
    kinds_.clear();
    if (e) {
        const FrameGroup all = e->groupOfAll();
        for (size_t by = 0; by < kBounds; ++by)
            if (all.has(static_cast<BoundBy>(by))) kinds_.push_back(static_cast<BoundBy>(by));
    }
    QStringList names;
    for (const BoundBy by : kinds_) names << nameOf(by);
    setAccessibleName(kinds_.empty() ? QString() : tr("Frames are bound by: %1").arg(names.join(", ")));
    setVisible(!kinds_.empty());
    updateGeometry();
    update();
}

QSize BoundLegend::sizeHint() const {
    const QFontMetrics metrics(smallFont());
    int width = 0;
    for (const BoundBy by : kinds_) width += kSwatch + kGap + metrics.horizontalAdvance(nameOf(by)) + kBetween;
    return {width, metrics.height()};
}

void BoundLegend::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setFont(smallFont());
    painter.setPen(theme().muted);
    int x = 0;
    for (const BoundBy by : kinds_) {
        paintBoundBy(painter, QRect(x, (height() - 7) / 2, kSwatch, 7), by);
        x += kSwatch + kGap;
        const QString name = nameOf(by);
        const int wide = painter.fontMetrics().horizontalAdvance(name);
        painter.drawText(QRect(x, 0, wide + 2, height()), Qt::AlignVCenter, name);
        x += wide + kBetween;
    }
}

}  // namespace fugato
