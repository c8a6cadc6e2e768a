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
            tr("Code"),
            About::Scope};
}

StacksPage::StacksPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "stacks", tr("Functions of the call stacks"), kFunctionSelf, parent),
      by_(addChoice(tr("How the call stacks are listed"),
                    tr("By function or by line of the source; or as a tree of calls, from the outermost function in or "
                       "from the innermost out. The flame graph stands the same way round."),
                    {{tr("functions"), kByFunction},
                     {tr("source lines"), kByLine},
                     {tr("calls, outermost first"), kByCallee},
                     {tr("callers, innermost first"), kByCaller}},
                    settings::stacksBy())),
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
    connect(flames_, &FlameGraph::nodeChosen, this, &StacksPage::showNode);
}

void StacksPage::showEvent(QShowEvent*) { askAtOnce(); }

void StacksPage::say(const QString& sentence) {
    asked_.reset();
    shown_.reset();
    clear(tr("Call stacks"), sentence);
    flames_->setStacks(nullptr, nullptr);
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
    const int by = by_->currentData().toInt();
    const StackScope scope{chosen->scope, blocked};
    title_->setText(capitalised(toQString(chosen->words)));
    if (asked_ == recording && askedSymbols_ == symbols && askedScope_ == scope && askedBy_ == by) return;
    const bool same = speaksOfTheSame() && asked_ && askedScope_.blocked == scope.blocked && askedSymbols_ == symbols &&
                      askedBy_ == by && view_->table();
    asked_ = recording;
    askedSymbols_ = symbols;
    askedScope_ = scope;
    askedBy_ = by;
    query_.ask(
        [recording, symbols, scope, by](const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            answer->by = by;
            answer->stacks = stacksIn(*recording, symbols, scope, progress);
            if (!answer->stacks) return nullptr;
            answer->tree = by == kByCaller ? std::make_shared<const StackTree>(answer->stacks->tree.fromInnermost())
                                           : std::shared_ptr<const StackTree>(answer->stacks, &answer->stacks->tree);
            answer->table = by == kByFunction ? functionTable(answer->stacks)
                            : by == kByLine   ? lineTable(answer->stacks)
                                              : callTable(answer->stacks, answer->tree);
            return answer;
        },
        [this, same, blocked](const std::shared_ptr<const Answer>& answer) {
            shown_ = answer;
            const Stacks& stacks = *answer->stacks;
            told_ = toQString(blocked ? plural(stacks.taken, "time", "times") + ", " +
                                            durationText(static_cast<int64_t>(stacks.tree.total())) + " in all"
                                      : plural(stacks.taken, "sample", "samples"));
            view_->setEmptyText(blocked ? tr("No thread was blocked there, or where is not known.")
                                        : tr("No call stack was taken there: nothing ran, or not for long enough."));
            showTable(answer->table, same, [this] {
                if (askedBy_ == kByCallee) view_->openHeaviest(kCallTotal);
            });
            flames_->setStacks(answer->stacks, answer->tree,
                               blocked ? tr("No thread was blocked there.") : tr("No call stack was taken there."));
            flames_->setSearch(filter_->text());
            tellFound();
        });
}

void StacksPage::tellFound() {
    const QString found = flames_->foundWords();
    about_->setText(found.isEmpty() ? told_ : told_ + ", " + found);
}

void StacksPage::filterBy(const QString& words) {
    TablePage::filterBy(words);
    flames_->setSearch(words);
    tellFound();
}

/// The row of what was chosen in the flame graph.
void StacksPage::showNode(uint32_t node) {
    if (!shown_ || node == StackTree::kRoot) return;
    if (shown_->by == kByCallee || shown_->by == kByCaller) return view_->showRow(node - 1);
    const FunctionId function = shown_->tree->nodes()[node].function;
    if (shown_->by == kByFunction) {
        if (const Table::Row row = view_->rowWithKey(function); row != Table::kTop) view_->showRow(row);
        return;
    }
    const auto& lines = shown_->stacks->lines;  // its costliest one
    const auto line =
        std::find_if(lines.begin(), lines.end(), [&](const LineRow& l) { return l.function == function; });
    if (line != lines.end()) view_->showRow(static_cast<Table::Row>(line - lines.begin()));
}

/// Of a row that is still of the list before: none.
FunctionId StacksPage::functionOf(Table::Row row) const {
    const Stacks& stacks = *shown_->stacks;
    const auto& nodes = shown_->tree->nodes();
    switch (shown_->by) {
        case kByLine: return row < stacks.lines.size() ? stacks.lines[row].function : Symbols::kNoModule;
        case kByFunction: return row < stacks.functions.size() ? stacks.functions[row].function : Symbols::kNoModule;
        default: return row + 1 < nodes.size() ? nodes[row + 1].function : Symbols::kNoModule;
    }
}

SourcePlace StacksPage::sourceOf(Table::Row row) const {
    if (!shown_ || !view_->table()) return {};
    const Symbols& symbols = *shown_->stacks->symbols;
    if (shown_->by == kByLine && row < shown_->stacks->lines.size()) {
        const LineRow& line = shown_->stacks->lines[row];
        return line.file == kNone ? SourcePlace() : SourcePlace{symbols.files[line.file], line.line};
    }
    const Symbols::Function& f = symbols.functions[functionOf(row)];
    return {f.file, f.line};
}

/// A row leads to its place in the flame graph, or to its source.
void StacksPage::follow(Table::Row row, bool zoom) {
    if (!shown_ || !view_->table()) return;
    if (zoom && shown_->by == kByLine) return selection_.lookAtSource(sourceOf(row));
    if (shown_->by == kByCallee || shown_->by == kByCaller) return flames_->chooseNode(row + 1);
    flames_->chooseFunction(functionOf(row));
}

}  // namespace fugato
