// SPDX-License-Identifier: GPL-3.0-or-later
//
// The markers in what is looked at, put together in several ways, beside what is usual.
#pragma once

#include "table_page.h"

namespace fugato {

class MarkersPage : public TablePage {
    Q_OBJECT
public:
    MarkersPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QComboBox& by() { return *by_; }

protected:
    void showEvent(QShowEvent* event) override;

private:
    struct Asked {
        std::shared_ptr<const Recording> recording;
        std::shared_ptr<const Explanation> explanation;
        Scope scope;
        MarkersBy by{};
        uint32_t site = kNone;
        bool operator==(const Asked&) const = default;
    };
    void askNow() override;
    void show(const std::shared_ptr<const Table>& table, bool same);
    void openUsefully();
    void showChosen();
    void openExcess(const QModelIndex& parent, int64_t least);

    QComboBox* const by_;
    Asked asked_;
    std::shared_ptr<UsualMarkers> usual_;  // of the explanation
    QString words_;                        // of the scope
};

}  // namespace fugato
