// SPDX-License-Identifier: GPL-3.0-or-later
// Loads and unloads code with markers while recording, and switches its category in between.
#include <dlfcn.h>

#include <fugato/fugato.hpp>

int main(int argc, char** argv) {
    if (argc < 3) return 2;
    const fug::Recording recording(argv[1]);
    for (int i = 0; i < 20; ++i) {
        void* plugin = dlopen(argv[2], RTLD_NOW);
        if (!plugin) return 3;
        reinterpret_cast<void (*)()>(dlsym(plugin, "work"))();
        dlclose(plugin);
        fug_detail("plugin", i % 2 ? 2 : 1);
    }
    return 0;
}
