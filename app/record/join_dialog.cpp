// SPDX-License-Identifier: GPL-3.0-or-later
#include "join_dialog.h"

#include <QDialogButtonBox>
#include <QFormLayout>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/parts/scrolled.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "collect_presets.h"

namespace fugato {

namespace {
constexpr int kWidth = 560, kListHeight = 200;
}

JoinDialog::JoinDialog(const std::optional<RunningProgram>& program, QWidget* parent)
    : QDialog(parent), collect_(new QComboBox), keep_(new KeepFields) {
    setWindowTitle(program ? tr("Join %1").arg(toQString(program->name)) : tr("Join a running program"));
    auto* lines = new QVBoxLayout(this);
    auto* form = new QFormLayout;
    form->setFieldGrowthPolicy(QFormLayout::AllNonFixedFieldsGrow);
    fillPresets(*collect_);
    const auto add = [&](const QString& name, QWidget* field) {
        auto* label = plainLabel(name);
        label->setBuddy(field);
        if (field->accessibleName().isEmpty()) field->setAccessibleName(QString(name).remove('&'));
        form->addRow(label, field);
    };
    add(tr("Co&llect"), collect_);
    add(tr("&Keep"), keep_);
    lines->addLayout(form);
    auto* about = plainLabel(tr("The program goes on when it is left, and can be joined again."));
    about->setObjectName("lesser");
    about->setWordWrap(true);
    lines->addWidget(about);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    if (program) {
        auto* go = buttons->addButton(tr("&Join"), QDialogButtonBox::AcceptRole);
        go->setObjectName("primary");
        go->setDefault(true);
        connect(go, &QPushButton::clicked, this, [this, one = *program] { join(one); });
        go->setFocus();
    } else {
        list_ = new RunningList(
            tr("No program offers itself at the moment. Those that are started from here, or with FUGATO_OFFER=1 in "
               "their environment, appear by themselves."));
        auto* listed = new QWidget;
        auto* column = new QVBoxLayout(listed);
        column->setContentsMargins(0, 0, 8, 0);
        column->addWidget(list_);
        column->addStretch(1);
        auto* area = scrolled(listed);
        area->setMinimumHeight(kListHeight);
        lines->insertWidget(0, area, 1);
        connect(list_, &RunningList::chosen, this, &JoinDialog::join);
        connect(list_, &RunningList::recordingWanted, this, [this](const QString& path) {
            accept();
            emit recordingWanted(path);
        });
    }
    lines->addWidget(buttons);
    resize(kWidth, sizeHint().height());
}

void JoinDialog::join(const RunningProgram& program) {
    JoinOptions options;
    options.collect = collect_->currentData().toString().toStdString();
    options.moments = keep_->moments();
    accept();
    emit joined(program, options);
}

}  // namespace fugato
