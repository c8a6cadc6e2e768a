// SPDX-License-Identifier: GPL-3.0-or-later
//
// One marker over the recording, or over the selected time: its figures, and its longest occurrences.
#pragma once

#include "table_page.h"

namespace fugato {

class MarkerPage : public TablePage {
    Q_OBJECT
public:
    static constexpr size_t kMostShown = 1000;

    MarkerPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QString figures() const { return figures_->text(); }
    const std::shared_ptr<const MarkerStatistics>& statistics() const { return statistics_; }

protected:
    void showEvent(QShowEvent* event) override;

private:
    void takeChoice();

    QLabel* figures_;
    std::shared_ptr<const MarkerStatistics> statistics_;
    std::shared_ptr<const Recording> asked_;
    uint32_t askedSite_ = kNone, askedSeries_ = kNone;
    TimeRange askedRange_;
};

}  // namespace fugato
