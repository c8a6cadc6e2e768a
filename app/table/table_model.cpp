// SPDX-License-Identifier: GPL-3.0-or-later
#include "table_model.h"

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/table/writing.h"

namespace fugato {

namespace {
constexpr uint32_t kAtOnce = 10'000;  // rows that are sorted within a few milliseconds
}

TableModel::TableModel(QObject* parent) : QAbstractItemModel(parent) {}

void TableModel::setTable(std::shared_ptr<const Table> table) {
    freeElsewhere(std::exchange(source_, std::move(table)));
    arrange(false);
}

void TableModel::setFilter(const QString& words) {
    if (arrangement_.words == words.toStdString()) return;
    arrangement_.words = words.toStdString();
    arrange(false);
}

void TableModel::sort(int column, Qt::SortOrder order) {
    const Arrangement before = arrangement_;
    arrangement_.column = column < 0 ? kNone : static_cast<uint32_t>(column);
    arrangement_.descending = order == Qt::DescendingOrder;
    if (arrangement_ == before) return;
    if (columnCount()) emit headerDataChanged(Qt::Horizontal, 0, columnCount() - 1);
    arrange(!query_.busy());
}

void TableModel::arrange(bool sameRows) {
    query_.silence();
    Arrangement wanted = arrangement_;
    if (source_ && wanted.column != kNone && wanted.column >= source_->columns().size()) wanted.column = kNone;
    if (!source_ || source_->ordered()) return show(source_, sameRows);  // a window of one has its order
    if (source_->rowLimit() <= kAtOnce) return show(arranged(source_, wanted), sameRows);
    query_.ask([source = source_, wanted](const Progress& progress) { return arranged(source, wanted, progress); },
               [this, sameRows](const std::shared_ptr<const Table>& made) { show(made, sameRows); });
}

void TableModel::show(std::shared_ptr<const Table> table, bool sameRows) {
    if (sameRows && table && shown_) {
        emit layoutAboutToBeChanged({}, QAbstractItemModel::VerticalSortHint);
        freeElsewhere(std::exchange(shown_, std::move(table)));
        const QModelIndexList before = persistentIndexList();
        QModelIndexList after;
        for (const QModelIndex& index : before) after << indexOf(rowOf(index), index.column());
        changePersistentIndexList(before, after);
        emit layoutChanged({}, QAbstractItemModel::VerticalSortHint);
        return;
    }
    beginResetModel();
    freeElsewhere(std::exchange(shown_, std::move(table)));
    endResetModel();
    emit tableChanged();
}

QModelIndex TableModel::indexOf(Table::Row row, int column) const {
    if (!shown_ || row >= shown_->rowLimit()) return {};
    const uint32_t position = shown_->positionOf(row);
    const Table::Row parent = shown_->parentOf(row);
    // What a filter leaves out has no place.
    if (position >= shown_->countBelow(parent) || shown_->rowBelow(parent, position) != row) return {};
    return createIndex(static_cast<int>(position), column, static_cast<quintptr>(row));
}

QModelIndex TableModel::index(int row, int column, const QModelIndex& parent) const {
    if (row < 0 || column < 0 || row >= rowCount(parent) || column >= columnCount()) return {};
    const Table::Row above = parent.isValid() ? rowOf(parent) : Table::kTop;
    return createIndex(row, column, static_cast<quintptr>(shown_->rowBelow(above, static_cast<uint32_t>(row))));
}

QModelIndex TableModel::parent(const QModelIndex& index) const {
    if (!index.isValid() || !shown_) return {};
    const Table::Row above = shown_->parentOf(rowOf(index));
    return above == Table::kTop ? QModelIndex() : indexOf(above);
}

int TableModel::rowCount(const QModelIndex& parent) const {
    if (!shown_ || parent.column() > 0) return 0;
    return static_cast<int>(shown_->countBelow(parent.isValid() ? rowOf(parent) : Table::kTop));
}

int TableModel::columnCount(const QModelIndex&) const {
    return shown_ ? static_cast<int>(shown_->columns().size()) : 0;
}

QVariant TableModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid() || !shown_) return {};
    const Table::Row row = rowOf(index);
    const auto at = static_cast<size_t>(index.column());
    const TableColumn& column = shown_->columns()[at];
    const bool isFlag = column.quantity == Quantity::Flag;
    switch (role) {
        case Qt::DisplayRole: return isFlag ? QVariant() : toQString(valueText(column, shown_->value(row, at)));
        case kRawRole: {
            const TableValue value = shown_->value(row, at);
            if (const auto* number = std::get_if<int64_t>(&value)) return qlonglong{*number};
            if (const auto* real = std::get_if<double>(&value)) return *real;
            if (const auto* text = std::get_if<std::string>(&value)) return toQString(*text);
            return {};
        }
        case Qt::CheckStateRole: {
            const TableValue value = isFlag ? shown_->value(row, at) : TableValue();
            const auto* on = std::get_if<int64_t>(&value);
            return on ? QVariant(*on ? Qt::Checked : Qt::Unchecked) : QVariant();
        }
        case Qt::TextAlignmentRole: return headerData(index.column(), Qt::Horizontal, role);
        case Qt::ForegroundRole:
            switch (shown_->emphasis(row, at)) {
                case Emphasis::Muted: return theme().muted;
                case Emphasis::Excess: return theme().plum;
                default: return {};
            }
        case Qt::FontRole: {
            const Emphasis emphasis = shown_->emphasis(row, at);
            if (column.code) return codeFont();
            return emphasis == Emphasis::Strong || emphasis == Emphasis::Excess ? boldFont() : textFont();
        }
        case Qt::ToolTipRole: {
            const std::string help = isFlag ? column.help : shown_->help(row);
            return help.empty() ? QVariant() : QVariant(plainTip(toQString(help)));
        }
        default: return {};
    }
}

QVariant TableModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal || section >= columnCount()) return {};
    const TableColumn& column = shown_->columns()[static_cast<size_t>(section)];
    switch (role) {
        case Qt::DisplayRole: {
            const auto at = static_cast<size_t>(section);
            if (at != arrangement_.column) return toQString(column.title);
            return toQString(column.title) + (arrangement_.descending ? " ▾" : " ▴");  // beside its own words
        }
        case Qt::ToolTipRole: return column.help.empty() ? QVariant() : QVariant(plainTip(toQString(column.help)));
        case Qt::TextAlignmentRole:
            return int((column.quantity == Quantity::Text || column.quantity == Quantity::Flag ? Qt::AlignLeft
                                                                                               : Qt::AlignRight) |
                       Qt::AlignVCenter);
        default: return {};
    }
}

Qt::ItemFlags TableModel::flags(const QModelIndex& index) const {
    Qt::ItemFlags flags = QAbstractItemModel::flags(index);
    if (!index.isValid() || !shown_) return flags;
    if (!shown_->nested()) flags |= Qt::ItemNeverHasChildren;  // a view need not ask each row for those below it
    const bool isFlag = shown_->columns()[static_cast<size_t>(index.column())].quantity == Quantity::Flag;
    return isFlag && index.data(Qt::CheckStateRole).isValid() ? flags | Qt::ItemIsUserCheckable : flags;
}

bool TableModel::setData(const QModelIndex& index, const QVariant& value, int role) {
    if (role != Qt::CheckStateRole || !index.data(role).isValid()) return false;
    emit flagged(rowOf(index), index.column(), value.toInt() == Qt::Checked);
    return true;
}

}  // namespace fugato
