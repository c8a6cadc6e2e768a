// SPDX-License-Identifier: GPL-3.0-or-later
#include "memory_page.h"

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

namespace {
constexpr size_t kCurveColumns = 200;
}  // namespace

DrawerPage::Words MemoryPage::words() const {
    return {"memory",      tr("Memory"),
            tr("M&emory"), tr("Memory in use, resources that are large for their kind, and what was not released"),
            tr("Machine"), About::Scope};
}

MemoryPage::MemoryPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "memory", tr("Memory in what is looked at"), -1, parent),
      by_(addChoice(tr("What is listed of memory"),
                    tr("Pools, and their resources at the selected instant; or what was taken and not released"),
                    {{tr("by pool"), 0}, {tr("not released"), 1}}, settings::memoryBy())),
      curve_(new BarPlot(this)) {
    addPlot(curve_);
    followScope(false);
    followInstant();
    connect(&document, &Document::recordingChanged, this, [this] {
        pool_ = kNone;
        say(QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    say(tr("Memory in what is looked at."));
}

void MemoryPage::showEvent(QShowEvent*) { askAtOnce(); }

void MemoryPage::say(const QString& sentence) {
    asked_ = {};
    clear(tr("Memory"), sentence);
    wantPlot(false);
}

void MemoryPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    if (recording->pools.empty())
        return say(
            tr("The recording tells of no memory. fug_memory_taken and fug_memory_given tell of it; so "
               "does a program that is recorded with its allocations."));
    const auto chosen = scopeNow();
    if (!chosen) return say(toQString(chosen.failure().sentence));
    Asked asked{recording, chosen->scope, instantNow(), by_->currentData().toInt() == 1, pool_};
    if (asked == asked_) return;
    const bool same = asked_.recording && asked_.kept == asked.kept && view_->table();
    asked_ = std::move(asked);
    query_.ask(
        [asked = asked_](const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            const Recording& r = *asked.recording;
            answer->figures = memoryFigures(r, asked.scope, asked.instant, progress);
            answer->curve = memoryCurve(r, asked.pool, asked.scope.around(), kCurveColumns, progress);
            if (!answer->figures || !answer->curve) return nullptr;
            answer->table =
                asked.kept ? keptTable(asked.recording, answer->figures) : poolTable(asked.recording, answer->figures);
            return answer;
        },
        [this, same, words = capitalised(toQString(chosen->words))](const std::shared_ptr<const Answer>& answer) {
            title_->setText(words);
            int64_t now = 0, growth = 0;
            for (const PoolFigures& pool : answer->figures->pools) {
                now += pool.now;
                growth += pool.growth();
            }
            const auto text = [](int64_t bytes) {
                return toQString(bytesText(static_cast<uint64_t>(std::max<int64_t>(0, bytes))));
            };
            const QString at = toQString(instantText(asked_.instant - asked_.recording->begin));
            about_->setText((growth < 0 ? tr("%1 in use at %2; shrinks by %3") : tr("%1 in use at %2; grows by %3"))
                                .arg(text(now), at, text(std::abs(growth))));
            view_->setEmptyText(tr("All memory that was taken there was released by its end."));
            showCurve(*answer->curve);
            wantPlot(true);
            showTable(answer->table, same, [this] { view_->expandAll(); });
        });
}

/// The curve is that of the chosen pool; of the one that is shown already, chosen again: of all.
void MemoryPage::follow(Table::Row row, bool zoom) {
    const auto& table = view_->table();
    if (!table || asked_.kept || table->parentOf(row) != Table::kTop) return TablePage::follow(row, zoom);
    const auto pool = static_cast<uint32_t>(table->keyOf(row) >> 32);
    pool_ = pool == pool_ ? kNone : pool;
    askAtOnce();
}

void MemoryPage::showCurve(const MemoryCurve& curve) {
    const TimeRange range = asked_.scope.around();
    const auto length = static_cast<double>(std::max<int64_t>(1, range.end - range.begin));
    const auto part = [&](int64_t time) { return static_cast<double>(time - range.begin) / length; };
    const auto timeText = [&](int64_t time) { return toQString(instantText(time - asked_.recording->begin)); };
    BarPlot::Contents contents;
    contents.title = asked_.pool < asked_.recording->pools.size()
                         ? tr("Memory in use, %1").arg(toQString(asked_.recording->pools[asked_.pool].name))
                         : tr("Memory in use, all pools");
    contents.empty = tr("No memory is in use there.");
    contents.highest =
        tr("at most %1").arg(toQString(bytesText(static_cast<uint64_t>(std::max<int64_t>(0, curve.peak)))));
    const auto columns = static_cast<double>(curve.most.size());
    for (size_t i = 0; i < curve.most.size(); ++i) {
        const double from = static_cast<double>(i) / columns, to = static_cast<double>(i + 1) / columns;
        const auto begin = range.begin + static_cast<int64_t>(from * length),
                   end = range.begin + static_cast<int64_t>(to * length);
        const auto bytes = static_cast<double>(std::max<int64_t>(0, curve.most[i]));
        contents.bars.push_back(
            {from, to, bytes, false,
             tr("%1 at most from %2 on").arg(toQString(bytesText(static_cast<uint64_t>(bytes))), timeText(begin)),
             [this, begin, end] { selection_.showSpan(begin, std::max(end, begin + 1000), true); }});
    }
    if (curve.peak > 0)
        contents.marks.push_back({part(curve.peakAt), tr("peak, %1").arg(timeText(curve.peakAt)), false});
    if (asked_.instant >= range.begin && asked_.instant < range.end)
        contents.marks.push_back({part(asked_.instant), tr("the instant"), true});
    for (const double at : {0.0, 0.5, 1.0})
        contents.ticks.push_back({at, timeText(range.begin + static_cast<int64_t>(at * length))});
    curve_->setContents(std::move(contents));
}

}  // namespace fugato
