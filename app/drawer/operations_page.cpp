// SPDX-License-Identifier: GPL-3.0-or-later
#include "operations_page.h"

#include <cmath>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

DrawerPage::Words OperationsPage::words() const {
    return {"operations",
            tr("Operations, files"),
            tr("O&perations and files"),
            tr("Operations with their layers, and file requests, that took longer than a limit"),
            tr("Waiting"),
            About::Scope};
}

OperationsPage::OperationsPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "operations", tr("Operations and file requests in what is looked at"),
                kOperationDuration, parent),
      by_(addChoice(tr("How the operations are put together"),
                    tr("Each by itself; or those of one path, or of one kind, together"),
                    {{tr("each"), int(OperationsBy::Each)},
                     {tr("by path"), int(OperationsBy::Path)},
                     {tr("by kind"), int(OperationsBy::What)}},
                    settings::operationsBy())),
      least_(new QDoubleSpinBox(this)) {
    least_->setFont(smallFont());
    least_->setPrefix(tr("at least "));
    least_->setSuffix(tr(" ms"));
    least_->setDecimals(2);
    least_->setRange(0, 1e7);
    least_->setValue(settings::operationsLeast().get());
    least_->setKeyboardTracking(false);
    least_->setAccessibleName(tr("Shortest that is shown, in milliseconds"));
    least_->setToolTip(tr("Operations and file requests that took less are left out"));
    addBeside(least_);
    followScope(false);
    connect(least_, &QDoubleSpinBox::valueChanged, this, [this](double ms) {
        settings::operationsLeast().set(ms);
        askAtOnce();
    });
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_.reset();
        clear(tr("Operations and files"), QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    clear(tr("Operations and files"), tr("Operations and file requests in what is looked at."));
}

void OperationsPage::showEvent(QShowEvent*) { askAtOnce(); }

void OperationsPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const auto chosen = scopeNow();
    if (!chosen) {
        asked_.reset();
        return clear(tr("Operations and files"), toQString(chosen.failure().sentence));
    }
    const auto by = static_cast<OperationsBy>(by_->currentData().toInt());
    const int64_t least = std::llround(least_->value() * 1e6);
    if (asked_ == recording && askedScope_ == chosen->scope && askedBy_ == by && askedLeast_ == least) return;
    const bool same = speaksOfTheSame() && asked_ && askedBy_ == by && view_->table();
    asked_ = recording;
    askedScope_ = chosen->scope;
    askedBy_ = by;
    askedLeast_ = least;
    struct Answer {
        std::shared_ptr<const OperationList> list;
        std::shared_ptr<const Table> table;
    };
    query_.ask(
        [recording, scope = chosen->scope, least, by](const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            answer->list = operationsIn(*recording, scope, least, progress);
            if (!answer->list) return nullptr;
            answer->table = operationTable(recording, answer->list, by);
            return answer;
        },
        [this, same, words = capitalised(toQString(chosen->words))](const std::shared_ptr<const Answer>& answer) {
            const OperationList& list = *answer->list;
            title_->setText(words);
            QString about = toQString(plural(list.count, "operation", "operations"));
            if (list.shorter) about += tr(", %1 shorter").arg(toQString(countText(list.shorter)));
            if (list.count > list.longest.size())
                about += tr(", the %1 longest shown").arg(toQString(countText(list.longest.size())));
            about_->setText(about);
            view_->setEmptyText(list.shorter ? tr("All that there are took less than the limit.")
                                             : tr("The recording tells of no operation or file request there."));
            showTable(answer->table, same, [] {});
        });
}

}  // namespace fugato
