// SPDX-License-Identifier: GPL-3.0-or-later
#include "stacks_page.h"

#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

DrawerPage::Words StacksPage::words() const {
    return {"stacks",
            tr("Call stacks"),
            tr("Functions of the &call stacks"),
            tr("The functions seen in call stacks, as a table and as a flame graph"),
            tr("Functions"),
            Scope::Frame};
}

StacksPage::StacksPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "stacks", tr("Functions of the call stacks"), kFunctionSelf, parent),
      kinds_(new QComboBox(this)),
      scopes_(new QComboBox(this)),
      threads_(new QComboBox(this)),
      flames_(new FlameGraph(this)) {
    scopes_->addItems({tr("frame"), tr("marker"), tr("selected time")});
    scopes_->setAccessibleName(tr("Of what the call stacks are shown"));
    scopes_->setToolTip(
        tr("Of which frame, marker or time the call stacks are shown: of the selected one; without selected time, of "
           "the time in view"));
    scopes_->setCurrentIndex(settings::stacksOf().get());
    kinds_->addItems({tr("running"), tr("blocked")});
    kinds_->setAccessibleName(tr("Which call stacks are shown"));
    kinds_->setToolTip(tr("Samples taken while threads ran, or the call stacks with which they blocked"));
    kinds_->setCurrentIndex(settings::stacksBlocked().get());
    threads_->setAccessibleName(tr("Of which thread the call stacks are shown"));
    for (QComboBox* box : {kinds_, scopes_, threads_}) {
        box->setFont(smallFont());
        addBeside(box);
    }
    splitWith(flames_);
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_.reset();
        fillThreads();
        askSoon();
    });
    whenChanged([this] {
        fillThreads();
        askSoon();
    });
    connect(&document, &Document::symbolsChanged, this, &StacksPage::askSoon);
    for (const auto signal : {&Selection::viewChanged, &Selection::chosenChanged, &Selection::rangeChanged})
        connect(&selection, signal, this, &StacksPage::askSoon);
    connect(kinds_, &QComboBox::activated, this, [this](int blocked) {
        settings::stacksBlocked().set(blocked);
        askSoon();
    });
    connect(scopes_, &QComboBox::activated, this, [this](int of) {
        settings::stacksOf().set(of);
        askSoon();
    });
    connect(threads_, &QComboBox::activated, this, &StacksPage::askSoon);
    connect(flames_, &FlameGraph::functionChosen, this, [this](FunctionId function) {
        if (const Table::Row row = view_->rowWithKey(function); row != Table::kTop) view_->showRow(row);
    });
}

void StacksPage::showEvent(QShowEvent*) { askSoon(); }

/// The threads of the program, and the one chosen by its name.
void StacksPage::fillThreads() {
    const QString chosen = threads_->currentText();
    threads_->clear();
    threads_->addItem(tr("all threads"), kNone);
    const auto& recording = document_.recording();
    for (const uint32_t lane : recording->laneOrder)
        if (recording->lanes[lane].kind == LaneKind::Thread && recording->lanes[lane].osId)
            threads_->addItem(toQString(recording->lanes[lane].name), lane);
    threads_->setCurrentIndex(std::max(0, threads_->findText(chosen)));
}

std::optional<StackScope> StacksPage::wanted(QString& title, QString& why) const {
    const auto& e = document_.explanation();
    const Recording& r = *document_.recording();
    StackScope scope;
    scope.lane = threads_->currentData().toUInt();
    scope.blocked = kinds_->currentIndex() == 1;
    const auto named = [&](const QString& what, int64_t begin, int64_t end) {
        scope.in = {begin, end};
        title = tr("%1: %2").arg(what, toQString(durationText(end - begin)));
        return scope;
    };
    switch (static_cast<Of>(scopes_->currentIndex())) {
        case Frame: {
            const uint32_t frame = selection_.frame();
            if (!e || frame >= e->frames.size()) {
                why = tr("No frame is selected.");
                return std::nullopt;
            }
            return named(tr("Frame %1").arg(toQString(countText(frame))), e->frame(frame).begin, e->frame(frame).end);
        }
        case Marker: {
            const MarkerRef& marker = selection_.marker();
            if (!marker.valid()) {
                why = tr("No marker is selected. Click one in the lanes.");
                return std::nullopt;
            }
            const MarkerRow& row = r.lanes[marker.lane].rows[marker.row];
            scope.lane = marker.lane;
            return named(toQString(r.nameOf(row.path(marker.index))), row.begin(marker.index), row.end(marker.index));
        }
        default: break;
    }
    const std::optional<TimeRange> chosen = selection_.range();
    const TimeRange in = chosen ? *chosen : TimeRange{selection_.view().begin, selection_.view().end};
    return named(chosen ? tr("Selected time") : tr("In view"), in.begin, in.end);
}

void StacksPage::say(const QString& sentence) {
    asked_.reset();
    shown_.reset();
    clear(tr("Call stacks"), sentence);
    flames_->setStacks(nullptr);
}

void StacksPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    threads_->setEnabled(scopes_->currentIndex() != Marker);
    const bool blocked = kinds_->currentIndex() == 1;
    if ((blocked ? recording->stops : recording->samples).empty())
        return say(blocked
                       ? tr("The recording holds no call stacks of where threads block. A program records them with "
                            "FUG_OS_BLOCKING and FUG_OS_SWITCHES, where the system permits it.")
                       : tr("The recording holds no call stacks. A program records them with FUG_OS_SAMPLES, where "
                            "the system permits it."));
    const auto& symbols = document_.symbols();
    if (!symbols) {
        say(recording->growing ? tr("Functions are looked up when the recording has ended.")
                               : tr("Looking up the functions…"));
        return;
    }
    QString title, why;
    const auto scope = wanted(title, why);
    if (!scope) return say(why);
    title_->setText(title);
    if (asked_ == recording && askedSymbols_ == symbols && askedScope_ == *scope) return;
    const bool same = asked_ && askedScope_ == *scope && askedSymbols_ == symbols && view_->table();
    asked_ = recording;
    askedSymbols_ = symbols;
    askedScope_ = *scope;
    query_.ask(
        [recording, symbols, scope = *scope](const Progress& progress) {
            return stacksIn(*recording, symbols, scope, progress);
        },
        [this, same, blocked](const std::shared_ptr<const Stacks>& stacks) {
            shown_ = stacks;
            about_->setText(toQString(blocked ? plural(stacks->taken, "time", "times") + ", " +
                                                    durationText(static_cast<int64_t>(stacks->tree.total())) + " in all"
                                              : plural(stacks->taken, "sample", "samples")));
            view_->setEmptyText(blocked ? tr("No thread was blocked there, or where is not known.")
                                        : tr("No call stack was taken there: nothing ran, or not for long enough."));
            view_->setTable(functionTable(stacks), same);
            flames_->setStacks(stacks,
                               blocked ? tr("No thread was blocked there.") : tr("No call stack was taken there."));
        });
}

/// A row leads to its function in the flame graph.
void StacksPage::follow(Table::Row row, bool) {
    if (shown_ && row < shown_->functions.size()) flames_->chooseFunction(shown_->functions[row].function);
}

}  // namespace fugato
