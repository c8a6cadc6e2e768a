// SPDX-License-Identifier: GPL-3.0-or-later
//
// A StretchTable for a tree view. Gives raw values for sorting (kSortRole) beside the shown text.
#pragma once

#include <QAbstractItemModel>

#include "core/ask/stretch_table.h"

namespace fugato {

class StretchTableModel : public QAbstractItemModel {
    Q_OBJECT
public:
    enum Column { kMarker, kTotal, kSelf, kCount, kMean, kLongest, kColumns };
    static constexpr int kSortRole = Qt::UserRole;

    explicit StretchTableModel(QObject* parent = nullptr) : QAbstractItemModel(parent) {}
    void setTable(std::shared_ptr<const Recording> recording, std::shared_ptr<const StretchTable> table);
    const StretchRow* rowAt(const QModelIndex& index) const;

    QModelIndex index(int row, int column, const QModelIndex& parent = {}) const override;
    QModelIndex parent(const QModelIndex& index) const override;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& = {}) const override { return kColumns; }
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;

private:
    const std::vector<uint32_t>& childrenOf(const QModelIndex& parent) const;
    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const StretchTable> table_;
    std::vector<uint32_t> parents_;  // by row; kNone for lanes
    std::vector<int> positions_;     // among its siblings
};

}  // namespace fugato
