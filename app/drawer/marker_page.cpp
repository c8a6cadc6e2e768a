// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_page.h"

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

DrawerPage::Words MarkerPage::words() const {
    return {"marker",
            tr("Marker"),
            tr("Figures of one mar&ker"),
            tr("How often and how long the selected marker runs, its longest occurrences"),
            tr("Work"),
            About::Marker};
}

MarkerPage::MarkerPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "marker", tr("Longest occurrences of the selected marker"), kOccurrenceDuration,
                parent),
      figures_(plainLabel(this)) {
    figures_->setFont(textFont());
    figures_->setWordWrap(true);
    figures_->setContentsMargins(12, 0, 12, 5);
    figures_->setTextInteractionFlags(Qt::TextSelectableByMouse | Qt::TextSelectableByKeyboard);
    addBelow(figures_);
    followScope(true);
    connect(&document, &Document::recordingChanged, this, [this] {
        say(tr("No marker is selected"), tr("Click one in the lanes or in a table, or search for one."));
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    connect(&selection, &Selection::siteChanged, this, &MarkerPage::askAtOnce);
    say(tr("No marker is selected"), tr("Click one in the lanes or in a table, or search for one."));
}

void MarkerPage::showEvent(QShowEvent*) { askAtOnce(); }

void MarkerPage::say(const QString& title, const QString& sentence) {
    asked_.reset();
    statistics_.reset();
    figures_->clear();
    clear(title, sentence);
}

namespace {

QString figuresText(const Recording& r, const MarkerStatistics& s) {
    QString words;
    for (const std::string& figure : figuresOf(s)) words += (words.isEmpty() ? "" : " ") + toQString(figure) + ".";
    const std::string& description = r.sites[s.site].description;
    return description.empty() ? words : words + " " + toQString(description);
}

}  // namespace

void MarkerPage::askNow() {
    const auto recording = document_.recording();
    const uint32_t site = selection_.site(), series = document_.series();
    if (!isVisible()) return;
    if (!recording || site >= recording->sites.size())
        return say(tr("No marker is selected"), tr("Click one in the lanes or in a table, or search for one."));
    const auto chosen = scopeNow();
    if (!chosen) return say(toQString(recording->sites[site].name), toQString(chosen.failure().sentence));
    const Scope& scope = chosen->scope;
    if (asked_ == recording && askedSite_ == site && askedScope_ == scope && askedSeries_ == series) return;
    const bool same = asked_ && askedSite_ == site && view_->table();
    asked_ = recording;
    askedSite_ = site;
    askedScope_ = scope;
    askedSeries_ = series;
    title_->setText(toQString(recording->sites[site].name));
    if (!same) about_->setText(tr("computing…"));
    struct Answer {
        std::shared_ptr<const MarkerStatistics> statistics;
        std::shared_ptr<const Table> table;
        size_t shown = 0;
    };
    query_.ask(
        [recording, site, scope, series](const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            answer->statistics = statisticsOf(*recording, site, scope, series, progress);
            if (!answer->statistics) return nullptr;
            const auto longest = longestOccurrences(*recording, site, scope, kMostShown, progress);
            if (!longest) return nullptr;
            answer->shown = longest->size();
            answer->table = occurrenceTable(recording, longest, series);
            return answer;
        },
        [this, recording, same, where = toQString(chosen->words)](const std::shared_ptr<const Answer>& answer) {
            statistics_ = answer->statistics;
            about_->setText(answer->shown < statistics_->count
                                ? tr("%1: the %2 longest").arg(where, toQString(countText(answer->shown)))
                                : where);
            figures_->setText(figuresText(*recording, *statistics_));
            view_->setEmptyText(tr("It does not occur there."));
            view_->setTable(answer->table, same);
        });
}

}  // namespace fugato
