// SPDX-License-Identifier: GPL-3.0-or-later
//
// Programs that run already: `programs` lists those that can be joined, `join` records one of them until Ctrl+C, `save`
// has the one that holds its last seconds save them.
#pragma once

#include <ostream>
#include <string>

#include "session/running_programs.h"

namespace CLI {
class App;
}

namespace fugato {

class JoinCommands {
public:
    explicit JoinCommands(CLI::App& app);
    bool chosen() const;
    int run(std::ostream& out, std::ostream& err) const;  // returns an ExitCode

private:
    int list(std::ostream& out, std::ostream& err) const;
    int join(std::ostream& out, std::ostream& err) const;
    int save(std::ostream& out, std::ostream& err) const;

    CLI::App *list_, *join_, *save_;
    bool json_ = false;
    std::string which_, to_, length_, collect_, moments_, why_;
};

}  // namespace fugato
