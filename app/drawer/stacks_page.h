// SPDX-License-Identifier: GPL-3.0-or-later
//
// The functions of the call stacks in the selected frame, marker or time: as a table and as a flame graph.
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
    QComboBox& scopes() { return *scopes_; }
    QComboBox& threads() { return *threads_; }

protected:
    void showEvent(QShowEvent* event) override;
    void follow(Table::Row row, bool zoom) override;

private:
    enum Of { Frame, Marker, Time };
    void fillThreads();
    void askNow() override;
    void say(const QString& sentence);
    /// What is asked for, and how it is called; nothing where nothing is selected, and why.
    std::optional<StackScope> wanted(QString& title, QString& why) const;

    QComboBox *const kinds_, *const scopes_, *const threads_;
    FlameGraph* const flames_;
    std::shared_ptr<const Stacks> shown_;
    std::shared_ptr<const Recording> asked_;
    std::shared_ptr<const Symbols> askedSymbols_;
    StackScope askedScope_;
};

}  // namespace fugato
