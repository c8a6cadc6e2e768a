// SPDX-License-Identifier: GPL-3.0-or-later
//
// What item models of nested markers have in common: rows, numbered, that stand below lanes and below each other.
// Raw values for sorting stand under kSortRole beside the shown text; the first column is text, the others numbers.
#pragma once

#include <QAbstractItemModel>
#include <vector>

#include "core/model/path_table.h"

namespace fugato {

class MarkerTreeModel : public QAbstractItemModel {
    Q_OBJECT
public:
    static constexpr int kSortRole = Qt::UserRole;

    QModelIndex index(int row, int column, const QModelIndex& parent = {}) const override;
    QModelIndex parent(const QModelIndex& index) const override;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& = {}) const override { return static_cast<int>(headers_.size()); }
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;

protected:
    MarkerTreeModel(QStringList headers, QObject* parent) : QAbstractItemModel(parent), headers_(std::move(headers)) {}
    /// Between beginResetModel() and endResetModel(): which rows there are. Each has `children`, numbers of rows.
    template <class Rows>
    void layOut(const std::vector<uint32_t>& lanes, const Rows& rows) {
        top_ = lanes;
        children_.clear();
        for (const auto& row : rows) children_.push_back(row.children);
        placeRows();
    }
    static uint32_t rowOf(const QModelIndex& index) { return static_cast<uint32_t>(index.internalId()); }
    QModelIndex itemOf(uint32_t row) const { return createIndex(positions_[row], 0, static_cast<quintptr>(row)); }
    static int alignmentOf(int column) {
        return int((column == 0 ? Qt::AlignLeft : Qt::AlignRight) | Qt::AlignVCenter);
    }

private:
    void placeRows();
    const std::vector<uint32_t>& childrenOf(const QModelIndex& parent) const {
        return parent.isValid() ? children_[parent.internalId()] : top_;
    }
    const QStringList headers_;
    std::vector<uint32_t> top_;                    // rows of lanes
    std::vector<std::vector<uint32_t>> children_;  // by row
    std::vector<uint32_t> parents_;                // by row; kNone for lanes
    std::vector<int> positions_;                   // by row: among its siblings
};

}  // namespace fugato
