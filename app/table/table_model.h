// SPDX-License-Identifier: GPL-3.0-or-later
//
// Any Table of the core as an item model, sorted and filtered. Large ones are arranged on another thread; until then
// they stay as they are.
#pragma once

#include <QAbstractItemModel>

#include "app/work/background_query.h"
#include "core/table/table.h"

namespace fugato {

class TableModel : public QAbstractItemModel {
    Q_OBJECT
public:
    static constexpr int kRawRole = Qt::UserRole;  // the value itself, a number or a text

    explicit TableModel(QObject* parent = nullptr);
    /// Another table, arranged as the one before was; null: nothing. tableChanged() tells when it is there.
    void setTable(std::shared_ptr<const Table> table);
    void setFilter(const QString& words);
    bool filtered() const { return shown_ && !arrangement_.words.empty(); }
    void sort(int column, Qt::SortOrder order) override;
    /// As arranged; or null.
    const std::shared_ptr<const Table>& table() const { return shown_; }
    bool busy() const { return query_.busy(); }
    const Arrangement& arrangement() const { return arrangement_; }

    static Table::Row rowOf(const QModelIndex& index) { return static_cast<Table::Row>(index.internalId()); }
    QModelIndex indexOf(Table::Row row, int column = 0) const;

    QModelIndex index(int row, int column, const QModelIndex& parent = {}) const override;
    QModelIndex parent(const QModelIndex& index) const override;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    Qt::ItemFlags flags(const QModelIndex& index) const override;
    bool setData(const QModelIndex& index, const QVariant& value, int role) override;

signals:
    void tableChanged();                                // after a reset: another table, or other rows of it
    void flagged(Table::Row row, int column, bool on);  // the person ticked or cleared a Quantity::Flag

private:
    void arrange(bool sameRows);
    void show(std::shared_ptr<const Table> table, bool sameRows);

    std::shared_ptr<const Table> source_, shown_;
    Arrangement arrangement_;
    BackgroundQuery query_;
};

}  // namespace fugato
