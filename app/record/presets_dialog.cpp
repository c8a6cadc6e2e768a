// SPDX-License-Identifier: GPL-3.0-or-later
#include "presets_dialog.h"

#include <QDialogButtonBox>
#include <QHBoxLayout>
#include <QVBoxLayout>
#include <algorithm>

#include "app/theme/theme.h"
#include "app/theme/words.h"

namespace fugato {

namespace {

constexpr int kIndent = 24;

}  // namespace

PresetsDialog::PresetsDialog(QWidget* parent)
    : QDialog(parent),
      presets_(collectPresets()),
      list_(new QListWidget),
      name_(new QLineEdit),
      about_(plainLabel()),
      cost_(plainLabel()),
      add_(new QPushButton(tr("&New, from this one"))),
      remove_(new QPushButton(tr("&Remove"))),
      measure_(new QPushButton(tr("&Measure what it costs here"))) {
    setWindowTitle(tr("What to collect"));
    layOut();
    for (const CollectPreset& one : presets_) list_->addItem(one.name);
    connect(list_, &QListWidget::currentRowChanged, this, &PresetsDialog::showPreset);
    connect(name_, &QLineEdit::textEdited, this, &PresetsDialog::change);
    connect(add_, &QPushButton::clicked, this, &PresetsDialog::copyPreset);
    connect(remove_, &QPushButton::clicked, this, [this] {
        const int at = list_->currentRow();
        presets_.removeAt(at);
        delete list_->takeItem(at);
        keepPresets(presets_);
    });
    connect(measure_, &QPushButton::clicked, this, &PresetsDialog::measureOrCancel);
    list_->setCurrentRow(0);
    measure_->setEnabled(false);  // one recording of this program at a time
    asking_.ask(
        [](const Progress&) {
            auto told = whatCanBeCollected();
            return std::make_shared<const std::vector<Collectable>>(told ? std::move(*told)
                                                                         : std::vector<Collectable>());
        },
        [this](const std::shared_ptr<const std::vector<Collectable>>& told) {
            tellPossible(*told);
            measure_->setEnabled(true);
        });
}

void PresetsDialog::layOut() {
    list_->setAccessibleName(tr("Presets"));
    list_->setMaximumWidth(220);
    name_->setAccessibleName(tr("Name"));
    name_->setMaxLength(60);
    about_->setWordWrap(true);
    cost_->setWordWrap(true);

    auto* right = new QVBoxLayout;
    right->setSpacing(4);
    auto* named = new QHBoxLayout;
    auto* label = plainLabel(tr("N&ame"));
    label->setBuddy(name_);
    named->addWidget(label);
    named->addWidget(name_, 1);
    right->addLayout(named);
    right->addWidget(about_);
    right->addSpacing(6);
    const auto part = [&](const char* word, const QString& words) {
        auto* box = new QCheckBox(words);
        QPalette readable = box->palette();  // also where the preset cannot be changed
        for (const auto role : {QPalette::WindowText, QPalette::Text})
            readable.setColor(QPalette::Disabled, role, theme().text);
        box->setPalette(readable);
        auto* told = plainLabel();
        told->setObjectName("lesser");
        told->setWordWrap(true);
        told->setIndent(kIndent);
        told->setTextInteractionFlags(Qt::TextSelectableByMouse);
        right->addWidget(box);
        right->addWidget(told);
        parts_.push_back({word, box, told});
        connect(box, &QCheckBox::toggled, this, &PresetsDialog::change);
    };
    part("switches", tr("Switches: which thread had a core when, and who woke it"));
    part("samples", tr("Call stacks of running threads, every millisecond"));
    part("stack-copies", tr("Call stacks by copies of the stack, for code without frame pointers"));
    part("blocking", tr("Call stacks where threads block (with switches)"));
    part("load", tr("Use of cores, memory, disk and network"));
    part("memory", tr("What the program allocates, where it is an unmodified one that is started from here"));
    right->addSpacing(6);
    right->addWidget(cost_);
    auto* line = new QHBoxLayout;
    line->addWidget(measure_);
    line->addStretch(1);
    right->addLayout(line);
    right->addStretch(1);
    auto* left = new QVBoxLayout;
    left->addWidget(list_, 1);
    left->addWidget(add_);
    left->addWidget(remove_);
    auto* both = new QHBoxLayout;
    both->setSpacing(16);
    both->addLayout(left);
    both->addLayout(right, 1);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Close);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::accept);
    auto* all = new QVBoxLayout(this);
    all->addLayout(both, 1);
    all->addWidget(buttons);
    resize(680, 470);
}

/// A preset of one's own, which begins as the one that is shown.
void PresetsDialog::copyPreset() {
    CollectPreset copy = presets_[list_->currentRow()];
    copy.name = tr("My %1").arg(copy.name.toLower());
    copy.words = QString::fromStdString(collectedBy(copy.words));
    copy.about = tr("your own");
    copy.own = true;
    presets_ << copy;
    list_->addItem(copy.name);
    list_->setCurrentRow(list_->count() - 1);
    keepPresets(presets_);
    name_->setFocus();
    name_->selectAll();
}

void PresetsDialog::measureOrCancel() {
    if (measuring_.busy()) return measuring_.silence(), tellCost();
    const CollectPreset preset = presets_[list_->currentRow()];
    cost_->setText(tr("Measuring…"));
    measure_->setText(tr("Cancel"));
    measuring_.ask(
        [words = collectedBy(preset.words)](const Progress& progress) { return measureCollecting(words, progress); },
        [this, preset](const std::shared_ptr<const CollectingCost>& cost) {
            keepCost(preset.words, shown(toQString(cost->trouble.empty() ? costText(*cost) : cost->trouble)));
            tellCost();
        });
}

PresetsDialog::~PresetsDialog() { measuring_.silence(); }

QCheckBox& PresetsDialog::box(const QString& word) {
    for (const Part& part : parts_)
        if (part.word == word) return *part.box;
    qFatal("There is no such part.");
}

void PresetsDialog::showPreset() {
    const int at = list_->currentRow();
    if (at < 0) return;
    const CollectPreset& preset = presets_[at];
    showing_ = true;
    name_->setText(preset.name);
    name_->setReadOnly(!preset.own);
    about_->setText(preset.own ? QString() : preset.about);
    about_->setVisible(!preset.own);
    const QStringList words = QString::fromStdString(collectedBy(preset.words)).split(',');
    for (const Part& part : parts_) {
        part.box->setChecked(words.contains(part.word));
        part.box->setEnabled(preset.own);
    }
    remove_->setEnabled(preset.own);
    showing_ = false;
    tellCost();
}

void PresetsDialog::change() {
    const int at = list_->currentRow();
    if (showing_ || at < 0 || !presets_[at].own) return;
    QStringList words;
    for (const Part& part : parts_)
        if (part.box->isChecked()) words << part.word;
    presets_[at].words = words.isEmpty() ? "none" : words.join(',');
    if (const QString name = name_->text().trimmed(); !name.isEmpty()) presets_[at].name = name;
    list_->item(at)->setText(presets_[at].name);
    keepPresets(presets_);
    tellCost();
}

void PresetsDialog::tellCost() {
    measuring_.silence();
    const QString known = costOf(presets_[list_->currentRow()].words);
    cost_->setText(known.isEmpty() ? tr("What it costs on this machine has not been measured.") : known);
    measure_->setText(known.isEmpty() ? tr("&Measure what it costs here") : tr("&Measure again"));
}

/// Beside each part how it can be had here, or what to type for it.
void PresetsDialog::tellPossible(const std::vector<Collectable>& all) {
    for (const Part& part : parts_) {
        const auto ofThis = [&](const Collectable& one) { return toQString(one.word) == part.word; };
        const bool several = std::count_if(all.begin(), all.end(), ofThis) > 1;  // then each by its name
        QStringList told;
        for (const Collectable& one : all) {
            if (!ofThis(one)) continue;
            const QString how = toQString(one.told);
            if (several)
                told << (one.possible ? tr("Here, %1: %2") : tr("Not here, %1: %2")).arg(toQString(one.what), how);
            else
                told << (one.possible ? tr("Here: %1") : tr("Not here: %1")).arg(how);
            if (!one.advice.empty()) told << tr("For more: %1").arg(toQString(one.advice));
        }
        part.told->setVisible(!told.isEmpty());
        part.told->setText(shown(told.join('\n')).replace("\\n", "\n"));
    }
}

}  // namespace fugato
