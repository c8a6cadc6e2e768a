// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the drawer's tables have in common: how they look, and the line above them.
#pragma once

#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QStandardItemModel>
#include <QTreeView>
#include <QVBoxLayout>

#include "app/theme/theme.h"

namespace fugato {

/// The first column takes the room that is left; the others are `width` wide.
inline void dressTable(QTreeView& tree, int columns, int width) {
    tree.setUniformRowHeights(true);
    tree.setIndentation(16);
    tree.setEditTriggers(QAbstractItemView::NoEditTriggers);
    tree.setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    tree.setSortingEnabled(true);
    tree.setFont(textFont());
    QHeaderView* header = tree.header();
    header->setFont(smallFont());
    header->setStretchLastSection(false);
    header->setSectionResizeMode(QHeaderView::Interactive);
    header->setSectionResizeMode(0, QHeaderView::Stretch);
    header->setMinimumSectionSize(48);
    for (int column = 1; column < columns; ++column) {
        header->resizeSection(column, width);
        if (auto* items = qobject_cast<QStandardItemModel*>(tree.model()))
            items->setHeaderData(column, Qt::Horizontal, int(Qt::AlignRight | Qt::AlignVCenter), Qt::TextAlignmentRole);
    }
}

/// A title, something about it at the right (and a button, where there is one), and the table below.
inline void layOutPage(QWidget& page, QLabel& title, QLabel& about, QWidget& table, QWidget* button = nullptr) {
    title.setFont(boldFont());
    title.setTextFormat(Qt::PlainText);
    title.setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    about.setFont(smallFont());
    about.setTextFormat(Qt::PlainText);
    auto* head = new QHBoxLayout;
    head->setContentsMargins(12, 5, 12, 3);
    head->addWidget(&title, 1);
    head->addWidget(&about);
    head->setSpacing(8);
    if (button) head->addWidget(button);
    auto* all = new QVBoxLayout(&page);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(0);
    all->addLayout(head);
    all->addWidget(&table, 1);
}

}  // namespace fugato
