// SPDX-License-Identifier: GPL-3.0-or-later
#include "frames_page.h"

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"
#include "marker_plots.h"

namespace fugato {

struct FramesPage::Answer {
    std::shared_ptr<const FrameFigures> here, there;
    BarPlot::Contents plotHere, plotThere;
    std::shared_ptr<const Table> table;
    QString wordsHere, wordsThere;
};

DrawerPage::Words FramesPage::words() const {
    return {"frames",
            tr("Frame figures"),
            tr("Fi&gures of frames"),
            tr("How long and how even frames are, beside another stretch, and by which markers the two differ"),
            tr("Frames"),
            About::Scope};
}

FramesPage::FramesPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "frames", tr("Markers by which two stretches differ"), -1, parent),
      compare_(new QToolButton(this)),
      here_(new BarPlot),
      there_(new BarPlot),
      plots_(addSideBySide(here_, there_)),
      figures_(addFigures()) {
    compare_->setFont(smallFont());
    compare_->setText(tr("Compare with this"));
    compare_->setToolTip(tr("What is looked at now is what others are compared with from here on"));
    addBeside(compare_);
    followScope(false);
    connect(compare_, &QToolButton::clicked, this, [this] {
        other_ = shownNow();
        askAtOnce();
    });
    connect(&document, &Document::recordingChanged, this, [this] {
        other_ = {};
        say(QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    say(tr("The figures of the frames in what is looked at."));
}

void FramesPage::showEvent(QShowEvent*) { askAtOnce(); }

void FramesPage::resizeEvent(QResizeEvent* event) {
    TablePage::resizeEvent(event);
    arrange();
}

/// The plots need a drawer that is high.
void FramesPage::arrange() { plots_->setVisible(asked_.explanation && height() >= fontMetrics().height() * 20); }

void FramesPage::say(const QString& sentence) {
    asked_ = {};
    figures_->clear();
    clear(tr("Frame figures"), sentence);
    arrange();
}

void FramesPage::askNow() {
    const auto recording = document_.recording();
    const auto e = document_.explanation();
    if (!recording || !isVisible()) return;
    if (!e) return say(document_.whyUnexplained());
    const auto here = scopeNow();
    if (!here) return say(toQString(here.failure().sentence));
    const auto there = chosenScope(*recording, e.get(), other_.choice, other_.context);
    if (!there) return say(toQString(there.failure().sentence));
    Asked asked{e, here->scope, there->scope};
    if (asked == asked_) return;
    const bool same = asked_.explanation && asked_.here == asked.here && asked_.there == asked.there && view_->table();
    asked_ = std::move(asked);
    query_.ask(
        [asked = asked_, wordsHere = toQString(here->words),
         wordsThere = toQString(there->words)](const Progress& progress) -> std::shared_ptr<const Answer> {
            const Explanation& of = *asked.explanation;
            auto answer = std::make_shared<Answer>();
            answer->here = figuresOfFrames(of, asked.here, progress);
            answer->there = figuresOfFrames(of, asked.there, progress);
            const auto markersHere = nestedMarkers(*of.recording, asked.here, progress),
                       markersThere = nestedMarkers(*of.recording, asked.there, progress);
            if (!answer->here || !answer->there || !markersHere || !markersThere) return nullptr;
            const FrameFigures &a = *answer->here, &b = *answer->there;
            const int64_t shortest = !a.frames ? b.shortest : !b.frames ? a.shortest : std::min(a.shortest, b.shortest);
            answer->plotHere = frameLengthPlot(capitalised(wordsHere), a, shortest, std::max(a.longest, b.longest));
            answer->plotThere = frameLengthPlot(capitalised(wordsThere), b, shortest, std::max(a.longest, b.longest));
            answer->table = differenceTable(
                of.recording, differencesOf(*of.recording, *markersHere, a.frames, *markersThere, b.frames));
            answer->wordsHere = wordsHere;
            answer->wordsThere = wordsThere;
            return answer;
        },
        [this, same](const std::shared_ptr<const Answer>& answer) { show(*answer, same); });
}

void FramesPage::show(const Answer& answer, bool same) {
    const auto textOf = [](const QString& words, const FrameFigures& figures) {
        QString text = capitalised(words) + ": ";
        bool first = true;
        for (const std::string& one : textsOf(figures)) {
            text += (first ? "" : " ") + toQString(one) + ".";
            first = false;
        }
        return text;
    };
    const bool itself = asked_.here == asked_.there;
    title_->setText(capitalised(answer.wordsHere));
    about_->setText(itself ? QString() : tr("compared with: %1").arg(answer.wordsThere));
    QString text = textOf(answer.wordsHere, *answer.here);
    if (!itself) text += "\n" + textOf(answer.wordsThere, *answer.there);
    figures_->setText(text);
    here_->setContents(answer.plotHere);
    there_->setContents(answer.plotThere);
    there_->setVisible(!itself);
    arrange();
    view_->setEmptyText(itself ? tr("This is what others are compared with. Look at something else to see by which "
                                    "markers it differs.")
                               : tr("There are no markers in either."));
    showTable(itself ? nullptr : answer.table, same, [] {});
}

}  // namespace fugato
