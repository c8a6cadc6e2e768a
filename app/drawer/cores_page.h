// SPDX-License-Identifier: GPL-3.0-or-later
//
// What threads and programs had of the cores in what is looked at, and over time.
#pragma once

#include "app/plots/bar_plot.h"
#include "core/ask/core_use.h"
#include "table_page.h"

namespace fugato {

class CoresPage : public TablePage {
    Q_OBJECT
public:
    CoresPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QComboBox& by() { return *by_; }
    const BarPlot& curve() const { return *curve_; }
    QString figures() const { return figures_->text(); }

protected:
    void showEvent(QShowEvent* event) override;

private:
    struct Asked {
        std::shared_ptr<const Recording> recording;
        Scope scope;
        bool byProgram = false;
        bool operator==(const Asked&) const = default;
    };
    void askNow() override;
    void say(const QString& sentence);
    void showCurve(const CoreCurve& curve);

    QComboBox* const by_;
    BarPlot* const curve_;
    QLabel* const figures_;
    Asked asked_;
};

}  // namespace fugato
