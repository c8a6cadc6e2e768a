// SPDX-License-Identifier: GPL-3.0-or-later
//
// The functions of the call stacks in what is looked at: as a table and as a flame graph.
#pragma once

#include <QComboBox>

#include "flame_graph.h"
#include "table_page.h"

namespace fugato {

class StacksPage : public TablePage {
    Q_OBJECT
public:
    StacksPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    FlameGraph& flames() { return *flames_; }
    QComboBox& kinds() { return *kinds_; }

protected:
    void showEvent(QShowEvent* event) override;
    void follow(Table::Row row, bool zoom) override;

private:
    void askNow() override;
    void say(const QString& sentence);

    QComboBox* const kinds_;
    FlameGraph* const flames_;
    std::shared_ptr<const Stacks> shown_;
    std::shared_ptr<const Recording> asked_;
    std::shared_ptr<const Symbols> askedSymbols_;
    StackScope askedScope_;
};

}  // namespace fugato
