// SPDX-License-Identifier: GPL-3.0-or-later
//
// The commands that ask something of a recording: table, marker, find, stacks, waits, operations, frames, counters,
// advice.
#pragma once

#include <optional>
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

/// What of the recording is asked about.
struct ScopeOptions {
    double from = 0, to = -1;              // seconds since the recording's begin; -1: its end
    std::optional<uint32_t> frame, spike;  // the frame; the spike with this frame
    std::string cause, stage;              // its letter; its name
    bool late = false;                     // frames
    std::string lane, role, program;
};

class AskCommands {
public:
    explicit AskCommands(CLI::App& app);
    bool chosen() const;
    int run(std::ostream& out, std::ostream& err) const;  // returns an ExitCode

private:
    void declareWhat();
    void declareHow();
    void declareScopes();

    CLI::App *table_, *marker_, *find_, *stacks_, *waits_, *operations_, *events_, *memory_, *frames_, *counters_,
        *cores_, *instant_, *notes_, *coverage_, *advice_;
    int runInScope(const std::shared_ptr<const Recording>& recording, std::ostream& out, std::ostream& err) const;

    std::string file_, words_, by_ = "lane", waitsBy_ = "object", operationsBy_ = "each", memoryBy_ = "pool",
                               stacksBy_ = "function", around_;
    bool blocked_ = false, usual_ = false, missing_ = false;
    ScopeOptions scope_;
    double leastMs_ = 0, atSeconds_ = 0;
    size_t depth_ = 3, longest_ = 10, lastEvents_ = 0;
    std::vector<std::string> eventKinds_;
    std::string severity_ = "debug", category_;
    AdviceLimits limits_;
    double slowFileMs_ = static_cast<double>(limits_.slowFile) / 1e6;
    TableOptions options_;
};

}  // namespace fugato
