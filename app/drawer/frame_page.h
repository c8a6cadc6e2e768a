// SPDX-License-Identifier: GPL-3.0-or-later
//
// The selected frame's nested markers against usual ones.
#pragma once

#include "table_page.h"

namespace fugato {

class FramePage : public TablePage {
    Q_OBJECT
public:
    FramePage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;

protected:
    void showEvent(QShowEvent* event) override;

private:
    void takeChoice();
    void showCause();
    void openExcess(const QModelIndex& parent, int64_t least);

    std::shared_ptr<FrameTables> tables_;  // of the explanation
    std::shared_ptr<const Explanation> asked_;
    uint32_t askedFrame_ = kNone;
};

}  // namespace fugato
