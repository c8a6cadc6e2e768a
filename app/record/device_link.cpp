// SPDX-License-Identifier: GPL-3.0-or-later
#include "device_link.h"

#include "app/theme/words.h"

namespace fugato {

namespace {

constexpr int kLookEveryMs = 300;

}  // namespace

DeviceLink::DeviceLink(QObject* parent) : QObject(parent) {
    looking_.setInterval(kLookEveryMs);
    connect(&looking_, &QTimer::timeout, this, &DeviceLink::look);
}

DeviceLink::~DeviceLink() {
    connection_.reset();
    for (std::thread& one : ending_) one.join();
}

QString DeviceLink::connectTo(const QString& address, const QString& code) {
    const auto to = deviceAddressIn(address.trimmed().toStdString());
    if (!to) return toQString(to.failure().sentence);
    const auto key = line::keyOf(code.toStdString());
    if (!key) return tr("A pairing code has sixteen letters and digits, such as 7KQM-02XV-H9TD-4WRA.");
    disconnectNow();
    state_ = {};
    connection_ = std::make_unique<DeviceConnection>(*to, *key);
    looking_.start();
    emit changed();
    return {};
}

void DeviceLink::disconnectNow() {
    if (!connection_) return;
    looking_.stop();
    ending_.emplace_back([ends = std::move(connection_)]() mutable { ends.reset(); });
    emit changed();
}

QString DeviceLink::words() const {
    if (!connection_) return tr("Not connected.");
    if (state_.line != DeviceState::Line::Connected)
        return state_.trouble.empty() ? tr("Connecting…") : toQString(state_.trouble);
    return (state_.programs == 1
                ? tr("Connected to %1. %2 program can be recorded there: Join a running program lists it.")
                : tr("Connected to %1. %2 programs can be recorded there: Join a running program lists them."))
        .arg(toQString(state_.name))
        .arg(state_.programs);
}

void DeviceLink::look() {
    const DeviceState now = connection_->state();
    const bool broke = now.line == DeviceState::Line::Broken && state_.line != DeviceState::Line::Broken;
    const bool isNew = now.line != state_.line || now.programs != state_.programs || now.trouble != state_.trouble;
    state_ = now;
    if (broke) emit said(toQString(now.trouble));
    if (now.line == DeviceState::Line::Refused) {  // trying again would change nothing
        const QString why = words();
        disconnectNow();
        state_.trouble = now.trouble;
        emit said(why);
        return;
    }
    if (isNew) emit changed();
}

}  // namespace fugato
