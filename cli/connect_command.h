// SPDX-License-Identifier: GPL-3.0-or-later
//
// `connect`: the programs of another device are listed and recorded like those of this machine, until Ctrl+C.
#pragma once

#include <ostream>
#include <string>

namespace CLI {
class App;
}

namespace fugato {

class ConnectCommand {
public:
    explicit ConnectCommand(CLI::App& app);
    bool chosen() const;
    int run(std::ostream& out, std::ostream& err) const;  // returns an ExitCode

private:
    CLI::App* command_;
    std::string address_, code_;
};

}  // namespace fugato
