// SPDX-License-Identifier: GPL-3.0-or-later
#include "coverage_page.h"

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

DrawerPage::Words CoveragePage::words() const {
    return {"coverage",      tr("Coverage"),
            tr("&Coverage"), tr("The longest stretches without a marker, and markers that do not occur"),
            tr("Findings"),  About::Scope};
}

CoveragePage::CoveragePage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "coverage", tr("What no marker tells of"), -1, parent),
      what_(addChoice(tr("What is listed"), tr("Time in no marker; or markers that do not occur"),
                      {{tr("unmarked time"), 0}, {tr("missing markers"), 1}}, settings::coverageMissing())),
      ran_(new QToolButton(this)) {
    ran_->setFont(smallFont());
    ran_->setText(tr("What ran there"));
    ran_->setToolTip(tr("Selects the time of the chosen row and shows the call stacks that were taken in it"));
    ran_->setEnabled(false);
    addBeside(ran_);
    followScope(false);
    connect(ran_, &QToolButton::clicked, this, &CoveragePage::showWhatRan);
    connect(view_->selectionModel(), &QItemSelectionModel::currentChanged, this, [this](const QModelIndex& index) {
        ran_->setEnabled(index.isValid() && !askedMissing_ &&
                         mayHaveStacks(view_->table()->place(TableModel::rowOf(index))));
    });
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_.reset();
        clear(tr("Coverage"), QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    clear(tr("Coverage"), tr("Where no marker tells what was done, in what is looked at."));
}

void CoveragePage::showEvent(QShowEvent*) { askAtOnce(); }

void CoveragePage::fillMenu(QMenu& menu) {
    QAction* action = menu.addAction(tr("What &ran there"), this, &CoveragePage::showWhatRan);
    action->setEnabled(ran_->isEnabled());
    TablePage::fillMenu(menu);
}

/// Devices have none.
bool CoveragePage::mayHaveStacks(const TablePlace& place) const {
    const auto recording = document_.recording();
    return recording && recording->stackCount() > 0 && place.lane < recording->lanes.size() &&
           recording->lanes[place.lane].kind == LaneKind::Thread;
}

void CoveragePage::showWhatRan() {
    const QModelIndex index = view_->currentIndex();
    if (!index.isValid() || !view_->table()) return;
    const TablePlace place = view_->table()->place(TableModel::rowOf(index));
    selection_.selectRange(TimeRange{place.begin, place.end});
    emit pageWanted("stacks");
}

void CoveragePage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const auto chosen = scopeNow();
    if (!chosen) {
        asked_.reset();
        return clear(tr("Coverage"), toQString(chosen.failure().sentence));
    }
    const bool missing = what_->currentData().toInt() == 1;
    if (asked_ == recording && askedScope_ == chosen->scope && askedMissing_ == missing) return;
    const bool same = speaksOfTheSame() && asked_ && askedMissing_ == missing && view_->table();
    asked_ = recording;
    askedScope_ = chosen->scope;
    askedMissing_ = missing;
    struct Answer {
        std::shared_ptr<const Coverage> coverage;
        std::shared_ptr<const Table> table;
    };
    query_.ask(
        [recording, scope = chosen->scope, missing](const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            answer->coverage = coverageOf(*recording, scope, progress);
            if (!answer->coverage) return nullptr;
            answer->table =
                missing ? missingTable(recording, answer->coverage) : unmarkedTable(recording, answer->coverage);
            return answer;
        },
        [this, same, missing,
         words = capitalised(toQString(chosen->words))](const std::shared_ptr<const Answer>& answer) {
            title_->setText(words);
            const size_t absent = answer->coverage->missing.size();
            about_->setText(absent ? toQString(plural(absent, "marker does", "markers do")) + tr(" not occur there")
                                   : tr("all markers occur there"));
            view_->setEmptyText(missing ? tr("All markers that the recording knows occur there.")
                                        : tr("There are no markers."));
            showTable(answer->table, same, [] {});
        });
}

}  // namespace fugato
