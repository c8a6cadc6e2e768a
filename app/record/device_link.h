// SPDX-License-Identifier: GPL-3.0-or-later
//
// The line to another device whose programs are listed and recorded here, as the window sees it. One device at a time.
#pragma once

#include <QObject>
#include <QTimer>
#include <memory>
#include <thread>
#include <vector>

#include "session/device_connection.h"

namespace fugato {

class DeviceLink : public QObject {
    Q_OBJECT
public:
    explicit DeviceLink(QObject* parent = nullptr);
    ~DeviceLink() override;

    /// An empty text, or a sentence why this cannot be.
    QString connectTo(const QString& address, const QString& code);
    void disconnectNow();
    bool runs() const { return connection_ != nullptr; }
    /// "Connected to ferry-kit: 2 programs can be recorded there."
    QString words() const;

signals:
    void changed();
    void said(const QString& words);  // the line broke

private:
    void look();

    std::unique_ptr<DeviceConnection> connection_;
    DeviceState state_;
    QTimer looking_;
    std::vector<std::thread> ending_;  // each ends an earlier connection once its queue is sent
};

}  // namespace fugato
