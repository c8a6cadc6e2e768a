// SPDX-License-Identifier: GPL-3.0-or-later
//
// Everything nested in the selected time, or else in what is in view.
#pragma once

#include <QTimer>

#include "table_page.h"

namespace fugato {

class SelectionPage : public TablePage {
    Q_OBJECT
public:
    SelectionPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    bool busy() const override { return TablePage::busy() || soon_.isActive(); }

protected:
    void showEvent(QShowEvent* event) override;
    TimeRange scope() const override { return askedRange_; }

private:
    void askSoon();
    void askNow();

    QTimer soon_;  // while the view moves nothing is asked
    std::shared_ptr<const Recording> asked_;
    TimeRange askedRange_;
};

}  // namespace fugato
