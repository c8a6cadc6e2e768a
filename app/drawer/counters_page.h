// SPDX-License-Identifier: GPL-3.0-or-later
//
// Counters and states at the selected instant and over what is looked at, and which counters were beyond their
// thresholds when frames were late.
#pragma once

#include "table_page.h"

namespace fugato {

class CountersPage : public TablePage {
    Q_OBJECT
public:
    CountersPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;

protected:
    void showEvent(QShowEvent* event) override;

private:
    struct Asked {
        std::shared_ptr<const Recording> recording;
        std::shared_ptr<const Explanation> explanation;
        Scope scope;
        int64_t instant = 0;
        bool operator==(const Asked&) const = default;
    };
    void askNow() override;

    Asked asked_;
};

}  // namespace fugato
