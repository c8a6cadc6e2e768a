// SPDX-License-Identifier: GPL-3.0-or-later
//
// The call stacks in what is looked at: by function, by line of the source, as trees of calls; and as a flame graph.
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
    QComboBox& by() { return *by_; }

protected:
    void showEvent(QShowEvent* event) override;
    void follow(Table::Row row, bool zoom) override;
    void filterBy(const QString& words) override;
    SourcePlace sourceOf(Table::Row row) const override;

private:
    void askNow() override;
    void say(const QString& sentence);
    void showNode(uint32_t node);
    void tellFound();
    FunctionId functionOf(Table::Row row) const;

    enum By { kByFunction, kByLine, kByCallee, kByCaller };
    struct Answer {
        int by = kByFunction;  // how the table lists them
        std::shared_ptr<const Stacks> stacks;
        std::shared_ptr<const StackTree> tree;  // as the flame graph shows them
        std::shared_ptr<const Table> table;
    };
    QComboBox* const by_;
    QComboBox* const kinds_;
    FlameGraph* const flames_;
    std::shared_ptr<const Answer> shown_;
    QString told_;
    int askedBy_ = kByFunction;
    std::shared_ptr<const Recording> asked_;
    std::shared_ptr<const Symbols> askedSymbols_;
    StackScope askedScope_;
};

}  // namespace fugato
