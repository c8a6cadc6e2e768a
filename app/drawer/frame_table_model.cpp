// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_table_model.h"

#include <QFont>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/sentences.h"

namespace fugato {

void FrameTableModel::clear() {
    beginResetModel();
    explanation_.reset();
    tables_.reset();
    table_ = {};
    parents_.clear();
    positions_.clear();
    endResetModel();
}

void FrameTableModel::setTable(std::shared_ptr<const Explanation> explanation, uint32_t frame) {
    beginResetModel();
    explanation_ = std::move(explanation);
    if (!tables_ || tables_->explanation() != explanation_) tables_ = std::make_unique<FrameTables>(explanation_);
    table_ = tables_->of(frame);
    late_ = explanation_->frames[frame].overrun > 0;
    parents_.assign(table_.rows.size(), kNone);
    positions_.assign(table_.rows.size(), 0);
    for (size_t i = 0; i < table_.lanes.size(); ++i) positions_[table_.lanes[i]] = static_cast<int>(i);
    for (uint32_t row = 0; row < table_.rows.size(); ++row)
        for (size_t i = 0; i < table_.rows[row].children.size(); ++i) {
            parents_[table_.rows[row].children[i]] = row;
            positions_[table_.rows[row].children[i]] = static_cast<int>(i);
        }
    endResetModel();
}

const FrameTableRow* FrameTableModel::rowAt(const QModelIndex& index) const {
    return index.isValid() ? &table_.rows[index.internalId()] : nullptr;
}

const std::vector<uint32_t>& FrameTableModel::childrenOf(const QModelIndex& parent) const {
    return parent.isValid() ? table_.rows[parent.internalId()].children : table_.lanes;
}

QModelIndex FrameTableModel::index(int row, int column, const QModelIndex& parent) const {
    const auto& children = childrenOf(parent);
    if (row < 0 || row >= static_cast<int>(children.size()) || column < 0 || column >= kColumns) return {};
    return createIndex(row, column, static_cast<quintptr>(children[static_cast<size_t>(row)]));
}

QModelIndex FrameTableModel::parent(const QModelIndex& index) const {
    if (!index.isValid()) return {};
    const uint32_t parent = parents_[index.internalId()];
    return parent == kNone ? QModelIndex() : createIndex(positions_[parent], 0, static_cast<quintptr>(parent));
}

int FrameTableModel::rowCount(const QModelIndex& parent) const {
    return parent.column() > 0 ? 0 : static_cast<int>(childrenOf(parent).size());
}

QModelIndex FrameTableModel::find(uint32_t lane, PathId path) const {
    for (uint32_t row = 0; row < table_.rows.size(); ++row)
        if (table_.rows[row].lane == lane && table_.rows[row].path == path)
            return createIndex(positions_[row], 0, static_cast<quintptr>(row));
    return {};
}

QVariant FrameTableModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const FrameTableRow& row = table_.rows[index.internalId()];
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
        case Qt::TextAlignmentRole:
            return int(index.column() == kMarker ? Qt::AlignLeft | Qt::AlignVCenter
                                                 : Qt::AlignRight | Qt::AlignVCenter);
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
            return q(r.siteOf(row.path).description);
        default: return {};
    }
}

QVariant FrameTableModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    if (role == Qt::TextAlignmentRole)
        return int(section == kMarker ? Qt::AlignLeft | Qt::AlignVCenter : Qt::AlignRight | Qt::AlignVCenter);
    if (role != Qt::DisplayRole) return {};
    static const char* const names[] = {QT_TR_NOOP("Marker"), QT_TR_NOOP("Total ms"), QT_TR_NOOP("Self ms"),
                                        QT_TR_NOOP("Calls"),  QT_TR_NOOP("Usual ms"), QT_TR_NOOP("Excess ms")};
    return tr(names[section]);
}

}  // namespace fugato
