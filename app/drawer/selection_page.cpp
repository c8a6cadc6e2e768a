// SPDX-License-Identifier: GPL-3.0-or-later
#include "selection_page.h"

#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

DrawerPage::Words SelectionPage::words() const {
    return {"selection",
            tr("Selection"),
            tr("Table of the &selection"),
            tr("Everything nested in the selected time, or in what is in view"),
            tr("Time"),
            Scope::Selection};
}

SelectionPage::SelectionPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "selection", tr("Markers in the selected time"), kRangeTotal, parent) {
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_.reset();
        clear(tr("Selection"), tr("There are no markers in it."));
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    connect(&selection, &Selection::viewChanged, this, &SelectionPage::askSoon);
    connect(&selection, &Selection::rangeChanged, this, &SelectionPage::askSoon);
}

void SelectionPage::showEvent(QShowEvent*) { askSoon(); }

void SelectionPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const std::optional<TimeRange> chosen = selection_.range();
    const TimeRange range = chosen ? *chosen : TimeRange{selection_.view().begin, selection_.view().end};
    title_->setText(tr("%1 %2, from %3 to %4")
                        .arg(chosen ? tr("Selected:") : tr("In view:"),
                             toQString(durationText(range.end - range.begin)),
                             toQString(instantText(range.begin - recording->begin)),
                             toQString(instantText(range.end - recording->begin))));
    if (asked_ == recording && askedRange_ == range) return;
    const bool same = asked_ && view_->table();
    asked_ = recording;
    askedRange_ = range;
    struct Answer {
        std::shared_ptr<const Table> table;
        uint64_t markers = 0;
        size_t lanes = 0;
    };
    query_.ask(
        [recording, range](const Progress& progress) -> std::shared_ptr<const Answer> {
            const auto made = tableOfRange(*recording, range, progress);
            if (!made) return nullptr;
            auto answer = std::make_shared<Answer>();
            for (const RangeRow& row : made->rows)
                if (row.path) answer->markers += row.count;
            answer->lanes = made->lanes.size();
            answer->table = rangeTable(recording, *made);
            return answer;
        },
        [this, same](const std::shared_ptr<const Answer>& answer) {
            view_->setTable(answer->table, same);
            about_->setText(answer->lanes ? toQString(plural(answer->markers, "marker", "markers")) + tr(" in ") +
                                                toQString(plural(answer->lanes, "lane", "lanes"))
                                          : tr("no markers in it"));
            if (same) return;
            // The lane with the most time is opened as far as one marker holds most of it.
            QModelIndex at = view_->rows().index(0, 0);
            for (int depth = 0; at.isValid() && depth < 3; ++depth) {
                view_->expand(at);
                at = view_->rows().index(0, 0, at);
            }
        });
}

}  // namespace fugato
