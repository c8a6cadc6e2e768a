// SPDX-License-Identifier: GPL-3.0-or-later
//
// Memory in what is looked at: its curve; pools with their resources at the selected instant; and what was taken and
// not released, by marker.
#pragma once

#include "app/plots/bar_plot.h"
#include "core/ask/memory_table.h"
#include "table_page.h"

namespace fugato {

class MemoryPage : public TablePage {
    Q_OBJECT
public:
    MemoryPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QComboBox& by() { return *by_; }
    const BarPlot& curve() const { return *curve_; }

protected:
    void showEvent(QShowEvent* event) override;

private:
    struct Asked {
        std::shared_ptr<const Recording> recording;
        Scope scope;
        int64_t instant = 0;
        bool kept = false;
        uint32_t pool = kNone;  // of the curve; kNone: all together
        bool operator==(const Asked&) const = default;
    };
    struct Answer {
        std::shared_ptr<const MemoryFigures> figures;
        std::shared_ptr<const MemoryCurve> curve;
        std::shared_ptr<const Table> table;
    };
    void askNow() override;
    void follow(Table::Row row, bool zoom) override;
    void say(const QString& sentence);
    void showCurve(const MemoryCurve& curve);

    QComboBox* const by_;
    BarPlot* const curve_;
    Asked asked_;
    uint32_t pool_ = kNone;
};

}  // namespace fugato
