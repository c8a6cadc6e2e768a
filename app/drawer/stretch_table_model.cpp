// SPDX-License-Identifier: GPL-3.0-or-later
#include "stretch_table_model.h"

#include <QFont>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

StretchTableModel::StretchTableModel(QObject* parent)
    : MarkerTreeModel({tr("Marker"), tr("Total"), tr("Self"), tr("Count"), tr("Mean"), tr("Longest")}, parent) {}

void StretchTableModel::setTable(std::shared_ptr<const Recording> recording,
                                 std::shared_ptr<const StretchTable> table) {
    beginResetModel();
    recording_ = std::move(recording);
    table_ = std::move(table);
    table_ ? layOut(table_->lanes, table_->rows) : layOut({}, std::vector<StretchRow>());
    endResetModel();
}

const StretchRow* StretchTableModel::rowAt(const QModelIndex& index) const {
    return index.isValid() ? &table_->rows[rowOf(index)] : nullptr;
}

QVariant StretchTableModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const StretchRow& row = table_->rows[rowOf(index)];
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
        case Qt::TextAlignmentRole: return alignmentOf(index.column());
        case Qt::FontRole: return lane ? boldFont() : textFont();
        case Qt::ToolTipRole:
            return lane || index.column() != kMarker ? QVariant()
                                                     : QVariant(plainTip(q(r.siteOf(row.path).description)));
        default: return {};
    }
}

}  // namespace fugato
