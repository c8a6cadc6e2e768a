// SPDX-License-Identifier: GPL-3.0-or-later
#include "waits_page.h"

#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

DrawerPage::Words WaitsPage::words() const {
    return {"waits",       tr("Waits"),
            tr("&Waits"),  tr("What was waited for, how often and how long, and who held it meanwhile"),
            tr("Waiting"), About::Scope};
}

WaitsPage::WaitsPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "waits", tr("Waits in what is looked at"), kWaitTotal, parent),
      by_(addChoice(tr("How the waits are put together"),
                    tr("By what was waited for, with who held it; by the lane or by the marker that waited"),
                    {{tr("by lock or other object"), int(WaitsBy::Object)},
                     {tr("by lane"), int(WaitsBy::Lane)},
                     {tr("by marker"), int(WaitsBy::Marker)}},
                    settings::waitsBy())) {
    followScope(false);
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_.reset();
        clear(tr("Waits"), QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    clear(tr("Waits"), tr("The waits in what is looked at."));
}

/// What was held by others is open, and what the selected cause waited for is chosen.
void WaitsPage::openHeld() {
    constexpr int kMostOpen = 20;
    const TableModel& rows = view_->rows();
    const auto& e = document_.explanation();
    const uint32_t object = e && selection_.cause() < e->causes.size() ? e->causes[selection_.cause()].object : kNone;
    const QString wanted = object < asked_->objects.size() ? toQString(asked_->objects[object]) : QString();
    for (int at = 0, open = 0; at < rows.rowCount() && open < kMostOpen; ++at) {
        const QModelIndex index = rows.index(at, 0);
        bool held = false;
        for (int below = 0; below < rows.rowCount(index); ++below)
            held |= waits_->rows[TableModel::rowOf(rows.index(below, 0, index))].of == WaitRow::Holds;
        if (!held) continue;
        view_->expand(index);
        ++open;
        if (index.data().toString() == wanted) view_->showRow(TableModel::rowOf(index));
    }
}

void WaitsPage::showEvent(QShowEvent*) { askAtOnce(); }

void WaitsPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const auto chosen = scopeNow();
    if (!chosen) {
        asked_.reset();
        return clear(tr("Waits"), toQString(chosen.failure().sentence));
    }
    const auto by = static_cast<WaitsBy>(by_->currentData().toInt());
    if (asked_ == recording && askedScope_ == chosen->scope && askedBy_ == by) return;
    const bool same = speaksOfTheSame() && asked_ && askedBy_ == by && view_->table();
    asked_ = recording;
    askedScope_ = chosen->scope;
    askedBy_ = by;
    query_.ask([recording, scope = chosen->scope,
                by](const Progress& progress) { return waitsIn(*recording, scope, by, progress); },
               [this, same, words = capitalised(toQString(chosen->words))](const std::shared_ptr<const Waits>& waits) {
                   title_->setText(words);
                   about_->setText(toQString(plural(waits->count, "wait", "waits") + ", " + durationText(waits->total) +
                                             " in all"));
                   view_->setEmptyText(tr("No thread waited there, as far as the recording tells."));
                   waits_ = waits;
                   showTable(waitTable(waits), same, [this] { openHeld(); });
               });
}

}  // namespace fugato
