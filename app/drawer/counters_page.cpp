// SPDX-License-Identifier: GPL-3.0-or-later
#include "counters_page.h"

#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

DrawerPage::Words CountersPage::words() const {
    return {"counters",
            tr("Counters, states"),
            tr("Cou&nters and states"),
            tr("Counters and states at the selected instant, and over what is looked at"),
            tr("Machine"),
            About::Scope};
}

CountersPage::CountersPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "counters", tr("Counters and states"), kCounterLateBeyond, parent) {
    followScope(false);
    followInstant();
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_ = {};
        clear(tr("Counters and states"), QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    clear(tr("Counters and states"), tr("Counters and states at the selected instant, and over what is looked at."));
}

void CountersPage::showEvent(QShowEvent*) { askAtOnce(); }

void CountersPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const auto chosen = scopeNow();
    if (!chosen) {
        asked_ = {};
        return clear(tr("Counters and states"), toQString(chosen.failure().sentence));
    }
    Asked asked{recording, document_.explanation(), chosen->scope, instantNow()};
    if (asked == asked_) return;
    const bool same = asked_.recording && view_->table();  // the same counters, of another time
    asked_ = std::move(asked);
    query_.ask(
        [asked = asked_](const Progress& progress) -> std::shared_ptr<const Table> {
            const auto figures =
                counterFigures(*asked.recording, asked.explanation.get(), asked.scope, asked.instant, progress);
            return figures ? counterTable(asked.recording, figures) : nullptr;
        },
        [this, same, words = capitalised(toQString(chosen->words)),
         at = toQString(instantText(asked_.instant - recording->begin))](const std::shared_ptr<const Table>& table) {
            title_->setText(words);
            about_->setText(tr("instant: %1").arg(at));
            view_->setEmptyText(tr("The recording tells of no counters or states."));
            showTable(table, same, [this] { view_->expandAll(); });
        });
}

}  // namespace fugato
