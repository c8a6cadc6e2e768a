// SPDX-License-Identifier: GPL-3.0-or-later
//
// Starts a program, records it, and tells what made its frames late.
#pragma once

#include <memory>
#include <ostream>
#include <string>
#include <vector>

#include "format/result.h"
#include "session/launch.h"

namespace CLI {
class App;
}

namespace fugato {

class RecordCommand {
public:
    explicit RecordCommand(CLI::App& app);
    bool chosen() const;
    int run(std::ostream& out, std::ostream& err) const;  // returns an ExitCode

private:
    int check(std::ostream& out, std::ostream& err) const;
    Result<Launch> wantedLaunch() const;

    CLI::App* command_;
    std::vector<std::string> words_;  // the program and its arguments
    std::string to_, folder_, leaveOut_, length_, collect_, moments_;
    std::vector<std::string> environment_;
    bool check_ = false, json_ = false, end_ = false, offer_ = false;
};

}  // namespace fugato
