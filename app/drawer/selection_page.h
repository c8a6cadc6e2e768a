// SPDX-License-Identifier: GPL-3.0-or-later
//
// Everything nested in the selected time, or else in what is in view.
#pragma once

#include "table_page.h"

namespace fugato {

class SelectionPage : public TablePage {
    Q_OBJECT
public:
    SelectionPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;

protected:
    void showEvent(QShowEvent* event) override;
    TimeRange scope() const override { return askedRange_; }

private:
    void askNow() override;

    std::shared_ptr<const Recording> asked_;
    TimeRange askedRange_;
};

}  // namespace fugato
