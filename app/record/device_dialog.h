// SPDX-License-Identifier: GPL-3.0-or-later
//
// Which device to connect to, and how the line to it is.
#pragma once

#include <QDialog>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>

#include "device_link.h"

namespace fugato {

class DeviceDialog : public QDialog {
    Q_OBJECT
public:
    explicit DeviceDialog(DeviceLink& link, QWidget* parent);

private:
    void connectNow();
    void show();

    DeviceLink& link_;
    QLineEdit *address_, *code_;
    QLabel* state_;
    QPushButton *connect_, *disconnect_;
};

}  // namespace fugato
