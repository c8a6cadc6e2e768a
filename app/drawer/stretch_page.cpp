// SPDX-License-Identifier: GPL-3.0-or-later
#include "stretch_page.h"

#include <QElapsedTimer>

#include "app/document/document.h"
#include "app/selection/selection.h"
#include "app/theme/words.h"
#include "core/ask/marker_statistics.h"
#include "core/explain/words/sentences.h"
#include "table_looks.h"

namespace fugato {

namespace {
constexpr int kAfterMs = 120;
}

DrawerPage::Words StretchPage::words() const {
    return {"stretch", tr("Selection"), tr("Table of the selection"),
            tr("Everything nested in the selected time, or in what is in view")};
}

StretchPage::StretchPage(Document& document, Selection& selection, QWidget* parent)
    : DrawerPage(parent),
      document_(document),
      selection_(selection),
      tree_(new QTreeView(this)),
      title_(plainLabel(this)),
      about_(plainLabel(this)) {
    sorted_.setSourceModel(&model_);
    sorted_.setSortRole(StretchTableModel::kSortRole);
    tree_->setModel(&sorted_);
    tree_->setAccessibleName(tr("Markers of a stretch of time"));
    dressTable(*tree_, StretchTableModel::kColumns, 86);
    tree_->sortByColumn(StretchTableModel::kTotal, Qt::DescendingOrder);
    layOutPage(*this, *title_, *about_, *tree_);
    soon_.setSingleShot(true);
    soon_.setInterval(kAfterMs);
    connect(&soon_, &QTimer::timeout, this, &StretchPage::ask);
    connect(&document, &Document::recordingChanged, this, &StretchPage::stretchMoved);
    connect(&document, &Document::recordingGrew, this, &StretchPage::stretchMoved);
    connect(&selection, &Selection::viewChanged, this, &StretchPage::stretchMoved);
    connect(&selection, &Selection::stretchChanged, this, &StretchPage::stretchMoved);
    connect(&asking_, &Asking::progressed, this,
            [this](double part) { about_->setText(tr("adding up, %1 %").arg(part * 100, 0, 'f', 0)); });
    connect(tree_, &QTreeView::clicked, this, [this](const QModelIndex& index) { follow(index, false); });
    connect(tree_, &QTreeView::activated, this, [this](const QModelIndex& index) { follow(index, true); });
    title_->setText(tr("A stretch of time"));
    about_->setText(tr("Shift and drag in the lanes chooses one"));
}

QString StretchPage::title() const { return title_->text(); }
QString StretchPage::about() const { return about_->text(); }

void StretchPage::showEvent(QShowEvent*) { stretchMoved(); }

void StretchPage::stretchMoved() {
    if (isVisible()) soon_.start();
}

void StretchPage::ask() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const std::optional<Stretch> chosen = selection_.stretch();
    const Stretch stretch = chosen ? *chosen : Stretch{selection_.view().begin, selection_.view().end};
    title_->setText(tr("%1 %2, from %3 to %4")
                        .arg(chosen ? tr("Chosen:") : tr("In view:"), q(durationText(stretch.end - stretch.begin)),
                             q(durationText(stretch.begin - recording->begin)),
                             q(durationText(stretch.end - recording->begin))));
    if (asked_ == recording.get() && askedStretch_ == stretch) return;
    asked_ = recording.get();
    askedStretch_ = stretch;
    asking_.ask(
        [recording, stretch](const Progress& progress) { return tableOfStretch(*recording, stretch, progress); },
        [this, recording](const std::shared_ptr<const StretchTable>& table) {
            model_.setTable(recording, table);
            uint64_t markers = 0;
            for (const StretchRow& row : table->rows)
                if (row.path) markers += row.count;
            about_->setText(table->lanes.empty() ? tr("no markers in it")
                                                 : q(plural(markers, "marker", "markers")) + tr(" in ") +
                                                       q(plural(table->lanes.size(), "lane", "lanes")));
            // The lane with the most time is opened as far as one marker holds most of it.
            QModelIndex at = sorted_.index(0, 0);
            for (int depth = 0; at.isValid() && depth < 3; ++depth) {
                tree_->expand(at);
                at = sorted_.index(0, 0, at);
            }
        });
}

void StretchPage::follow(const QModelIndex& index, bool zoom) {
    const StretchRow* row = model_.rowAt(sorted_.mapToSource(index));
    if (!row || !row->path) return;
    const Recording& r = *document_.recording();
    if (!zoom) return selection_.chooseSite(r.paths[row->path].site);
    const auto longest = longestOccurrences(r, r.paths[row->path].site, askedStretch_, 1);
    if (longest && !longest->empty()) selection_.showMarker(longest->front().marker);
}

}  // namespace fugato
