// SPDX-License-Identifier: GPL-3.0-or-later
#include "connect_command.h"

#include <cstdlib>
#include <iostream>
#include <thread>

#include "command_parts.h"
#include "commands.h"
#include "core/explain/words/quantities.h"
#include "session/device_connection.h"
#include "session_parts.h"

namespace fugato {

ConnectCommand::ConnectCommand(CLI::App& app)
    : command_(app.add_subcommand("connect",
                                  "Lists and records the programs of another device, on which fugato-relay runs")) {
    command_->add_option("DEVICE", address_, "its name or address, with :PORT where it is another one")->required();
    command_->add_option(
        "--code", code_,
        "the pairing code that the device shows; without it, FUGATO_PAIRING_CODE, else it is asked for");
}

bool ConnectCommand::chosen() const { return command_->parsed(); }

int ConnectCommand::run(std::ostream& out, std::ostream& err) const {
    const auto address = deviceAddressIn(address_);
    if (!address) return tellFailure(err, kExitWrongUse, address.failure().sentence);
    std::string code = code_;
    if (const char* const named = std::getenv("FUGATO_PAIRING_CODE"); code.empty() && named) code = named;
    if (code.empty()) {
        err << "Pairing code, as the device shows it: " << std::flush;
        std::getline(std::cin, code);
    }
    const auto key = line::keyOf(code);
    if (!key)
        return tellFailure(err, kExitWrongUse,
                           "That is no pairing code: it has sixteen letters and digits, such as 7KQM-02XV-H9TD-4WRA.");

    const TakeInterrupts interrupted;
    DeviceConnection connection(*address, *key);
    DeviceState before;
    while (!interrupted.count()) {
        const DeviceState now = connection.state();
        using Line = DeviceState::Line;
        if (now.line == Line::Refused) return tellFailure(err, kExitNothingFound, now.trouble);
        if (now.trouble != before.trouble && !now.trouble.empty()) tellNote(err, now.trouble);
        if (now.line == Line::Connected && (before.line != Line::Connected || now.programs != before.programs))
            out << "Connected to " << now.name << ": " << plural(now.programs, "program", "programs")
                << " can be recorded there. `fugato-cli programs` and the window list them until Ctrl+C ends this."
                << std::endl;
        before = now;
        std::this_thread::sleep_for(std::chrono::milliseconds(100));
    }
    return kExitOk;
}

}  // namespace fugato
