// SPDX-License-Identifier: GPL-3.0-or-later
#include "markers_page.h"

#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

DrawerPage::Words MarkersPage::words() const {
    return {"markers",      tr("Markers"),
            tr("&Markers"), tr("The markers in what is looked at, nested or from the leaves up, against usual"),
            tr("Work"),     About::Scope};
}

MarkersPage::MarkersPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "markers", tr("Markers in what is looked at"), kMarkerExcess, parent),
      by_(addChoice(tr("How the markers are put together"),
                    tr("Nested from the outermost marker in; from the leaves up: each marker's own time, and below it "
                       "who called it; callers and callees: of the selected marker"),
                    {{tr("nested, by lane"), int(MarkersBy::Lane)},
                     {tr("nested, by role"), int(MarkersBy::Role)},
                     {tr("from the leaves up"), int(MarkersBy::Leaves)},
                     {tr("callers and callees"), int(MarkersBy::Around)},
                     {tr("flat, by category"), int(MarkersBy::Category)},
                     {tr("flat, by marker"), int(MarkersBy::Marker)}},
                    settings::markersBy())) {
    followScope(false);
    connect(by_, &QComboBox::activated, this, [this] {
        const bool own = by_->currentData().toInt() == int(MarkersBy::Leaves);  // it begins with who pays
        view_->sortByColumn(own ? kMarkerSelf : kMarkerExcess, Qt::DescendingOrder);
    });
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_ = {};
        clear(tr("Markers"), document_.recording() ? QString() : tr("The markers in what is looked at."));
        askSoon();
    });
    connect(&selection, &Selection::siteChanged, this, &MarkersPage::askAtOnce);
    whenChanged([this] { askSoon(); });
    clear(tr("Markers"), tr("The markers in what is looked at, against usual."));
}

void MarkersPage::showEvent(QShowEvent*) { askAtOnce(); }

void MarkersPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const auto chosen = scopeNow();
    if (!chosen) {
        asked_ = {};
        return clear(tr("Markers"), toQString(chosen.failure().sentence));
    }
    const auto by = static_cast<MarkersBy>(by_->currentData().toInt());
    const auto e =
        document_.explanation() && document_.explanation()->recording == recording ? document_.explanation() : nullptr;
    Asked asked{recording, e, chosen->scope, by, by == MarkersBy::Around ? selection_.site() : kNone};
    if (by == MarkersBy::Around && asked.site == kNone) {
        asked_ = {};
        return clear(tr("Markers"), tr("No marker is selected. Click one in the lanes or in a table."));
    }
    if (asked == asked_) {
        if (!view_->hasFocus()) showChosen();  // who goes through the rows stays where that led
        return;
    }
    const bool sameThing = asked_.recording && asked_.scope == asked.scope && asked_.by == by &&
                           asked_.site == asked.site && view_->table();
    asked_ = std::move(asked);
    words_ = toQString(chosen->words);
    if (e && (!usual_ || usual_->explanation() != e)) usual_ = std::make_shared<UsualMarkers>(e);
    query_.ask(
        [asked = asked_, usual = e ? usual_ : nullptr](const Progress& progress) -> std::shared_ptr<const Table> {
            std::shared_ptr<const NestedMarkers> nested;
            if (usual) {
                nested = usual->of(asked.scope, progress);
            } else if (const auto made = nestedMarkers(*asked.recording, asked.scope, progress)) {
                addRanAndAllocated(*asked.recording, *made);
                nested = made;
            }
            if (!nested) return nullptr;
            return markerTable(asked.recording, usual ? usual->explanation()->symbols : nullptr,
                               groupedMarkers(*asked.recording, nested, asked.by, asked.site));
        },
        [this, sameThing](const std::shared_ptr<const Table>& table) { show(table, sameThing); });
}

void MarkersPage::show(const std::shared_ptr<const Table>& table, bool same) {
    view_->setEmptyText(asked_.by == MarkersBy::Around ? tr("The selected marker does not occur there.")
                                                       : tr("There are no markers there."));
    showTable(table, same, [this] { openUsefully(); });
    const bool around = asked_.by == MarkersBy::Around;
    title_->setText(around ? tr("Around %1").arg(toQString(asked_.recording->sites[asked_.site].name))
                           : capitalised(words_));
    about_->setText(around ? words_ : QString());
}

/// What is above usual, or else the heaviest part, is open at first.
void MarkersPage::openUsefully() {
    if (view_->table()->columns()[kMarkerExcess].empty) return view_->openHeaviest(kMarkerTotal);
    int64_t frames = 1, length = asked_.scope.length();
    if (const auto& e = asked_.explanation; e && selection_.frame() < e->frames.size())
        frames = std::max<int64_t>(1, length / std::max<int64_t>(1, e->frame(selection_.frame()).duration()));
    openExcess({}, std::max<int64_t>(1'000'000 * frames, length / 20));
    showChosen();
}

/// The row of the selected marker, or else of the cause.
void MarkersPage::showChosen() {
    if (asked_.by != MarkersBy::Lane || !view_->table()) return;
    const auto show = [&](uint32_t lane, PathId path) {
        const Table::Row row = view_->rowWithKey(keyOfPath(lane, path));
        if (row != Table::kTop) view_->showRow(row);
        return row != Table::kTop;
    };
    const MarkerRef& marker = selection_.marker();
    if (holds(*asked_.recording, marker) && show(marker.lane, asked_.recording->pathOf(marker))) return;
    if (!asked_.explanation || selection_.cause() >= asked_.explanation->causes.size()) return;
    const Cause& cause = asked_.explanation->causes[selection_.cause()];
    for (const uint32_t lane : asked_.recording->groups[cause.group].lanes)
        if (show(lane, cause.path)) return;
}

/// Opens the rows that hold a good part of the excess, so that the table starts where it matters.
void MarkersPage::openExcess(const QModelIndex& parent, int64_t least) {
    const TableModel& rows = view_->rows();
    for (int at = 0; at < rows.rowCount(parent); ++at) {
        const QModelIndex index = rows.index(at, 0, parent);
        const Table::Row row = TableModel::rowOf(index);
        const TableValue excess = view_->table()->value(row, kMarkerExcess);
        if (view_->table()->emphasis(row, kMarkerName) == Emphasis::Muted || !std::holds_alternative<int64_t>(excess) ||
            std::get<int64_t>(excess) < least)
            continue;
        view_->expand(index);
        openExcess(index, least);
    }
}

}  // namespace fugato
