// SPDX-License-Identifier: GPL-3.0-or-later
//
// A StretchTable for a tree view.
#pragma once

#include "core/ask/stretch_table.h"
#include "marker_tree_model.h"

namespace fugato {

class StretchTableModel : public MarkerTreeModel {
    Q_OBJECT
public:
    enum Column { kMarker, kTotal, kSelf, kCount, kMean, kLongest, kColumns };

    explicit StretchTableModel(QObject* parent = nullptr);
    void setTable(std::shared_ptr<const Recording> recording, std::shared_ptr<const StretchTable> table);
    const StretchRow* rowAt(const QModelIndex& index) const;

    QVariant data(const QModelIndex& index, int role) const override;

private:
    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const StretchTable> table_;
};

}  // namespace fugato
