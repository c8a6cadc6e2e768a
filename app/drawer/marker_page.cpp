// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_page.h"

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/ask/occurrence_table.h"
#include "core/explain/words/sentences.h"
#include "marker_plots.h"

namespace fugato {

DrawerPage::Words MarkerPage::words() const {
    return {"marker",
            tr("Marker"),
            tr("Figures of one mar&ker"),
            tr("How often and how long the selected marker runs, its occurrences"),
            tr("Work"),
            About::Marker};
}

MarkerPage::MarkerPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "marker", tr("Occurrences of the selected marker"), kOccurrenceDuration, parent),
      durations_(new BarPlot),
      inFrames_(new BarPlot),
      plots_(addSideBySide(durations_, inFrames_)),
      figures_(addFigures()),
      parts_(new PartsList) {
    splitWith(parts_);
    followScope(true);
    followMarker();
    connect(&document, &Document::recordingChanged, this, [this] {
        say(tr("No marker is selected"), tr("Click one in the lanes or in a table, or search for one."));
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    connect(&selection, &Selection::siteChanged, this, &MarkerPage::askAtOnce);
    connect(&selection, &Selection::chosenChanged, this, &MarkerPage::showPlots);
    arrange();
    say(tr("No marker is selected"), tr("Click one in the lanes or in a table, or search for one."));
}

void MarkerPage::showEvent(QShowEvent*) { askAtOnce(); }

void MarkerPage::say(const QString& title, const QString& sentence) {
    asked_.reset();
    statistics_.reset();
    figures_->clear();
    clear(title, sentence);
    showPlots();
}

/// The plots need a drawer that is high, the parts one that is wide.
void MarkerPage::arrange() {
    plots_->setVisible(statistics_ && height() >= fontMetrics().height() * 20);
    parts_->setVisible(statistics_ && width() >= fontMetrics().averageCharWidth() * 115);
}

void MarkerPage::resizeEvent(QResizeEvent* event) {
    TablePage::resizeEvent(event);
    arrange();
}

void MarkerPage::showPlots() {
    arrange();
    if (!statistics_ || !isVisible()) return;
    const Recording& r = *document_.recording();
    BarPlot::Contents lengths = lengths_, frames = frames_;
    const MarkerRef& marker = selection_.marker();
    if (holds(r, marker) && r.paths[r.pathOf(marker)].site == statistics_->site)
        lengths.marks.push_back(
            chosenDuration(r, *statistics_, r.lanes[marker.lane].rows[marker.row].duration(marker.index)));
    if (askedSeries_ < r.series.size() && selection_.frame() < r.series[askedSeries_].frames.size())
        frames.marks.push_back(chosenFrame(r, askedSeries_, selection_.frame()));
    durations_->setContents(std::move(lengths));
    inFrames_->setContents(std::move(frames));
}

namespace {

QString figuresText(const Recording& r, const MarkerStatistics& s) {
    QString words;
    for (const std::string& figure : figuresOf(s)) words += (words.isEmpty() ? "" : " ") + toQString(figure) + ".";
    const std::string& description = r.sites[s.site].description;
    return description.empty() ? words : words + " " + toQString(description);
}

/// All of them; of very many those with the letters, if there are any. Null where `progress` cancelled it.
std::shared_ptr<const Table> occurrencesShown(const std::shared_ptr<const Recording>& recording,
                                              const MarkerStatistics& statistics, uint32_t series,
                                              const std::string& words, const Progress& progress) {
    const uint32_t site = statistics.site;
    const Scope& scope = statistics.scope;
    if (statistics.count > kMostShownWhole && words.empty()) {
        auto list = OccurrenceList::of(recording, site, scope, OccurrenceOrder::Begin, false, progress);
        return list ? occurrenceTable(std::move(list), series) : nullptr;
    }
    auto some = statistics.count > kMostShownWhole
                    ? occurrencesWith(*recording, site, scope, words, MarkerPage::kMostFiltered, progress)
                    : longestOccurrences(*recording, site, scope, kMostShownWhole, progress);
    return some ? shownOccurrences(recording, std::move(some), series) : nullptr;
}

}  // namespace

/// Of few, those without the letters are left out of what is at hand.
void MarkerPage::filterBy(const QString& words) {
    TablePage::filterBy(words);
    if (statistics_ && statistics_->count > kMostShownWhole) askSoon();
}

void MarkerPage::askNow() {
    const auto recording = document_.recording();
    const uint32_t site = selection_.site(), series = document_.series();
    if (!isVisible()) return;
    if (!recording || site >= recording->sites.size())
        return say(tr("No marker is selected"), tr("Click one in the lanes or in a table, or search for one."));
    const auto chosen = scopeNow();
    if (!chosen) return say(toQString(recording->sites[site].name), toQString(chosen.failure().sentence));
    const Scope& scope = chosen->scope;
    const QString words = filter_->text();
    const auto& e = document_.explanation();
    if (asked_ == recording && askedSite_ == site && askedScope_ == scope && askedSeries_ == series &&
        askedExplanation_ == e && askedWords_ == words)
        return;
    const bool same = asked_ && askedSite_ == site && askedWords_ == words && view_->table();
    asked_ = recording;
    askedSite_ = site;
    askedScope_ = scope;
    askedSeries_ = series;
    askedExplanation_ = e;
    askedWords_ = words;
    title_->setText(toQString(recording->sites[site].name));
    if (!same) about_->setText(tr("computing…"));
    struct Answer {
        std::shared_ptr<const MarkerStatistics> statistics;
        std::shared_ptr<const Table> table;
        BarPlot::Contents lengths, frames;
        std::vector<PartsList::Section> parts;
    };
    query_.ask(
        [recording, site, scope, series, words = words.toStdString(),
         explanation = e && e->series == series ? e : nullptr,
         choose = [this](uint32_t frame) { selection_.chooseFrame(frame); }](
            const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            answer->statistics = statisticsOf(*recording, site, scope, series, progress);
            if (!answer->statistics) return nullptr;
            answer->table = occurrencesShown(recording, *answer->statistics, series, words, progress);
            if (!answer->table) return nullptr;
            answer->lengths = durationPlot(*recording, *answer->statistics);
            answer->frames = framePlot(*recording, series, explanation.get(), *answer->statistics, choose);
            answer->parts = partsOf(*answer->statistics);
            return answer;
        },
        [this, recording, same, where = toQString(chosen->words)](const std::shared_ptr<const Answer>& answer) {
            statistics_ = answer->statistics;
            setAbout(!askedWords_.isEmpty() && answer->table->rowLimit() == kMostFiltered
                         ? tr("%1: the first %2 with these letters").arg(where, toQString(countText(kMostFiltered)))
                         : where);
            figures_->setText(figuresText(*recording, *statistics_));
            lengths_ = answer->lengths;
            frames_ = answer->frames;
            parts_->setSections(answer->parts);
            showPlots();
            view_->setEmptyText(tr("It does not occur there."));
            showTable(answer->table, same, [this] { view_->showMarker(selection_.marker()); });
        });
}

}  // namespace fugato
