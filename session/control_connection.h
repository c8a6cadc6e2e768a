// SPDX-License-Identifier: GPL-3.0-or-later
//
// A connection to a running program that offers itself to be recorded (docs/control-protocol.md). What comes from
// there is not trusted. One thread at a time; only ask() waits.
#pragma once

#include <fugato_control.hpp>
#include <string>

#include "format/result.h"
#include "own_files.hpp"

namespace fugato {

class ControlConnection {
public:
    /// Failure with an empty sentence: the program has gone, or takes no connection now.
    static Result<ControlConnection> open(const std::string& socket);

    int descriptor() const { return connection_.get(); }
    /// As the system tells it; 0 where the program is not visible from here.
    pid_t process() const { return process_; }
    bool send(const control::Message& request, int file = -1) {
        return control::sendMessage(connection_.get(), request, file);
    }
    control::Received receive();
    /// Sends and waits for the answer, at most so long. A refusal is a failure whose sentence is the program's.
    Result<control::Message> ask(const control::Message& request, int file = -1, int ms = 5000);

private:
    ControlConnection(Descriptor connection, pid_t process) : connection_(std::move(connection)), process_(process) {}
    Descriptor connection_;
    pid_t process_ = 0;
};

}  // namespace fugato
