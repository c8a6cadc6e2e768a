// SPDX-License-Identifier: GPL-3.0-or-later
#include <csignal>
#include <iostream>

#include "commands.h"
#include "format/opening.h"

int main(int argc, char** argv) {
    std::signal(SIGPIPE, SIG_IGN);  // a closed output is told by its exit code
    std::signal(SIGXFSZ, SIG_IGN);  // and so is the limit on the size of files
    const int code = fugato::runCli(argc, argv, std::cout, std::cerr);
    fugato::makeLeftRecordingsWhole();
    return code;
}
