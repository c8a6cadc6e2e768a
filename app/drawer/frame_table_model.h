// SPDX-License-Identifier: GPL-3.0-or-later
//
// The chosen frame's nested markers as an item model.
#pragma once

#include "core/ask/frame_table.h"
#include "marker_tree_model.h"

namespace fugato {

class FrameTableModel : public MarkerTreeModel {
    Q_OBJECT
public:
    enum Column { kMarker, kTotal, kSelf, kCalls, kUsual, kExcess, kColumns };

    explicit FrameTableModel(QObject* parent = nullptr);
    void setTable(std::shared_ptr<const Explanation> explanation, uint32_t frame);
    void clear();
    const FrameTableRow* rowAt(const QModelIndex& index) const;
    /// The item of a lane's marker path, or an invalid one.
    QModelIndex find(uint32_t lane, PathId path) const;

    QVariant data(const QModelIndex& index, int role) const override;

private:
    std::shared_ptr<const Explanation> explanation_;
    std::unique_ptr<FrameTables> tables_;
    FrameTable table_;
    bool late_ = false;
};

}  // namespace fugato
