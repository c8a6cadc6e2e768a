// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where markers tell nothing in what is looked at, and markers that do not occur there.
#pragma once

#include "core/ask/coverage_table.h"
#include "table_page.h"

namespace fugato {

class CoveragePage : public TablePage {
    Q_OBJECT
public:
    CoveragePage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    void fillMenu(QMenu& menu) override;
    QComboBox& what() { return *what_; }
    QToolButton& whatRan() { return *ran_; }

protected:
    void showEvent(QShowEvent* event) override;

private:
    void askNow() override;
    bool mayHaveStacks(const TablePlace& place) const;
    void showWhatRan();

    QComboBox* const what_;
    QToolButton* const ran_;
    std::shared_ptr<const Recording> asked_;
    Scope askedScope_;
    bool askedMissing_ = false;
};

}  // namespace fugato
