// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_page.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QVBoxLayout>

#include "app/document/document.h"
#include "app/selection/selection.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

DrawerPage::Words FramePage::words() const {
    return {"frame", tr("Frame"), tr("Table of the frame"), tr("The selected frame's markers against usual ones")};
}

FramePage::FramePage(Document& document, Selection& selection, QWidget* parent)
    : DrawerPage(parent),
      document_(document),
      selection_(selection),
      tree_(new QTreeView(this)),
      title_(plainLabel(tr("Markers"), this)),
      about_(plainLabel(this)) {
    sorted_.setSourceModel(&model_);
    sorted_.setSortRole(FrameTableModel::kSortRole);
    tree_->setModel(&sorted_);
    tree_->setUniformRowHeights(true);
    tree_->setIndentation(16);
    tree_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    tree_->setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    tree_->setSortingEnabled(true);
    tree_->sortByColumn(FrameTableModel::kExcess, Qt::DescendingOrder);
    tree_->setAccessibleName(tr("Markers of the chosen frame against usual"));
    tree_->setFont(textFont());
    auto* header = tree_->header();
    header->setFont(smallFont());
    header->setStretchLastSection(false);
    header->setSectionResizeMode(QHeaderView::Interactive);
    header->setSectionResizeMode(FrameTableModel::kMarker, QHeaderView::Stretch);
    header->setMinimumSectionSize(48);
    for (int column = 1; column < FrameTableModel::kColumns; ++column) header->resizeSection(column, 94);

    title_->setFont(boldFont());
    about_->setFont(smallFont());
    auto* head = new QHBoxLayout;
    head->setContentsMargins(12, 5, 12, 3);
    head->addWidget(title_);
    head->addStretch();
    head->addWidget(about_);
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(0);
    all->addLayout(head);
    all->addWidget(tree_);

    connect(&document, &Document::recordingChanged, this, &FramePage::takeChoice);
    connect(&document, &Document::explanationChanged, this, &FramePage::takeChoice);
    connect(&selection, &Selection::chosenChanged, this, &FramePage::takeChoice);
    connect(tree_, &QTreeView::clicked, this, [this](const QModelIndex& index) { follow(index, false); });
    connect(tree_, &QTreeView::activated, this, [this](const QModelIndex& index) { follow(index, true); });
    takeChoice();
}

void FramePage::takeChoice() {
    const auto& e = document_.explanation();
    if (!e || selection_.frame() >= e->frames.size()) {
        model_.clear();
        tree_->header()->hide();
        shownFrame_ = kNone;
        shown_ = nullptr;
        about_->setText(document_.recording() ? tr("no frame is chosen")
                                              : tr("the chosen frame's markers against usual ones"));
        return;
    }
    if (shown_ != e.get() || shownFrame_ != selection_.frame()) {
        shown_ = e.get();
        shownFrame_ = selection_.frame();
        model_.setTable(e, shownFrame_);
        tree_->header()->show();
        about_->setText(tr("frame %1 against usual").arg(q(countText(shownFrame_))));
        openExcess({});
    }
    if (selection_.cause() >= e->causes.size()) return;
    const Cause& cause = e->causes[selection_.cause()];
    for (const uint32_t lane : e->recording->groups[cause.group].lanes) {
        const QModelIndex found = sorted_.mapFromSource(model_.find(lane, cause.path));
        if (!found.isValid()) continue;
        tree_->setCurrentIndex(found);
        tree_->scrollTo(found, QAbstractItemView::PositionAtCenter);
        break;
    }
}

/// Opens the rows that hold a good part of the excess, so that the table starts where it matters.
void FramePage::openExcess(const QModelIndex& parent) {
    for (int row = 0; row < sorted_.rowCount(parent); ++row) {
        const QModelIndex index = sorted_.index(row, 0, parent);
        const FrameTableRow* marker = model_.rowAt(sorted_.mapToSource(index));
        if (marker->wait ||
            marker->excess() <
                std::max<int64_t>(1'000'000, document_.explanation()->frame(shownFrame_).duration() / 20))
            continue;
        tree_->expand(index);
        openExcess(index);
    }
}

void FramePage::follow(const QModelIndex& index, bool zoom) {
    const FrameTableRow* row = model_.rowAt(sorted_.mapToSource(index));
    if (!row || !row->first.valid()) return;
    zoom ? selection_.showMarker(row->first) : selection_.chooseMarker(row->first);
}

}  // namespace fugato
