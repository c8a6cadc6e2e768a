// SPDX-License-Identifier: GPL-3.0-or-later
#include "table_view.h"

#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QFileDialog>
#include <QHeaderView>
#include <QMenu>
#include <QPainter>
#include <QScrollBar>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/table/writing.h"

namespace fugato {

namespace {
constexpr int kNumberWidth = 84, kShortWidth = 68, kInstantWidth = 108, kMostTextWidth = 220, kLeastWidth = 48,
              kLeastNameWidth = 150, kMostNameWidth = 460, kMostNameLetters = 70;
constexpr QKeyCombination kHeaviest = Qt::SHIFT | Qt::Key_Right;
constexpr uint32_t kMeasured = 50;                      // rows whose texts are looked at
constexpr uint32_t kWindow = 4096, kNearItsEnd = 1024;  // rows
}  // namespace

TableView::TableView(const QString& id, int column, Qt::SortOrder order, QWidget* parent)
    : QTreeView(parent), id_(id), bar_(new QScrollBar(Qt::Vertical, this)) {
    bar_->hide();
    bar_->setAccessibleName(tr("Place in the table"));
    connect(bar_, &QScrollBar::valueChanged, this, [this](int top) { scrollToRow(top); });
    connect(verticalScrollBar(), &QScrollBar::valueChanged, this, &TableView::scrolled);
    setModel(&model_);
    setUniformRowHeights(true);
    setIndentation(16);
    setEditTriggers(QAbstractItemView::NoEditTriggers);
    setSelectionMode(QAbstractItemView::ExtendedSelection);
    setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    setFont(textFont());
    setSortingEnabled(true);
    sortByColumn(column, order);
    header()->setSortIndicatorShown(false);  // the model says it in the title, beside its words
    header()->setFont(smallFont());
    header()->setStretchLastSection(false);
    header()->setSectionsMovable(true);
    header()->setFirstSectionMovable(false);
    header()->setMinimumSectionSize(kLeastWidth);
    header()->setContextMenuPolicy(Qt::CustomContextMenu);
    header()->hide();
    connect(header(), &QWidget::customContextMenuRequested, this, [this](const QPoint& at) {
        QMenu menu(this);
        fillColumnMenu(menu);
        menu.exec(header()->mapToGlobal(at));
    });
    for (const auto signal : {&QHeaderView::sectionResized, &QHeaderView::sectionMoved})
        connect(header(), signal, this, &TableView::remember);
    connect(header(), &QHeaderView::sortIndicatorChanged, this, &TableView::remember);
    connect(header(), &QHeaderView::sortIndicatorChanged, this, &TableView::sortWhole);
    connect(&saving_, &BackgroundQuery::progressed, this,
            [this](double part) { emit said(tr("Saving, %1 %").arg(part * 100, 0, 'f', 0)); });
    connect(&reading_, &BackgroundQuery::progressed, this,
            [this](double part) { emit said(tr("Sorting, %1 %").arg(part * 100, 0, 'f', 0)); });
    for (BackgroundQuery* query : {&saving_, &reading_, &looking_})
        connect(query, &BackgroundQuery::failed, this, &TableView::said);
    connect(&model_, &QAbstractItemModel::modelAboutToBeReset, this, &TableView::keepPlace);
    connect(&model_, &TableModel::tableChanged, this, [this] {
        resetting_ = false;
        dress();
        executeDelayedItemsLayout();
        restorePlace();
        emit filled();
    });
    connect(this, &QTreeView::clicked, this, [this](const QModelIndex& index) {
        if (!index.data(Qt::CheckStateRole).isValid()) emit rowChosen(TableModel::rowOf(index));
    });
    connect(this, &QAbstractItemView::activated, this,
            [this](const QModelIndex& index) { emit rowActivated(TableModel::rowOf(index)); });
}

void TableView::setTable(std::shared_ptr<const Table> table, bool same) {
    const bool onTheWay = same && reading_.busy() && pendingTop_ >= 0;
    if (onTheWay && table && table->ordered() && wantedOrder() != Arrangement()) {
        next_ =
            std::move(table);  // sorting comes to its end first: of what grows, the next would come before it always
        return;
    }
    next_.reset();
    reading_.silence();
    looking_.silence();
    if (table && table->ordered()) {
        sortedAs_ = {};
        if (onTheWay) {
            freeElsewhere(std::exchange(whole_, std::move(table)));
            return readWindow(pendingTop_, 0, pendingChoose_);
        }
        const bool stays = same && windowed();
        const int64_t top = stays ? topRow() : 0;
        const auto key = stays ? std::optional(model_.table()->keyOf(topRow() - first_)) : std::nullopt;
        const int offset = stays ? offsetOf(topRow()) : 0;
        freeElsewhere(std::exchange(whole_, std::move(table)));
        keep_ = same;
        return readWindow(top, offset, -1, key);
    }
    freeElsewhere(std::exchange(whole_, nullptr));
    first_ = 0;
    pendingTop_ = pendingChoose_ = -1;
    keep_ = same;
    model_.setTable(std::move(table));
}

Table::Row TableView::topRow() const {
    const QModelIndex top = indexAt(QPoint(0, 0));
    return first_ + static_cast<Table::Row>(std::max(0, top.row()));
}

/// Pixels of the first row in sight that are not.
int TableView::offsetOf(Table::Row top) const {
    return verticalScrollBar()->value() - static_cast<int>(top - first_) * rowHeight(model_.index(0, 0));
}

/// Reads the rows around one, which then is the first in sight, or the one with its key nearby. `offset`: pixels of it
/// that are out of sight; `choose`: a row that is chosen then and stands in the middle, or -1.
void TableView::readWindow(int64_t top, int offset, int64_t choose, std::optional<uint64_t> topKey) {
    pendingTop_ = top;
    pendingChoose_ = choose;
    const int64_t limit = whole_->rowLimit();
    const int64_t first = std::clamp<int64_t>(top - kWindow / 2, 0, std::max<int64_t>(0, limit - kWindow));
    struct Window {
        std::shared_ptr<const Table> whole, rows;
    };
    reading_.ask(
        [whole = whole_, wanted = sortedAs_ == wantedOrder() ? Arrangement() : wantedOrder(),
         first](const Progress& progress) -> std::shared_ptr<const Window> {
            auto sorted = arranged(whole, wanted, progress);
            if (!sorted) return nullptr;
            auto rows = sorted->window(static_cast<Table::Row>(first), kWindow);
            return std::make_shared<const Window>(Window{std::move(sorted), std::move(rows)});
        },
        [this, top, offset, choose, first, topKey,
         sorted = wantedOrder()](const std::shared_ptr<const Window>& window) {
            first_ = static_cast<Table::Row>(first);
            freeElsewhere(std::exchange(whole_, window->whole));
            sortedAs_ = sorted;
            model_.setTable(window->rows);
            pendingTop_ = pendingChoose_ = -1;
            if (choose >= 0) {
                const QModelIndex index = model_.index(static_cast<int>(choose - first), 0);
                setCurrentIndex(index);
                scrollTo(index, QAbstractItemView::PositionAtCenter);
            } else {
                const Table::Row known = topKey ? rowWithKey(*topKey) : Table::kTop;
                const auto row = known == Table::kTop ? static_cast<int>(top - first) : static_cast<int>(known);
                verticalScrollBar()->setValue(row * rowHeight(model_.index(0, 0)) + offset);
            }
            if (next_) return setTable(std::exchange(next_, nullptr), true);
            scrolled();
        });
}

/// As the person wants the whole sorted.
Arrangement TableView::wantedOrder() const {
    Arrangement wanted = model_.arrangement();
    wanted.words.clear();
    return wanted.column < whole_->columns().size() ? wanted : Arrangement();
}

void TableView::sortWhole() {
    if (whole_ && wantedOrder() != sortedAs_) readWindow(0, 0, -1);
}

/// The bar over all rows stands in the place of that over the window's.
void TableView::updateGeometries() {
    if (resetting_) return;  // its header is told first, and all rows would be laid out twice
    QTreeView::updateGeometries();
    const bool part = !hasAllRows();
    bar_->setVisible(part);
    setVerticalScrollBarPolicy(part ? Qt::ScrollBarAlwaysOn : Qt::ScrollBarAsNeeded);
    if (!part) return;
    const QWidget* own = verticalScrollBar()->parentWidget();
    bar_->setGeometry(own->geometry());
    bar_->raise();
    const int height = std::max(1, rowHeight(model_.index(0, 0))), inSight = std::max(1, viewport()->height() / height);
    {
        const QSignalBlocker quiet(bar_);
        bar_->setPageStep(inSight);
        bar_->setRange(0, static_cast<int>(std::clamp<int64_t>(int64_t{whole_->rowLimit()} - inSight, 0, INT_MAX)));
    }
    showTop();
}

bool TableView::hasAllRows() const { return !windowed() || model_.table()->rowLimit() >= whole_->rowLimit(); }

void TableView::showTop() {
    const QSignalBlocker quiet(bar_);
    const QScrollBar& own = *verticalScrollBar();
    const bool last = own.value() == own.maximum() && first_ + model_.table()->rowLimit() == whole_->rowLimit();
    bar_->setValue(last ? bar_->maximum() : static_cast<int>(std::min<int64_t>(topRow(), INT_MAX)));
}

/// Where the window's end comes near, another is read.
void TableView::scrolled() {
    if (!windowed() || reading_.busy()) return;
    const Table::Row top = topRow();
    showTop();
    const uint32_t rows = model_.table()->rowLimit(), past = first_ + rows;
    const bool before = first_ > 0 && top - first_ < kNearItsEnd,
               after = past < whole_->rowLimit() && past - std::min(past, top) < kNearItsEnd;
    if (before || after) readWindow(top, offsetOf(top), -1);
}

/// By the bar over all rows.
void TableView::scrollToRow(int64_t top) {
    if (!windowed()) return;
    const int64_t inSight = bar_->pageStep();
    if (!reading_.busy() && top >= first_ && top + inSight <= first_ + model_.table()->rowLimit())
        verticalScrollBar()->setValue(static_cast<int>(top - first_) * rowHeight(model_.index(0, 0)));
    else
        readWindow(top, 0, -1);
}

/// Once there are columns: as the person left them, or numbers of one width and the first column with the room that is
/// left.
void TableView::dress() {
    header()->setVisible(model_.rowCount() > 0);
    setRootIsDecorated(model_.table() && model_.table()->nested());
    if (!model_.table()) return;
    const auto& columns = model_.table()->columns();
    QStringList keys;
    for (const TableColumn& column : columns) keys << toQString(column.key);
    if (dressedFor_ == keys) return hideColumns();
    dressedFor_.clear();
    for (int column = 0; column < static_cast<int>(columns.size()); ++column) {
        header()->setSectionResizeMode(column, QHeaderView::Interactive);
        header()->resizeSection(column, widthFor(static_cast<size_t>(column)));
    }
    header()->setSectionResizeMode(wideColumn(), QHeaderView::Fixed);
    for (int column = 0; column < header()->count(); ++column)
        header()->moveSection(header()->visualIndex(column), column);
    if (const QByteArray kept = rememberedColumns(keys).get(); !kept.isEmpty()) {
        header()->restoreState(kept);
        header()->setSortIndicatorShown(false);
        sortByColumn(header()->sortIndicatorSection(), header()->sortIndicatorOrder());
    }
    dressedFor_ = keys;
    hideColumns();
}

/// What holds nothing, and what the person does not want.
void TableView::hideColumns() {
    const auto& columns = model_.table()->columns();
    const QStringList chosen = settings::chosenColumns(id_).get();
    for (size_t column = 1; column < columns.size(); ++column) {
        const bool usual = !columns[column].optional;
        const bool wanted = chosen.contains(toQString(columns[column].key)) ? !usual : usual;
        header()->setSectionHidden(static_cast<int>(column), columns[column].empty || !wanted);
    }
    fitWide();
}

int TableView::wideColumn() const {
    const auto& columns = model_.table()->columns();
    for (size_t column = 1; column < columns.size(); ++column)
        if (columns[column].wide) return static_cast<int>(column);
    return 0;
}

/// The wide column has the room that is left, but the others stay near; where there is none, one scrolls to the last.
void TableView::fitWide() {
    if (dressedFor_.isEmpty() || !model_.table()) return;
    const int wide = wideColumn();
    int others = 0;
    for (int column = 0; column < header()->count(); ++column)
        if (column != wide) others += header()->sectionSize(column);
    const int most =
        wide ? QWIDGETSIZE_MAX : std::max(kMostNameWidth, fontMetrics().averageCharWidth() * kMostNameLetters);
    header()->resizeSection(
        wide, std::max(widthFor(static_cast<size_t>(wide)), std::min(viewport()->width() - others, most)));
}

void TableView::resizeEvent(QResizeEvent* event) {
    QTreeView::resizeEvent(event);
    fitWide();
}

/// Those are kept that are not as usual.
void TableView::showColumn(size_t column, bool on) {
    const TableColumn& one = model_.table()->columns()[column];
    QStringList chosen = settings::chosenColumns(id_).get();
    chosen.removeAll(toQString(one.key));
    if (on == one.optional) chosen << toQString(one.key);
    settings::chosenColumns(id_).set(chosen);
    hideColumns();
}

void TableView::openHeaviest(size_t column) {
    const Table* table = model_.table().get();
    if (!table || !table->nested() || column >= table->columns().size()) return;
    const auto weight = [&](const QModelIndex& index) {
        const TableValue value = table->value(TableModel::rowOf(index), column);
        const auto* number = std::get_if<int64_t>(&value);
        const bool waits = table->emphasis(TableModel::rowOf(index), 0) == Emphasis::Muted;
        return number && !waits ? *number : int64_t{-1};
    };
    QModelIndex at = currentIndex().siblingAtColumn(0);
    for (;;) {
        QModelIndex heaviest;
        for (int row = 0; row < model_.rowCount(at); ++row) {
            const QModelIndex below = model_.index(row, 0, at);
            if (weight(below) > 0 && (!heaviest.isValid() || weight(below) > weight(heaviest))) heaviest = below;
        }
        if (!heaviest.isValid()) break;
        if (at.isValid()) expand(at);
        at = heaviest;
    }
    if (!at.isValid()) return;
    setCurrentIndex(at);
    scrollTo(at);
}

/// Numbers have one width; texts what the first of them need.
int TableView::widthFor(size_t column) const {
    const Table& table = *model_.table();
    const Quantity quantity = table.columns()[column].quantity;
    const int title = QFontMetrics(smallFont()).horizontalAdvance(toQString(table.columns()[column].title) + " ▾") + 20;
    if (quantity == Quantity::Instant) return std::max(title, kInstantWidth);
    if (quantity == Quantity::Count || quantity == Quantity::PerMille) return std::max(title, kShortWidth);
    if (quantity != Quantity::Text && quantity != Quantity::Number) return std::max(title, kNumberWidth);
    int width = column == 0 && table.nested() ? kLeastNameWidth : kLeastWidth;
    for (uint32_t at = 0; at < std::min(kMeasured, table.countBelow(Table::kTop)); ++at) {
        const TableValue value = table.value(table.rowBelow(Table::kTop, at), column);
        if (const auto* text = std::get_if<std::string>(&value))
            width = std::max(width, QFontMetrics(boldFont()).horizontalAdvance(toQString(*text)));
    }
    return std::min(kMostTextWidth, std::max(width + 16, title));
}

/// Pages may show one table or another, each with its own columns.
Setting<QByteArray> TableView::rememberedColumns(const QStringList& keys) const {
    return settings::tableColumns(id_ + "/" + keys.value(0), static_cast<int>(keys.size()));
}

void TableView::remember() {
    if (!dressedFor_.isEmpty() && isVisible()) rememberedColumns(dressedFor_).set(header()->saveState());
}

void TableView::keepPlace() {
    resetting_ = true;
    open_.clear();
    hasCurrent_ = false;
    scrolled_ = verticalScrollBar()->value();
    const Table* table = model_.table().get();
    if (!keep_ || !table) return;
    // Only what is open can hold something that is open.
    std::vector<QModelIndex> look{QModelIndex()};
    while (!look.empty()) {
        const QModelIndex parent = look.back();
        look.pop_back();
        if (!table->nested()) break;
        for (int row = 0; row < model_.rowCount(parent); ++row) {
            const QModelIndex index = model_.index(row, 0, parent);
            if (!isExpanded(index)) continue;
            open_.insert(table->keyOf(TableModel::rowOf(index)));
            look.push_back(index);
        }
    }
    if (currentIndex().isValid()) {
        hasCurrent_ = true;
        currentKey_ = table->keyOf(TableModel::rowOf(currentIndex()));
    }
}

void TableView::restorePlace() {
    const Table* table = model_.table().get();
    if (!table) return;
    for (int row = 0; table->belowSpans() && row < model_.rowCount(); ++row) {
        const QModelIndex index = model_.index(row, 0);
        for (int below = 0; below < model_.rowCount(index); ++below) setFirstColumnSpanned(below, index, true);
    }
    const bool keep = keep_;
    keep_ = true;  // a filter, after this
    if (!keep) {
        if (pendingTop_ < 0) verticalScrollBar()->setValue(0);
        return;
    }
    std::vector<QModelIndex> look{QModelIndex()};
    while (!look.empty() && !open_.isEmpty()) {
        const QModelIndex parent = look.back();
        look.pop_back();
        for (int row = 0; row < model_.rowCount(parent); ++row) {
            const QModelIndex index = model_.index(row, 0, parent);
            if (!open_.contains(table->keyOf(TableModel::rowOf(index)))) continue;
            expand(index);
            look.push_back(index);
        }
    }
    if (hasCurrent_ && pendingChoose_ < 0)
        if (const Table::Row row = rowWithKey(currentKey_); row != Table::kTop)
            if (const QModelIndex index = model_.indexOf(row); index.isValid())
                selectionModel()->setCurrentIndex(index,
                                                  QItemSelectionModel::ClearAndSelect | QItemSelectionModel::Rows);
    if (pendingTop_ < 0) verticalScrollBar()->setValue(scrolled_);
}

Table::Row TableView::rowWithKey(uint64_t key) const {
    const Table* table = model_.table().get();
    for (Table::Row row = 0; table && row < table->rowLimit(); ++row)
        if (table->keyOf(row) == key) return row;
    return Table::kTop;
}

void TableView::showRow(Table::Row row) {
    if (whole_) {
        if (!whole_->rowLimit()) return;
        if (!windowed() || row < first_ || row - first_ >= model_.table()->rowLimit())
            return readWindow(std::min(row, whole_->rowLimit() - 1), 0, std::min(row, whole_->rowLimit() - 1));
        row -= first_;
    }
    const QModelIndex index = model_.indexOf(row);
    if (!index.isValid()) return;
    setCurrentIndex(index);
    scrollTo(index, QAbstractItemView::PositionAtCenter);
}

void TableView::showMarker(const MarkerRef& marker) {
    const auto table = whole();
    if (!table || !marker.valid()) return;
    looking_.ask(
        [table, marker](const Progress&) {
            return std::make_shared<const std::optional<Table::Row>>(table->rowOf(marker));
        },
        [this, table](const std::shared_ptr<const std::optional<Table::Row>>& row) {
            if (*row && table == whole()) showRow(**row);
        });
}

QString TableView::textOf(bool all) const {
    if (!model_.table()) return {};
    std::vector<Table::Row> rows;
    if (all) {
        std::vector<QModelIndex> look;
        for (int row = model_.rowCount() - 1; row >= 0; --row) look.push_back(model_.index(row, 0));
        while (!look.empty()) {
            const QModelIndex index = look.back();
            look.pop_back();
            rows.push_back(TableModel::rowOf(index));
            for (int row = model_.rowCount(index) - 1; row >= 0; --row) look.push_back(model_.index(row, 0, index));
        }
    } else {
        QModelIndexList chosenRows = selectionModel()->selectedRows();
        std::sort(chosenRows.begin(), chosenRows.end(), [this](const QModelIndex& a, const QModelIndex& b) {
            return visualRect(a).top() < visualRect(b).top();
        });
        for (const QModelIndex& index : chosenRows) rows.push_back(TableModel::rowOf(index));
    }
    std::vector<size_t> columns;
    for (int at = 0; at < header()->count(); ++at)
        if (const int column = header()->logicalIndex(at); !header()->isSectionHidden(column))
            columns.push_back(static_cast<size_t>(column));
    std::ostringstream text;
    writeForClipboard(*model_.table(), rows, columns, text);
    return toQString(text.str());
}

void TableView::copyRows() const { QApplication::clipboard()->setText(textOf(false)); }

void TableView::saveAs(const QString& path) {
    const auto table = whole();
    if (!table) return;
    const auto write = [table, to = path.toStdString(), json = path.endsWith(".json", Qt::CaseInsensitive)](
                           const Progress& progress) -> std::shared_ptr<const bool> {
        const std::string part = to + ".part";  // what was there before stays until the whole is written
        std::ofstream out(part, std::ios::binary | std::ios::trunc);
        const bool whole = json ? writeJson(*table, out, progress) : writeCsv(*table, out, progress);
        out.close();
        std::error_code failed;
        if (whole && out) std::filesystem::rename(part, to, failed);
        const bool saved = whole && out && !failed;
        if (!saved) std::filesystem::remove(part, failed);
        return whole ? std::make_shared<const bool>(saved) : nullptr;
    };
    saving_.ask(write, [this, path](const std::shared_ptr<const bool>& saved) {
        emit said(*saved ? tr("Saved as %1").arg(shown(path))
                         : tr("%1 could not be written. Is there room, and may you write there?").arg(shown(path)));
    });
}

void TableView::askWhereToSave() {
    const QString path = QFileDialog::getSaveFileName(this, tr("Save the table"), id_ + ".csv",
                                                      tr("Comma-separated values (*.csv);;JSON (*.json)"));
    if (!path.isEmpty()) saveAs(path);
}

void TableView::fillColumnMenu(QMenu& menu) {
    if (!model_.table()) return;
    for (int column = 1; column < model_.columnCount(); ++column) {
        if (model_.table()->columns()[static_cast<size_t>(column)].empty) continue;
        QAction* action = menu.addAction(model_.headerData(column, Qt::Horizontal, Qt::DisplayRole).toString());
        action->setCheckable(true);
        action->setChecked(!header()->isSectionHidden(column));
        connect(action, &QAction::toggled, this,
                [this, column](bool on) { showColumn(static_cast<size_t>(column), on); });
    }
}

void TableView::fillMenu(QMenu& menu) {
    const bool any = model_.rowCount() > 0;
    const auto add = [&](const QString& name, bool enabled, auto&& act) {
        QAction* action = menu.addAction(name, this, act);
        action->setEnabled(enabled);
        return action;
    };
    QAction* copy = add(tr("&Copy rows"), selectionModel()->hasSelection(), [this] { copyRows(); });
    copy->setShortcut(QKeySequence::Copy);
    copy->setShortcutContext(Qt::WidgetShortcut);  // only says what key the table takes itself
    add(tr("Copy &all rows"), any && hasAllRows(), [this] { QApplication::clipboard()->setText(textOf(true)); });
    add(tr("&Save as…"), any, [this] { askWhereToSave(); });
    if (model_.table() && model_.table()->nested()) {
        menu.addSeparator();
        add(tr("Open the &heaviest way down"), any, [this] { openHeaviest(1); })->setShortcut(kHeaviest);
        add(tr("&Expand all below"), currentIndex().isValid(), [this] { expandRecursively(currentIndex()); });
        add(tr("C&ollapse all"), any, [this] { collapseAll(); });
    }
    menu.addSeparator();
    fillColumnMenu(*menu.addMenu(tr("Co&lumns")));
}

void TableView::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    emit menuOpens(&menu);
    fillMenu(menu);
    menu.exec(event->globalPos());
}

void TableView::setEmptyText(const QString& sentence) {
    emptyText_ = sentence;
    viewport()->update();
}

void TableView::showLine(std::optional<Table::Row> row, bool bring) {
    line_ = row;
    viewport()->update();
    if (!row || !bring || !windowed()) return;
    const int64_t inSight = std::max<int64_t>(1, bar_->pageStep()), top = topRow();
    if (*row < top || *row >= top + inSight) scrollToRow(std::max<int64_t>(0, *row - inSight / 2));
}

void TableView::paintLine() {
    if (!line_ || *line_ < first_ || *line_ > first_ + static_cast<Table::Row>(model_.rowCount())) return;
    const auto row = static_cast<int>(*line_ - first_);
    const bool last = row == model_.rowCount();
    const QRect box = visualRect(model_.index(last ? row - 1 : row, 0));
    if (!box.isValid()) return;
    QPainter painter(viewport());
    painter.setPen(theme().text);
    const int y = last ? box.bottom() : box.top();
    painter.drawLine(0, y, viewport()->width(), y);
}

void TableView::paintEvent(QPaintEvent* event) {
    QTreeView::paintEvent(event);
    if (model_.rowCount() > 0) return paintLine();
    QPainter painter(viewport());
    painter.setPen(theme().muted);
    painter.setFont(textFont());
    painter.drawText(viewport()->rect().adjusted(16, 4, -16, -4), Qt::AlignCenter | Qt::TextWordWrap,
                     model_.filtered() ? tr("No row holds these letters.") : emptyText_);
}

void TableView::keyPressEvent(QKeyEvent* event) {
    if (event->matches(QKeySequence::Copy)) return copyRows();
    if (event->keyCombination() == kHeaviest) return openHeaviest(1);
    if (windowed() && event->modifiers() == Qt::NoModifier) {
        if (event->key() == Qt::Key_Home) return showRow(0);
        if (event->key() == Qt::Key_End) return showRow(whole_->rowLimit() - 1);
    }
    QTreeView::keyPressEvent(event);
}

}  // namespace fugato
