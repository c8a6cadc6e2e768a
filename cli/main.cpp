// SPDX-License-Identifier: GPL-3.0-or-later
#include <iostream>

#include "commands.h"

int main(int argc, char** argv) { return fugato::runCli(argc, argv, std::cout, std::cerr); }
