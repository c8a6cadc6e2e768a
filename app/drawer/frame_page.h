// SPDX-License-Identifier: GPL-3.0-or-later
//
// The drawer below the lanes: the chosen frame's markers as a nested table, sortable.
#pragma once

#include <QSortFilterProxyModel>
#include <QTreeView>
#include <QWidget>

#include "frame_table_model.h"
#include "page.h"

class QLabel;

namespace fugato {

class Document;
class Selection;

class FramePage : public DrawerPage {
    Q_OBJECT
public:
    FramePage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QTreeView& tree() { return *tree_; }

private:
    void takeChoice();
    void openExcess(const QModelIndex& parent);
    void follow(const QModelIndex& index, bool zoom);

    Document& document_;
    Selection& selection_;
    FrameTableModel model_;
    QSortFilterProxyModel sorted_;
    QTreeView* tree_;
    QLabel *title_, *about_;
    uint32_t shownFrame_ = kNone;
    const Explanation* shown_ = nullptr;
};

}  // namespace fugato
