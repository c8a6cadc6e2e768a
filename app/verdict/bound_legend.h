// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the band under the overrun strip means: a swatch and a word for each kind that occurs.
#pragma once

#include <QWidget>
#include <vector>

#include "core/explain/model/explanation.h"

namespace fugato {

class BoundLegend : public QWidget {
    Q_OBJECT
public:
    explicit BoundLegend(QWidget* parent = nullptr);
    /// Null: nothing to tell.
    void setExplanation(const Explanation* explanation);
    QSize sizeHint() const override;
    QSize minimumSizeHint() const override { return sizeHint(); }

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    std::vector<BoundBy> kinds_;
};

}  // namespace fugato
