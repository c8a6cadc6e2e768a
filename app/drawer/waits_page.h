// SPDX-License-Identifier: GPL-3.0-or-later
//
// The waits in what is looked at: for which lock or other object, who held it meanwhile, where several waited at once;
// by thread and by marker.
#pragma once

#include "table_page.h"

namespace fugato {

class WaitsPage : public TablePage {
    Q_OBJECT
public:
    WaitsPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QComboBox& by() { return *by_; }

protected:
    void showEvent(QShowEvent* event) override;

private:
    void askNow() override;
    void openHeld();

    QComboBox* const by_;
    std::shared_ptr<const Recording> asked_;
    Scope askedScope_;
    WaitsBy askedBy_{};
    std::shared_ptr<const Waits> waits_;
};

}  // namespace fugato
