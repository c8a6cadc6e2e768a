// SPDX-License-Identifier: GPL-3.0-or-later
//
// The commands that ask something of a recording: table, marker, find, stacks, advice.
#pragma once

#include <ostream>
#include <string>
#include <vector>

#include "core/explain/advice/advice.h"

namespace CLI {
class App;
}

namespace fugato {

/// How a table is to be written.
struct TableOptions {
    bool json = false, csv = false;
    std::string sort, filter;  // a column's key, "-key" for the largest first; words
};

class AskCommands {
public:
    explicit AskCommands(CLI::App& app);
    bool chosen() const;
    int run(std::ostream& out, std::ostream& err) const;  // returns an ExitCode

private:
    CLI::App *table_, *marker_, *find_, *stacks_, *advice_;
    std::string file_, words_, lane_;
    bool blocked_ = false;
    double fromSeconds_ = 0, toSeconds_ = -1;  // of the recording; -1: its end
    size_t depth_ = 3, longest_ = 10;
    AdviceLimits limits_;
    double slowFileMs_ = static_cast<double>(limits_.slowFile) / 1e6;
    TableOptions options_;
};

}  // namespace fugato
