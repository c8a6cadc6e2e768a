// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_page.h"

#include "app/document/document.h"
#include "app/selection/selection.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"
#include "table_looks.h"

namespace fugato {

DrawerPage::Words MarkerPage::words() const {
    return {"marker", tr("Marker"), tr("Figures of the marker"),
            tr("How often and how long the selected marker runs, its longest occurrences")};
}

MarkerPage::MarkerPage(Document& document, Selection& selection, QWidget* parent)
    : DrawerPage(parent),
      document_(document),
      selection_(selection),
      tree_(new QTreeView(this)),
      title_(plainLabel(this)),
      about_(plainLabel(this)),
      figures_(plainLabel(this)) {
    tree_->setModel(&model_);
    model_.setSortRole(kSortRole);
    model_.setColumnCount(kColumns);
    tree_->setRootIsDecorated(false);
    tree_->setAccessibleName(tr("Longest occurrences of the chosen marker"));
    dressTable(*tree_, kColumns, 104);
    tree_->header()->hide();
    layOutPage(*this, *title_, *about_, *tree_);
    figures_->setFont(textFont());
    figures_->setWordWrap(true);
    figures_->setTextFormat(Qt::PlainText);
    figures_->setContentsMargins(12, 0, 12, 5);
    figures_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    static_cast<QVBoxLayout*>(layout())->insertWidget(1, figures_);
    title_->setText(tr("No marker is chosen"));
    about_->setText(tr("click one in the lanes or in a table, or search for one"));
    for (const auto signal : {&Document::recordingChanged, &Document::recordingGrew})
        connect(&document, signal, this, &MarkerPage::ask);
    connect(&document, &Document::explanationChanged, this, &MarkerPage::ask);
    for (const auto signal : {&Selection::chosenChanged, &Selection::siteChanged, &Selection::stretchChanged})
        connect(&selection, signal, this, &MarkerPage::ask);
    connect(&asking_, &Asking::progressed, this,
            [this](double part) { about_->setText(tr("adding up, %1 %").arg(part * 100, 0, 'f', 0)); });
    connect(tree_, &QTreeView::clicked, this,
            [this](const QModelIndex& index) { selection_.lookAtMarker(markerAt(index)); });
    connect(tree_, &QTreeView::activated, this,
            [this](const QModelIndex& index) { selection_.showMarker(markerAt(index)); });
}

QString MarkerPage::title() const { return title_->text(); }
QString MarkerPage::figures() const { return figures_->text(); }

void MarkerPage::showEvent(QShowEvent*) { ask(); }

MarkerRef MarkerPage::markerAt(const QModelIndex& index) const {
    const auto at = index.siblingAtColumn(0).data(kMarkerRole).toULongLong();
    return at < shown_.size() ? shown_[at].marker : MarkerRef{};
}

void MarkerPage::ask() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const uint32_t site = selection_.site();
    if (site >= recording->sites.size()) {
        model_.clear();
        tree_->header()->hide();
        statistics_.reset();
        asked_ = nullptr;
        figures_->clear();
        title_->setText(tr("No marker is chosen"));
        about_->setText(tr("click one in the lanes or in a table, or search for one"));
        return;
    }
    const Stretch stretch = selection_.stretch().value_or(wholeOf(*recording));
    if (asked_ == recording.get() && askedSite_ == site && askedStretch_ == stretch) return;
    asked_ = recording.get();
    askedSite_ = site;
    askedStretch_ = stretch;
    title_->setText(q(recording->sites[site].name));
    about_->setText(tr("adding up…"));
    const uint32_t series = document_.series();
    asking_.ask(
        [recording, site, stretch, series](const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            answer->statistics = statisticsOf(*recording, site, stretch, series, progress);
            if (answer->statistics)
                answer->longest = longestOccurrences(*recording, site, stretch, kMostShown, progress);
            return answer->longest ? answer : nullptr;
        },
        [this, recording](const std::shared_ptr<const Answer>& answer) { take(recording, *answer); });
}

void MarkerPage::take(const std::shared_ptr<const Recording>& recording, const Answer& answer) {
    const Recording& r = *recording;
    const MarkerStatistics& s = *answer.statistics;
    statistics_ = answer.statistics;
    shown_ = *answer.longest;
    const Site& site = r.sites[s.site];
    about_->setText(selection_.stretch() ? tr("in the chosen stretch") : tr("in the whole recording"));
    QString words;
    if (!s.count) {
        words = tr("It does not occur there.");
    } else {
        words = tr("%1, %2 in all, %3 of it itself. Middle %4, 95th percentile %5, 99th %6, longest %7, shortest %8.")
                    .arg(q(plural(s.count, "time", "times")), q(durationText(s.total)), q(durationText(s.self)),
                         q(durationText(s.middle)), q(durationText(s.p95)), q(durationText(s.p99)),
                         q(durationText(s.longest)), q(durationText(s.shortest)));
        if (s.framesWithIt)
            words += tr(" In %1 of %2: %3 a frame, %4; most in frame %5, %6.")
                         .arg(q(countText(s.framesWithIt)), q(plural(s.frames, "frame", "frames")))
                         .arg(s.callsPerFrame, 0, 'f', s.callsPerFrame < 10 ? 1 : 0)
                         .arg(q(durationText(static_cast<int64_t>(s.nsPerFrame))), q(countText(s.worstFrame)),
                              q(durationText(s.worstFrameNs)));
    }
    if (!site.description.empty()) words += " " + q(site.description);
    figures_->setText(words);

    model_.clear();
    model_.setHorizontalHeaderLabels(
        {shown_.size() < s.count ? tr("The %1 longest").arg(q(countText(shown_.size()))) : tr("All"), tr("Duration"),
         tr("Begin"), tr("Frame")});
    dressTable(*tree_, kColumns, 104);
    tree_->header()->show();
    const uint32_t series = document_.series();
    const Series* frames = series < r.series.size() ? &r.series[series] : nullptr;
    QList<QStandardItem*> root;
    for (size_t i = 0; i < shown_.size(); ++i) {
        const Occurrence& o = shown_[i];
        const PathId above = r.paths[r.pathOf(o.marker)].parent;
        const uint32_t frame = frames ? frames->frameAt(o.begin) : kNone;
        const bool inside = frame != kNone && frames->frames[frame].end > o.begin;
        const auto cell = [](const QString& text, const QVariant& sort, bool right) {
            auto* item = new QStandardItem(text);
            item->setData(sort, kSortRole);
            if (right) item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
            return item;
        };
        const QString lane = q(r.lanes[o.marker.lane].name);
        const QString where = above ? lane + tr(", in ") + q(r.pathText(above)) : lane;
        auto* first = cell(where, where, false);
        first->setData(qulonglong{i}, kMarkerRole);
        model_.appendRow({first, cell(q(durationText(o.duration)), qlonglong{o.duration}, true),
                          cell(q(durationText(o.begin - r.begin)), qlonglong{o.begin}, true),
                          cell(inside ? q(countText(frame)) : QString(), inside ? qlonglong{frame} : -1, true)});
    }
    tree_->sortByColumn(kDuration, Qt::DescendingOrder);
}

}  // namespace fugato
