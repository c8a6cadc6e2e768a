// SPDX-License-Identifier: GPL-3.0-or-later
#include "stretch_table_model.h"

#include <QFont>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/sentences.h"

namespace fugato {

void StretchTableModel::setTable(std::shared_ptr<const Recording> recording,
                                 std::shared_ptr<const StretchTable> table) {
    beginResetModel();
    recording_ = std::move(recording);
    table_ = std::move(table);
    const size_t rows = table_ ? table_->rows.size() : 0;
    parents_.assign(rows, kNone);
    positions_.assign(rows, 0);
    if (table_)
        for (size_t i = 0; i < table_->lanes.size(); ++i) positions_[table_->lanes[i]] = static_cast<int>(i);
    for (uint32_t row = 0; row < rows; ++row)
        for (size_t i = 0; i < table_->rows[row].children.size(); ++i) {
            parents_[table_->rows[row].children[i]] = row;
            positions_[table_->rows[row].children[i]] = static_cast<int>(i);
        }
    endResetModel();
}

const StretchRow* StretchTableModel::rowAt(const QModelIndex& index) const {
    return index.isValid() ? &table_->rows[index.internalId()] : nullptr;
}

const std::vector<uint32_t>& StretchTableModel::childrenOf(const QModelIndex& parent) const {
    static const std::vector<uint32_t> none;
    return parent.isValid() ? table_->rows[parent.internalId()].children : table_ ? table_->lanes : none;
}

QModelIndex StretchTableModel::index(int row, int column, const QModelIndex& parent) const {
    const auto& children = childrenOf(parent);
    if (row < 0 || row >= static_cast<int>(children.size()) || column < 0 || column >= kColumns) return {};
    return createIndex(row, column, static_cast<quintptr>(children[static_cast<size_t>(row)]));
}

QModelIndex StretchTableModel::parent(const QModelIndex& index) const {
    if (!index.isValid() || parents_[index.internalId()] == kNone) return {};
    const uint32_t above = parents_[index.internalId()];
    return createIndex(positions_[above], 0, static_cast<quintptr>(above));
}

int StretchTableModel::rowCount(const QModelIndex& parent) const {
    return parent.column() > 0 ? 0 : static_cast<int>(childrenOf(parent).size());
}

QVariant StretchTableModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const StretchRow& row = table_->rows[index.internalId()];
    const Recording& r = *recording_;
    const auto mean = row.count ? static_cast<double>(row.total) / static_cast<double>(row.count) : 0.0;
    const bool lane = row.path == 0;
    switch (role) {
        case Qt::DisplayRole:
            switch (index.column()) {
                case kMarker: return lane ? q(r.lanes[row.lane].name) : q(r.nameOf(row.path));
                case kTotal: return q(durationText(row.total));
                case kSelf: return lane ? QVariant() : q(durationText(row.self));
                case kCount: return lane ? QVariant() : q(countText(row.count));
                case kMean: return lane ? QVariant() : q(durationText(static_cast<int64_t>(mean)));
                case kLongest: return lane ? QVariant() : q(durationText(row.longest));
                default: return {};
            }
        case kSortRole:
            switch (index.column()) {
                case kMarker: return lane ? q(r.lanes[row.lane].name).toLower() : q(r.nameOf(row.path)).toLower();
                case kTotal: return qlonglong{row.total};
                case kSelf: return qlonglong{row.self};
                case kCount: return qulonglong{row.count};
                case kMean: return mean;
                case kLongest: return qlonglong{row.longest};
                default: return {};
            }
        case Qt::TextAlignmentRole:
            return index.column() == kMarker ? int(Qt::AlignLeft | Qt::AlignVCenter)
                                             : int(Qt::AlignRight | Qt::AlignVCenter);
        case Qt::FontRole: return lane ? boldFont() : textFont();
        case Qt::ToolTipRole:
            return lane || index.column() != kMarker ? QVariant() : QVariant(q(r.siteOf(row.path).description));
        default: return {};
    }
}

QVariant StretchTableModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    if (role == Qt::TextAlignmentRole)
        return section == kMarker ? int(Qt::AlignLeft | Qt::AlignVCenter) : int(Qt::AlignRight | Qt::AlignVCenter);
    if (role != Qt::DisplayRole) return {};
    const QString names[] = {tr("Marker"), tr("Total"), tr("Self"), tr("Count"), tr("Mean"), tr("Longest")};
    return section < kColumns ? names[section] : QString();
}

}  // namespace fugato
