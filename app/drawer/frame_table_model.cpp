// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_table_model.h"

#include <QFont>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

FrameTableModel::FrameTableModel(QObject* parent)
    : MarkerTreeModel({tr("Marker"), tr("Total ms"), tr("Self ms"), tr("Calls"), tr("Usual ms"), tr("Excess ms")},
                      parent) {}

void FrameTableModel::clear() {
    beginResetModel();
    explanation_.reset();
    tables_.reset();
    table_ = {};
    layOut(table_.lanes, table_.rows);
    endResetModel();
}

void FrameTableModel::setTable(std::shared_ptr<const Explanation> explanation, uint32_t frame) {
    beginResetModel();
    explanation_ = std::move(explanation);
    if (!tables_ || tables_->explanation() != explanation_) tables_ = std::make_unique<FrameTables>(explanation_);
    table_ = tables_->of(frame);
    late_ = explanation_->frames[frame].overrun > 0;
    layOut(table_.lanes, table_.rows);
    endResetModel();
}

const FrameTableRow* FrameTableModel::rowAt(const QModelIndex& index) const {
    return index.isValid() ? &table_.rows[rowOf(index)] : nullptr;
}

QModelIndex FrameTableModel::find(uint32_t lane, PathId path) const {
    for (uint32_t row = 0; row < table_.rows.size(); ++row)
        if (table_.rows[row].lane == lane && table_.rows[row].path == path) return itemOf(row);
    return {};
}

QVariant FrameTableModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const FrameTableRow& row = table_.rows[rowOf(index)];
    const Recording& r = *explanation_->recording;
    const auto ms = [](int64_t ns) { return q(msText(ns, 2)); };
    switch (role) {
        case Qt::DisplayRole:
            switch (index.column()) {
                case kMarker: return q(row.path ? r.nameOf(row.path) : r.lanes[row.lane].name);
                case kTotal: return ms(row.total);
                case kSelf: return row.path ? ms(row.self) : QString();
                case kCalls: return row.path ? QString::number(row.calls) : QString();
                case kUsual: return ms(row.usual);
                case kExcess: return std::abs(row.excess()) < 5000 ? QString("0.00") : q(signedMsText(row.excess(), 2));
                default: return {};
            }
        case kSortRole:
            switch (index.column()) {
                case kMarker: return q(row.path ? r.nameOf(row.path) : r.lanes[row.lane].name).toLower();
                case kTotal: return qint64(row.total);
                case kSelf: return qint64(row.self);
                case kCalls: return row.calls;
                case kUsual: return qint64(row.usual);
                case kExcess: return qint64(row.excess());
                default: return {};
            }
        case Qt::TextAlignmentRole: return alignmentOf(index.column());
        case Qt::ForegroundRole:
            if (row.wait || (!row.calls && row.path)) return theme().muted;  // waiting is not work
            if (index.column() == kExcess && late_ && row.excess() >= 1'000'000 && !row.wait) return theme().plum;
            return {};
        case Qt::FontRole: {
            const bool strong = (index.column() == kExcess && late_ && row.excess() >= 1'000'000 && !row.wait) ||
                                (!row.path && index.column() == kMarker);
            return strong ? boldFont() : textFont();
        }
        case Qt::ToolTipRole:
            if (!row.path) return {};
            return plainTip(q(r.siteOf(row.path).description));
        default: return {};
    }
}

}  // namespace fugato
