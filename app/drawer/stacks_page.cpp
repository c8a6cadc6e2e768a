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
            tr("Work"),
            About::Scope};
}

StacksPage::StacksPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "stacks", tr("Functions of the call stacks"), kFunctionSelf, parent),
      kinds_(new QComboBox(this)),
      flames_(new FlameGraph(this)) {
    kinds_->addItems({tr("running"), tr("blocked")});
    kinds_->setAccessibleName(tr("Which call stacks are shown"));
    kinds_->setToolTip(tr("Samples taken while threads ran, or the call stacks with which they blocked"));
    kinds_->setCurrentIndex(settings::stacksBlocked().get());
    kinds_->setFont(smallFont());
    addBeside(kinds_);
    followScope(false);
    splitWith(flames_);
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_.reset();
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    connect(&document, &Document::symbolsChanged, this, &StacksPage::askSoon);
    connect(kinds_, &QComboBox::activated, this, [this](int blocked) {
        settings::stacksBlocked().set(blocked);
        askSoon();
    });
    connect(flames_, &FlameGraph::functionChosen, this, [this](FunctionId function) {
        if (const Table::Row row = view_->rowWithKey(function); row != Table::kTop) view_->showRow(row);
    });
}

void StacksPage::showEvent(QShowEvent*) { askAtOnce(); }

void StacksPage::say(const QString& sentence) {
    asked_.reset();
    shown_.reset();
    clear(tr("Call stacks"), sentence);
    flames_->setStacks(nullptr);
}

void StacksPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
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
    const auto chosen = scopeNow();
    if (!chosen) return say(toQString(chosen.failure().sentence));
    const StackScope scope{chosen->scope, blocked};
    title_->setText(capitalised(toQString(chosen->words)));
    if (asked_ == recording && askedSymbols_ == symbols && askedScope_ == scope) return;
    const bool same = speaksOfTheSame() && asked_ && askedScope_.blocked == scope.blocked && askedSymbols_ == symbols &&
                      view_->table();
    asked_ = recording;
    askedSymbols_ = symbols;
    askedScope_ = scope;
    query_.ask(
        [recording, symbols, scope](const Progress& progress) {
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
