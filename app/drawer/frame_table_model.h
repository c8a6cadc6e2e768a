// SPDX-License-Identifier: GPL-3.0-or-later
//
// The chosen frame's nested markers as an item model: raw values for sorting (kSortRole) beside the
// shown text.
#pragma once

#include <QAbstractItemModel>

#include "core/explain/frame_table.h"

namespace fugato {

class FrameTableModel : public QAbstractItemModel {
    Q_OBJECT
public:
    enum Column { kMarker, kTotal, kSelf, kCalls, kUsual, kExcess, kColumns };
    static constexpr int kSortRole = Qt::UserRole;

    explicit FrameTableModel(QObject* parent = nullptr) : QAbstractItemModel(parent) {}
    void setTable(std::shared_ptr<const Explanation> explanation, uint32_t frame);
    void clear();
    const FrameTableRow* rowAt(const QModelIndex& index) const;
    /// The item of a lane's marker path, or an invalid one.
    QModelIndex find(uint32_t lane, PathId path) const;

    QModelIndex index(int row, int column, const QModelIndex& parent = {}) const override;
    QModelIndex parent(const QModelIndex& index) const override;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& = {}) const override { return kColumns; }
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;

private:
    const std::vector<uint32_t>& childrenOf(const QModelIndex& parent) const;
    std::shared_ptr<const Explanation> explanation_;
    std::unique_ptr<FrameTables> tables_;
    FrameTable table_;
    bool late_ = false;
    std::vector<uint32_t> parents_;  // by row; kNone for lanes
    std::vector<int> positions_;     // among its siblings
};

}  // namespace fugato
