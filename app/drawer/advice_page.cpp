// SPDX-License-Identifier: GPL-3.0-or-later
#include "advice_page.h"

#include <QDialog>
#include <QDialogButtonBox>
#include <QDoubleSpinBox>
#include <QFormLayout>
#include <QPushButton>
#include <QTimer>

#include "app/settings/settings.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

DrawerPage::Words AdvicePage::words() const {
    return {"advice",       tr("Advice"),
            tr("&Advice"),  tr("Findings beyond single spikes, and what to look at next"),
            tr("Findings"), About::Recording};
}

AdvicePage::AdvicePage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "advice", tr("Advice"), -1, parent), limits_(new QToolButton(this)) {
    view_->setUniformRowHeights(false);
    view_->setWordWrap(true);
    limits_->setText(tr("Limits…"));
    limits_->setToolTip(tr("From when on file requests, allocations and messages are worth a finding"));
    addBeside(limits_);
    connect(limits_, &QToolButton::clicked, this, &AdvicePage::askForLimits);
    title_->setText(tr("Advice"));
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_.reset();
        advice_.reset();
        clear(tr("Advice"), tr("Nothing found beyond the causes at the left."));
    });
    whenChanged([this] { takeExplanation(); });
    connect(&view_->rows(), &TableModel::flagged, this,
            [this](Table::Row row, int, bool on) { accept(findingOf(row), on); });
}

void AdvicePage::showEvent(QShowEvent*) { takeExplanation(); }

QString AdvicePage::program() const {
    const auto& context = document_.recording()->context;
    const auto program = context.find("program");
    return program == context.end() ? QString() : toQString(program->second);
}

void AdvicePage::takeExplanation() {
    const auto e = document_.explanation();
    if (!isVisible() || e == asked_) return;
    if (!e) {
        if (document_.recording()) about_->setText(document_.whyUnexplained());
        return;
    }
    const bool same = asked_ && view_->table();
    asked_ = e;
    if (!same) about_->setText(tr("computing…"));
    query_.ask(
        [e, limits = settings::adviceLimits()](const Progress& progress) { return adviceFor(*e, limits, progress); },
        [this, same](const std::shared_ptr<const std::vector<Advice>>& found) {
            advice_ = found;
            accepted_.clear();
            for (const QString& key : settings::acceptedFindings(program()).get()) accepted_.insert(key.toStdString());
            fill(same);
        });
}

void AdvicePage::setLimits(const AdviceLimits& limits) {
    settings::setAdviceLimits(limits);
    asked_.reset();
    takeExplanation();
}

void AdvicePage::accept(uint32_t finding, bool on) {
    const std::string& key = (*advice_)[finding].key;
    on ? void(accepted_.insert(key)) : void(accepted_.erase(key));
    QStringList keys;
    for (const std::string& accepted : accepted_) keys << toQString(accepted);
    settings::acceptedFindings(program()).set(keys);
    QTimer::singleShot(0, this, [this] { fill(true); });  // not while the view tells of this
}

void AdvicePage::fill(bool same) {
    if (!advice_) return;
    view_->setTable(adviceTable(advice_, accepted_), same);
    uint64_t accepted = 0;
    for (int row = 0; row < view_->rows().rowCount(); ++row) {
        const QModelIndex index = view_->rows().index(row, 0);
        const bool taken = accepted_.count((*advice_)[findingOf(TableModel::rowOf(index))].key) > 0;
        accepted += taken;
        view_->setExpanded(index, !taken);
    }
    about_->setText(advice_->empty() ? tr("nothing found beyond the causes at the left")
                                     : tr("%1, %2 accepted")
                                           .arg(toQString(plural(advice_->size() - accepted, "finding", "findings")))
                                           .arg(accepted));
}

void AdvicePage::askForLimits() {
    QDialog dialog(this);
    dialog.setWindowTitle(tr("Limits of advice"));
    auto* form = new QFormLayout(&dialog);
    auto* slowFile = new QDoubleSpinBox(&dialog);
    slowFile->setRange(0.01, 60'000);
    slowFile->setSuffix(tr(" ms"));
    auto* allocations = new QSpinBox(&dialog);
    auto* messages = new QSpinBox(&dialog);
    for (QSpinBox* box : {allocations, messages}) box->setRange(1, 1'000'000);
    form->addRow(tr("A file request takes longer than"), slowFile);
    form->addRow(tr("Allocations in one marker of a frame, more than"), allocations);
    form->addRow(tr("Messages of one lane in a frame, at least"), messages);
    const auto show = [&](const AdviceLimits& limits) {
        slowFile->setValue(static_cast<double>(limits.slowFile) / 1e6);
        allocations->setValue(static_cast<int>(limits.allocations));
        messages->setValue(static_cast<int>(limits.messages));
    };
    show(settings::adviceLimits());
    auto* buttons = new QDialogButtonBox(
        QDialogButtonBox::Ok | QDialogButtonBox::Cancel | QDialogButtonBox::RestoreDefaults, &dialog);
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::accepted, &dialog, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, &dialog, &QDialog::reject);
    connect(buttons->button(QDialogButtonBox::RestoreDefaults), &QPushButton::clicked, &dialog,
            [&] { show(AdviceLimits{}); });
    if (dialog.exec() != QDialog::Accepted) return;
    setLimits({static_cast<int64_t>(slowFile->value() * 1e6 + 0.5), static_cast<uint32_t>(allocations->value()),
               static_cast<uint32_t>(messages->value())});
}

}  // namespace fugato
