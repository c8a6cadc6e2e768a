// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_tree_model.h"

namespace fugato {

void MarkerTreeModel::placeRows() {
    parents_.assign(children_.size(), kNone);
    positions_.assign(children_.size(), 0);
    for (size_t i = 0; i < top_.size(); ++i) positions_[top_[i]] = static_cast<int>(i);
    for (uint32_t row = 0; row < children_.size(); ++row)
        for (size_t i = 0; i < children_[row].size(); ++i) {
            parents_[children_[row][i]] = row;
            positions_[children_[row][i]] = static_cast<int>(i);
        }
}

QModelIndex MarkerTreeModel::index(int row, int column, const QModelIndex& parent) const {
    const auto& children = childrenOf(parent);
    if (row < 0 || row >= static_cast<int>(children.size()) || column < 0 || column >= columnCount()) return {};
    return createIndex(row, column, static_cast<quintptr>(children[static_cast<size_t>(row)]));
}

QModelIndex MarkerTreeModel::parent(const QModelIndex& index) const {
    if (!index.isValid() || parents_[rowOf(index)] == kNone) return {};
    return itemOf(parents_[rowOf(index)]);
}

int MarkerTreeModel::rowCount(const QModelIndex& parent) const {
    return parent.column() > 0 ? 0 : static_cast<int>(childrenOf(parent).size());
}

QVariant MarkerTreeModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    if (role == Qt::TextAlignmentRole) return alignmentOf(section);
    return role == Qt::DisplayRole && section < columnCount() ? headers_[section] : QVariant();
}

}  // namespace fugato
