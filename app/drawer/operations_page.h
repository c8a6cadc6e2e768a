// SPDX-License-Identifier: GPL-3.0-or-later
//
// Operations in what is looked at, with their layers, and file requests; only those over a limit.
#pragma once

#include <QDoubleSpinBox>

#include "table_page.h"

namespace fugato {

class OperationsPage : public TablePage {
    Q_OBJECT
public:
    OperationsPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QComboBox& by() { return *by_; }
    QDoubleSpinBox& least() { return *least_; }

protected:
    void showEvent(QShowEvent* event) override;

private:
    void askNow() override;

    QComboBox* const by_;
    QDoubleSpinBox* const least_;
    std::shared_ptr<const Recording> asked_;
    Scope askedScope_;
    OperationsBy askedBy_{};
    int64_t askedLeast_ = 0;
};

}  // namespace fugato
