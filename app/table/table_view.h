// SPDX-License-Identifier: GPL-3.0-or-later
//
// A table on the screen: sorted by a click on a column, filtered by words, its rows copied and saved, its columns
// chosen, all remembered under the table's id. What is opened, chosen and scrolled to stays when the same table comes
// anew. Of a table in an order of its own (Table::ordered) only a window of rows is at hand, which is
// read on another thread and moves as one scrolls; it is sorted there, too, as far as it can be.
#pragma once

#include <QSet>
#include <QTreeView>

#include "app/settings/settings.h"
#include "table_model.h"

class QMenu;
class QScrollBar;

namespace fugato {

class TableView : public QTreeView {
    Q_OBJECT
public:
    /// Sorted by `column` until the person sorts otherwise; -1: as the table has them.
    TableView(const QString& id, int column, Qt::SortOrder order, QWidget* parent = nullptr);
    TableModel& rows() { return model_; }
    const std::shared_ptr<const Table>& table() const { return model_.table(); }
    /// All of it, where table() is a window; else the same.
    const std::shared_ptr<const Table>& whole() const { return whole_ ? whole_ : model_.table(); }
    /// The first row of whole() that is in sight, and the first that table() has.
    Table::Row topRow() const;
    Table::Row firstRow() const { return first_; }
    /// `same`: the thing is the same as before, told anew; what is open, chosen and in view stays.
    void setTable(std::shared_ptr<const Table> table, bool same);
    /// What stands in the place of rows where there are none.
    void setEmptyText(const QString& sentence);
    /// Chooses a row of whole(), opens what it lies in and brings it into view.
    void showRow(Table::Row row);
    /// The same with the row that leads to a marker, once it is found, if there is one; without telling that it was
    /// chosen.
    void showMarker(const MarkerRef& marker);
    /// Draws a line above a row of whole(), an instant among rows in order of time; none: no line. One past the last
    /// row stands below it. `bring`: and brings it into view.
    void showLine(std::optional<Table::Row> row, bool bring = false);
    std::optional<Table::Row> line() const { return line_; }
    /// Opens, from the chosen row or from the top, the heaviest row by a column and so on down, and chooses the last.
    void openHeaviest(size_t column);
    /// The row of that Table::keyOf(), or kTop. Costs a look at each.
    Table::Row rowWithKey(uint64_t key) const;
    /// The chosen rows, or all, as text for a spreadsheet.
    QString textOf(bool all) const;
    void copyRows() const;
    /// What can be done with the rows: for the context menu and the Tables menu.
    void fillMenu(QMenu& menu);
    /// As CSV, or JSON where the name ends so; on another thread. said() tells how it went.
    void saveAs(const QString& path);
    /// A window of rows is being read, or a row looked for.
    bool reading() const { return reading_.busy() || looking_.busy(); }

signals:
    void rowChosen(Table::Row row);     // by a click or a key
    void rowActivated(Table::Row row);  // by a double click or Return
    void menuOpens(QMenu* menu);        // of the chosen row: what else can be done with it
    void filled();                      // the rows are there, arranged
    void said(const QString& sentence);

protected:
    void contextMenuEvent(QContextMenuEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void updateGeometries() override;

private:
    bool windowed() const { return whole_ && model_.table(); }
    bool hasAllRows() const;
    void readWindow(int64_t top, int offset, int64_t choose, std::optional<uint64_t> topKey = {});
    int offsetOf(Table::Row top) const;
    void scrolled();
    void paintLine();
    void showTop();  // in the bar over all rows
    void scrollToRow(int64_t top);
    Arrangement wantedOrder() const;
    void sortWhole();
    int wideColumn() const;
    void dress();
    void hideColumns();
    void fitWide();
    void showColumn(size_t column, bool on);
    int widthFor(size_t column) const;
    Setting<QByteArray> rememberedColumns(const QStringList& keys) const;
    void remember();
    void keepPlace();
    void restorePlace();
    void askWhereToSave();
    void fillColumnMenu(QMenu& menu);

    const QString id_;
    QString emptyText_;
    TableModel model_;
    QStringList dressedFor_;  // the keys of the columns
    bool keep_ = false, resetting_ = false;
    QSet<quint64> open_;
    uint64_t currentKey_ = 0;
    bool hasCurrent_ = false;
    int scrolled_ = 0;
    BackgroundQuery saving_;
    std::shared_ptr<const Table> whole_;  // of which the model has a window; else null
    QScrollBar* const bar_;               // over all rows of it
    Table::Row first_ = 0;                // of the window
    Arrangement sortedAs_;                // whole_; none: as it came
    std::shared_ptr<const Table> next_;   // comes once what is being sorted is there
    std::optional<Table::Row> line_;
    int64_t pendingTop_ = -1, pendingChoose_ = -1;  // of the window that is being read; -1: none
    BackgroundQuery reading_, looking_;
};

}  // namespace fugato
