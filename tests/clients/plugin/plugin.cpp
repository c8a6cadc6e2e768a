// SPDX-License-Identifier: GPL-3.0-or-later
#include <fugato/fugato.hpp>

extern "C" void work() {
    FUG_MARK("In the plugin", "plugin");
    FUG_ARGUMENT("answer", 42);
}
