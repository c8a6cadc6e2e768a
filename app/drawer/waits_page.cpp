// SPDX-License-Identifier: GPL-3.0-or-later
#include "waits_page.h"

#include "app/settings/settings.h"
#include "app/theme/theme.h"
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
      by_(new QComboBox(this)) {
    by_->addItem(tr("by lock or other object"), int(WaitsBy::Object));
    by_->addItem(tr("by lane"), int(WaitsBy::Lane));
    by_->addItem(tr("by marker"), int(WaitsBy::Marker));
    by_->setAccessibleName(tr("How the waits are put together"));
    by_->setToolTip(tr("By what was waited for, with who held it; by the lane or by the marker that waited"));
    by_->setFont(smallFont());
    by_->setCurrentIndex(std::max(0, by_->findData(settings::waitsBy().get())));
    addBeside(by_);
    followScope(false);
    connect(by_, &QComboBox::activated, this, [this] {
        settings::waitsBy().set(by_->currentData().toInt());
        askAtOnce();
    });
    connect(view_, &TableView::filled, this, [this] {
        if (opens_ && view_->table()) openHeld();
        opens_ = false;
    });
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
            held |= waits_->rows[TableModel::rowOf(rows.index(below, 0, index))].holder;
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
    const bool same = asked_ && askedScope_ == chosen->scope && askedBy_ == by && view_->table();
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
                   opens_ = !same;
                   waits_ = waits;
                   view_->setTable(waitTable(waits), same);
               });
}

}  // namespace fugato
