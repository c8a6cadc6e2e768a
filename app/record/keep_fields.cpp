// SPDX-License-Identifier: GPL-3.0-or-later
#include "keep_fields.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QVBoxLayout>
#include <cmath>

#include "app/theme/words.h"

namespace fugato {

KeepFields::KeepFields(QWidget* parent)
    : QWidget(parent),
      kind_(new QComboBox),
      fields_(new QWidget),
      frameIs_(new QCheckBox(tr("a frame takes over"))),
      usualIs_(new QCheckBox(tr("a frame takes"))),
      lateIs_(new QCheckBox(tr("late frames:"))),
      errors_(new QCheckBox(tr("the program tells an error"))),
      frame_(new QDoubleSpinBox),
      usual_(new QDoubleSpinBox),
      late_(new QSpinBox),
      outOf_(new QSpinBox),
      before_(new QSpinBox),
      after_(new QSpinBox) {
    kind_->addItem(tr("Everything"));
    kind_->addItem(tr("Only around moments"));
    kind_->setItemData(1, tr("The last seconds are held in memory, and saved when something happens"), Qt::ToolTipRole);
    kind_->setAccessibleName(tr("Keep"));
    frame_->setRange(0.1, 100'000);
    frame_->setDecimals(1);
    frame_->setSuffix(tr(" ms"));
    usual_->setRange(1.1, 1000);
    usual_->setDecimals(1);
    usual_->setSuffix(tr(" × the median"));
    late_->setRange(1, static_cast<int>(kMostOutOf));
    outOf_->setRange(1, static_cast<int>(kMostOutOf));
    outOf_->setPrefix(tr("of "));
    before_->setRange(1, 600);
    before_->setSuffix(tr(" s before"));
    after_->setRange(0, 600);
    after_->setSuffix(tr(" s after"));
    const std::pair<QWidget*, QString> names[] = {{frame_, tr("Longest frame that is not saved, in milliseconds")},
                                                  {usual_, tr("Times the median of a frame that is saved")},
                                                  {late_, tr("Late frames that are saved")},
                                                  {outOf_, tr("Among so many frames")},
                                                  {before_, tr("Seconds saved before")},
                                                  {after_, tr("Seconds saved after")}};
    for (const auto& [field, name] : names) field->setAccessibleName(name);

    auto* lines = new QVBoxLayout(fields_);
    lines->setContentsMargins(0, 4, 0, 0);
    lines->setSpacing(4);
    const auto add = [&](std::initializer_list<QWidget*> fields) {
        auto* line = new QHBoxLayout;
        for (QWidget* field : fields) line->addWidget(field);
        line->addStretch(1);
        lines->addLayout(line);
    };
    add({
        plainLabel(tr("The last seconds are saved when")),
    });
    add({frameIs_, frame_});
    add({usualIs_, usual_});
    add({lateIs_, late_, outOf_});
    add({errors_});
    add({before_, after_});
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(0);
    all->addWidget(kind_);
    all->addWidget(fields_);
    setFocusPolicy(kind_->focusPolicy());  // so that a label's key reaches it
    setFocusProxy(kind_);
    connect(kind_, &QComboBox::currentIndexChanged, fields_, [this](int at) { fields_->setVisible(at == 1); });
    const std::initializer_list<std::pair<QCheckBox*, QWidget*>> switched = {
        {frameIs_, frame_}, {usualIs_, usual_}, {lateIs_, late_}, {lateIs_, outOf_}};
    for (const auto& [box, field] : switched) connect(box, &QCheckBox::toggled, field, &QWidget::setEnabled);
    take({});
}

std::optional<MomentPlan> KeepFields::moments() const {
    if (kind_->currentIndex() == 0) return std::nullopt;
    MomentPlan plan;
    plan.beforeNs = static_cast<uint64_t>(before_->value()) * 1'000'000'000;
    plan.afterNs = static_cast<uint64_t>(after_->value()) * 1'000'000'000;
    if (frameIs_->isChecked()) plan.frameNs = static_cast<uint64_t>(std::llround(frame_->value() * 1e6));
    if (usualIs_->isChecked()) plan.timesUsual = usual_->value();
    if (lateIs_->isChecked()) {
        plan.outOf = static_cast<uint32_t>(std::max(late_->value(), outOf_->value()));
        plan.lateFrames = static_cast<uint32_t>(late_->value());
    }
    plan.errors = errors_->isChecked();
    return plan;
}

void KeepFields::take(const std::optional<MomentPlan>& moments) {
    MomentPlan plan = moments.value_or(MomentPlan{});
    if (!moments) {  // what is offered first
        plan.frameNs = 50'000'000;
        plan.errors = true;
    }
    frameIs_->setChecked(plan.frameNs > 0);
    frame_->setValue(plan.frameNs ? static_cast<double>(plan.frameNs) / 1e6 : 50);
    usualIs_->setChecked(plan.timesUsual > 0);
    usual_->setValue(plan.timesUsual > 0 ? plan.timesUsual : 3);
    lateIs_->setChecked(plan.outOf > 0);
    late_->setValue(plan.outOf ? static_cast<int>(plan.lateFrames) : 3);
    outOf_->setValue(plan.outOf ? static_cast<int>(plan.outOf) : 10);
    errors_->setChecked(plan.errors);
    before_->setValue(static_cast<int>(plan.beforeNs / 1'000'000'000));
    after_->setValue(static_cast<int>(plan.afterNs / 1'000'000'000));
    frame_->setEnabled(frameIs_->isChecked());
    usual_->setEnabled(usualIs_->isChecked());
    late_->setEnabled(lateIs_->isChecked());
    outOf_->setEnabled(lateIs_->isChecked());
    kind_->setCurrentIndex(moments ? 1 : 0);
    fields_->setVisible(moments.has_value());
}

}  // namespace fugato
