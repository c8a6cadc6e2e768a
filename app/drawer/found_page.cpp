// SPDX-License-Identifier: GPL-3.0-or-later
#include "found_page.h"

#include "app/document/document.h"
#include "app/selection/selection.h"
#include "app/theme/words.h"
#include "core/ask/marker_statistics.h"
#include "core/explain/words/sentences.h"
#include "table_looks.h"

namespace fugato {

namespace {
constexpr int kKindRole = Qt::UserRole + 1, kNumberRole = Qt::UserRole + 2;
enum Kind { kSite = 1, kArgument, kPoint };
}  // namespace

DrawerPage::Words FoundPage::words() const {
    return {"search", tr("Search results"), tr("Search results"),
            tr("Markers, arguments and points that match the search")};
}

FoundPage::FoundPage(Document& document, Selection& selection, QWidget* parent)
    : DrawerPage(parent),
      document_(document),
      selection_(selection),
      tree_(new QTreeView(this)),
      title_(plainLabel(this)),
      about_(plainLabel(this)) {
    tree_->setModel(&model_);
    tree_->setAccessibleName(tr("Search results"));
    model_.setColumnCount(kColumns);
    dressTable(*tree_, kColumns, 104);
    tree_->setSortingEnabled(false);
    tree_->header()->hide();
    layOutPage(*this, *title_, *about_, *tree_);
    title_->setText(tr("Search"));
    about_->setText(tr("Ctrl+F: names of markers, words in points, values of arguments, or key=value"));
    connect(&document, &Document::recordingChanged, this, [this] {
        asking_.silence();
        model_.clear();
        tree_->header()->hide();
        found_.reset();
        title_->setText(tr("Search"));
        about_->setText(tr("Ctrl+F: names of markers, words in points, values of arguments, or key=value"));
    });
    connect(&asking_, &Asking::progressed, this,
            [this](double part) { about_->setText(tr("searching, %1 %").arg(part * 100, 0, 'f', 0)); });
    connect(tree_, &QTreeView::clicked, this, [this](const QModelIndex& index) { follow(index, false); });
    connect(tree_, &QTreeView::activated, this, [this](const QModelIndex& index) { follow(index, true); });
}

QString FoundPage::about() const { return about_->text(); }

void FoundPage::search(const QString& words) {
    const auto recording = document_.recording();
    if (!recording) return;
    title_->setText(tr("“%1”").arg(words));
    about_->setText(tr("searching…"));
    asking_.ask([recording, text = words.toStdString()](
                    const Progress& progress) { return fugato::search(*recording, text, progress); },
                [this, recording](const std::shared_ptr<const Found>& found) { take(recording, found); });
}

void FoundPage::take(const std::shared_ptr<const Recording>& recording, const std::shared_ptr<const Found>& found) {
    recording_ = recording;
    found_ = found;
    const Recording& r = *recording;
    model_.clear();
    model_.setHorizontalHeaderLabels({tr("What"), tr("Count"), tr("Time")});
    dressTable(*tree_, kColumns, 104);
    tree_->setSortingEnabled(false);
    tree_->header()->setVisible(!found->markers.empty() || found->allArguments || found->allPoints);
    const auto right = [](const QString& text) {
        auto* item = new QStandardItem(text);
        item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        return item;
    };
    const auto section = [&](const QString& name, uint64_t all, size_t there, Kind kind, auto&& row) {
        if (!all) return;
        auto* head = new QStandardItem(name);
        head->setFont(boldFont());
        const size_t shown = std::min(there, kMostShown);
        for (size_t i = 0; i < shown; ++i) {
            QList<QStandardItem*> cells = row(i);
            cells.front()->setData(int{kind}, kKindRole);
            cells.front()->setData(qulonglong{i}, kNumberRole);
            head->appendRow(cells);
        }
        if (shown < all) {
            auto* more = new QStandardItem(tr("and %1 more: search for more letters").arg(q(countText(all - shown))));
            more->setForeground(theme().muted);
            head->appendRow(more);
        }
        model_.appendRow({head, right(q(countText(all))), right({})});
        tree_->expand(head->index());
    };
    section(tr("Markers"), found->markers.size(), found->markers.size(), kSite, [&](size_t i) {
        const FoundMarker& marker = found->markers[i];
        const Site& site = r.sites[marker.site];
        auto* name = new QStandardItem(q(site.name) + (site.category.empty() ? QString() : " · " + q(site.category)));
        name->setToolTip(plainTip(q(site.file) + (site.line ? ":" + QString::number(site.line) : QString())));
        return QList<QStandardItem*>{name, right(q(countText(marker.count))), right(q(durationText(marker.total)))};
    });
    section(tr("Arguments"), found->allArguments, found->arguments.size(), kArgument, [&](size_t i) {
        const FoundArgument& argument = found->arguments[i];
        const Argument& said = r.lanes[argument.marker.lane].arguments[argument.argument];
        auto* name =
            new QStandardItem(tr("%1 = %2 in %3 on %4")
                                  .arg(q(r.keys[said.key]), q(r.valueText(said)).left(80),
                                       q(r.nameOf(r.pathOf(argument.marker))), q(r.lanes[argument.marker.lane].name)));
        return QList<QStandardItem*>{name, right({}), right(q(durationText(argument.begin - r.begin)))};
    });
    section(tr("Points"), found->allPoints, found->points.size(), kPoint, [&](size_t i) {
        const Point& point = r.points[found->points[i].point];
        auto* name = new QStandardItem(q(r.text(point.text)).left(160) + tr(" on ") + q(r.lanes[point.lane].name));
        return QList<QStandardItem*>{name, right({}), right(q(durationText(point.time - r.begin)))};
    });
    const bool nothing = found->markers.empty() && !found->allArguments && !found->allPoints;
    QStringList words;
    const auto count = [&](uint64_t n, const char* one, const char* many) {
        if (n) words << q(plural(n, one, many));
    };
    count(found->markers.size(), "marker", "markers");
    count(found->allArguments, "argument", "arguments");
    count(found->allPoints, "point", "points");
    about_->setText(nothing ? tr("nothing holds these letters; key=value asks for arguments") : words.join(", "));
    if (!found->markers.empty()) {
        const QModelIndex first = model_.index(0, 0, model_.index(0, 0));
        tree_->setCurrentIndex(first);
        follow(first, false);
    }
}

void FoundPage::follow(const QModelIndex& index, bool zoom) {
    const QModelIndex first = index.siblingAtColumn(0);
    const auto number = first.data(kNumberRole).toULongLong();
    if (!found_ || recording_ != document_.recording()) return;
    switch (first.data(kKindRole).toInt()) {
        case kSite: {
            const uint32_t site = found_->markers[number].site;
            selection_.chooseSite(site);
            if (!zoom) return;
            const auto longest = longestOccurrences(*recording_, site, wholeOf(*recording_), 1);
            if (longest && !longest->empty()) selection_.showMarker(longest->front().marker);
            return;
        }
        case kArgument:
            if (zoom)
                selection_.showMarker(found_->arguments[number].marker);
            else
                selection_.lookAtMarker(found_->arguments[number].marker);
            return;
        case kPoint: {
            const int64_t time = recording_->points[found_->points[number].point].time,
                          half = (selection_.view().end - selection_.view().begin) / 2;
            selection_.showSpan(time - half, time + half, true);
            return;
        }
        default: return;
    }
}

}  // namespace fugato
