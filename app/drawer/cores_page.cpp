// SPDX-License-Identifier: GPL-3.0-or-later
#include "cores_page.h"

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

namespace {
constexpr size_t kCurveColumns = 160;
}  // namespace

DrawerPage::Words CoresPage::words() const {
    return {"cores",
            tr("Cores"),
            tr("C&ores and threads"),
            tr("How long each thread ran, was ready or blocked, and how busy the cores were"),
            tr("Machine"),
            About::Scope};
}

CoresPage::CoresPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "cores", tr("Threads, and how they used the cores"), -1, parent),
      by_(addChoice(tr("What the areas of the plot are"), tr("The cores' time over time, by thread or by program"),
                    {{tr("by thread"), 0}, {tr("by program"), 1}}, settings::coresBy())),
      curve_(new BarPlot(this)),
      figures_(addFigures()) {
    addPlot(curve_);
    followScope(false);
    connect(&document, &Document::recordingChanged, this, [this] {
        say(QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    say(tr("How threads used the cores."));
}

void CoresPage::showEvent(QShowEvent*) { askAtOnce(); }

void CoresPage::say(const QString& sentence) {
    asked_ = {};
    figures_->clear();
    clear(tr("Cores and threads"), sentence);
    wantPlot(false);
}

void CoresPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    if (!tellsCores(*recording))
        return say(
            tr("The recording does not tell what the system did. A program records it with FUG_OS_SWITCHES, "
               "where the system permits it; Record ▸ What to collect says whether it does here."));
    const auto chosen = scopeNow();
    if (!chosen) return say(toQString(chosen.failure().sentence));
    Asked asked{recording, chosen->scope, by_->currentData().toInt() == 1};
    if (asked == asked_) return;
    const bool same = speaksOfTheSame() && asked_.recording && view_->table();
    asked_ = std::move(asked);
    struct Answer {
        std::shared_ptr<const CoreUse> use;
        std::shared_ptr<const CoreCurve> curve;
        std::shared_ptr<const Table> table;
    };
    query_.ask(
        [asked = asked_](const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            answer->use = coreUse(*asked.recording, asked.scope, progress);
            if (!answer->use) return nullptr;
            answer->curve = coreCurve(*asked.recording, asked.scope.around(), kCurveColumns, asked.byProgram,
                                      Theme::kTints, progress);
            if (!answer->curve) return nullptr;
            answer->table = coreTable(asked.recording, answer->use);
            return answer;
        },
        [this, same, words = capitalised(toQString(chosen->words))](const std::shared_ptr<const Answer>& answer) {
            title_->setText(words);
            about_->setText(tr("%1 cores").arg(answer->use->cores));
            figures_->setText(toQString(coreSentences(*answer->use)));
            view_->setEmptyText(tr("No thread ran there."));
            showCurve(*answer->curve);
            wantPlot(true);
            showTable(answer->table, same, [this] { view_->expandToDepth(0); });
        });
}

void CoresPage::showCurve(const CoreCurve& curve) {
    BarPlot::Contents contents;
    contents.title = tr("Cores that were busy");
    contents.empty = tr("No core was busy there.");
    contents.most = curve.cores;
    contents.highest = tr("the top is all %1 cores; blank is idle").arg(curve.cores);
    for (size_t i = 0; i < curve.names.size(); ++i)
        contents.legend.push_back({toQString(curve.names[i]), i < Theme::kTints ? static_cast<int>(i) + 1 : 0});
    const size_t columns = curve.parts.empty() ? 0 : curve.parts.front().size();
    const auto length = static_cast<double>(std::max<int64_t>(1, curve.range.end - curve.range.begin));
    const auto timeText = [&](int64_t time) { return toQString(instantText(time - asked_.recording->begin)); };
    for (size_t column = 0; column < columns; ++column) {
        const double from = static_cast<double>(column) / static_cast<double>(columns),
                     to = static_cast<double>(column + 1) / static_cast<double>(columns);
        const int64_t begin = curve.range.begin + static_cast<int64_t>(from * length),
                      end = curve.range.begin + static_cast<int64_t>(to * length);
        BarPlot::Bar bar{from, to,
                         0,    false,
                         {},   [this, begin, end] {
                             selection_.showSpan(begin, std::max(end, begin + 1000), true); },
                         {}};
        QStringList words;
        for (size_t i = 0; i < curve.parts.size(); ++i) {
            const double busy = static_cast<double>(curve.parts[i][column]) / (length / static_cast<double>(columns));
            if (busy <= 0) continue;
            bar.height += busy;
            bar.parts.push_back({busy, contents.legend[i].tint});
            words << tr("%1 %2").arg(contents.legend[i].words).arg(busy, 0, 'f', 2);
        }
        bar.words =
            tr("%1 cores busy from %2 on: %3").arg(bar.height, 0, 'f', 2).arg(timeText(begin), words.join(", "));
        contents.bars.push_back(std::move(bar));
    }
    for (const double at : {0.0, 0.5, 1.0})
        contents.ticks.push_back({at, timeText(curve.range.begin + static_cast<int64_t>(at * length))});
    curve_->setContents(std::move(contents));
}

}  // namespace fugato
