// SPDX-License-Identifier: GPL-3.0-or-later
#include "device_dialog.h"

#include <QDialogButtonBox>
#include <QFormLayout>
#include <QVBoxLayout>

#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"

namespace fugato {

namespace {

constexpr int kWidth = 520;

}  // namespace

DeviceDialog::DeviceDialog(DeviceLink& link, QWidget* parent)
    : QDialog(parent),
      link_(link),
      address_(new QLineEdit(settings::lastDevice().get())),
      code_(new QLineEdit),
      state_(plainLabel()),
      connect_(new QPushButton(tr("&Connect"))),
      disconnect_(new QPushButton(tr("&Disconnect"))) {
    setWindowTitle(tr("Connect to a device"));
    auto* lines = new QVBoxLayout(this);
    auto* about = plainLabel(
        tr("Programs of another device are listed and recorded here like those of this machine. Start fugato-relay on "
           "the device: it shows its address and a pairing code."));
    about->setWordWrap(true);
    lines->addWidget(about);
    auto* form = new QFormLayout;
    const auto add = [&](const QString& name, QLineEdit* field, const QString& example) {
        auto* label = plainLabel(name);
        label->setBuddy(field);
        field->setAccessibleName(QString(name).remove('&'));
        field->setPlaceholderText(example);
        form->addRow(label, field);
    };
    add(tr("De&vice"), address_, tr("its name or address, with :port where it is another one"));
    add(tr("&Pairing code"), code_, tr("as the device shows it: 7KQM-02XV-H9TD-4WRA"));
    lines->addLayout(form);
    state_->setObjectName("lesser");
    state_->setWordWrap(true);
    state_->setMinimumHeight(3 * fontMetrics().height());
    state_->setAlignment(Qt::AlignLeft | Qt::AlignTop);
    lines->addWidget(state_);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Close);
    connect_->setObjectName("primary");
    connect_->setDefault(true);
    buttons->addButton(connect_, QDialogButtonBox::ActionRole);
    buttons->addButton(disconnect_, QDialogButtonBox::ActionRole);
    lines->addWidget(buttons);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(connect_, &QPushButton::clicked, this, &DeviceDialog::connectNow);
    connect(disconnect_, &QPushButton::clicked, this, [this] { link_.disconnectNow(); });
    connect(&link_, &DeviceLink::changed, this, &DeviceDialog::show);
    connect(&link_, &DeviceLink::said, state_, &QLabel::setText);
    show();
    (address_->text().isEmpty() ? address_ : code_)->setFocus();
    resize(kWidth, sizeHint().height());
}

void DeviceDialog::connectNow() {
    const QString trouble = link_.connectTo(address_->text(), code_->text());
    if (!trouble.isEmpty()) return state_->setText(trouble);
    settings::lastDevice().set(address_->text().trimmed());
}

void DeviceDialog::show() {
    state_->setText(link_.words());
    disconnect_->setEnabled(link_.runs());
}

}  // namespace fugato
