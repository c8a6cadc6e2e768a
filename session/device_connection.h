// SPDX-License-Identifier: GPL-3.0-or-later
//
// The programs of another device, as if they ran here: for each that offers itself there, a socket in this user's
// folder of sockets (docs/control-protocol.md), so that it is listed and joined like the programs of this machine. A
// relay on the device is at the other end (docs/relay-protocol.md). Recordings grow here as they grow there; where the
// connection is lost, it is tried again, and what was recorded meanwhile arrives later.
//
// Works on a thread of its own; all functions may be called from any thread, and only the destructor waits, for a
// moment.
#pragma once

#include <memory>
#include <string>

#include "format/result.h"
#include "relay/line/pairing_code.h"

namespace fugato {

struct DeviceAddress {
    std::string host;
    uint16_t port = 0;
};
/// "ferry-kit", "10.0.0.7:5000", "[fe80::1]:5000".
Result<DeviceAddress> deviceAddressIn(const std::string& text);

struct DeviceState {
    enum class Line { Connecting, Connected, Broken, Refused } line = Line::Connecting;
    std::string name;      // of the device, once it was connected
    std::string trouble;   // a sentence, where there is no line
    size_t programs = 0;   // that can be recorded there
    size_t recording = 0;  // recordings that are being fetched
};

class DeviceConnection {
public:
    DeviceConnection(const DeviceAddress& address, const line::Key& key);
    /// Programs there are no longer recorded from here; what is on its way of a recording is waited for a moment.
    ~DeviceConnection();
    DeviceConnection(const DeviceConnection&) = delete;
    DeviceConnection& operator=(const DeviceConnection&) = delete;

    DeviceState state() const;

private:
    class Work;
    std::unique_ptr<Work> work_;
};

}  // namespace fugato
