// SPDX-License-Identifier: GPL-3.0-or-later
//
// One marker in what is looked at, at first in the whole recording: its figures, and its occurrences.
#pragma once

#include "app/plots/bar_plot.h"
#include "app/plots/parts_list.h"
#include "table_page.h"

namespace fugato {

class MarkerPage : public TablePage {
    Q_OBJECT
public:
    static constexpr size_t kMostFiltered = 1'000'000;  // of the occurrences with some letters

    MarkerPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QString figures() const { return figures_->text(); }
    const std::shared_ptr<const MarkerStatistics>& statistics() const { return statistics_; }
    BarPlot& durations() { return *durations_; }
    BarPlot& inFrames() { return *inFrames_; }
    PartsList& partsList() { return *parts_; }

protected:
    void showEvent(QShowEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    void askNow() override;
    void filterBy(const QString& words) override;
    void say(const QString& title, const QString& sentence);

    void showPlots();
    void arrange();

    BarPlot *durations_, *inFrames_;
    QWidget* plots_;  // these, where there is room
    QLabel* figures_;
    PartsList* parts_;
    BarPlot::Contents lengths_, frames_;  // without what is selected
    std::shared_ptr<const MarkerStatistics> statistics_;
    std::shared_ptr<const Recording> asked_;
    std::shared_ptr<const Explanation> askedExplanation_;
    uint32_t askedSite_ = kNone, askedSeries_ = kNone;
    Scope askedScope_;
    QString askedWords_;
};

}  // namespace fugato
