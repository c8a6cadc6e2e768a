/* SPDX-License-Identifier: GPL-3.0-or-later */
#include <fugato/fugato.h>

int main(int argc, char** argv) {
    static fug_site turn = FUG_SITE("Turn in C", "client", "one turn");
    int i;
    if (argc < 2 || fug_start(argv[1], NULL) != 0) return 1;
    for (i = 0; i < 10; ++i) fug_end(fug_begin(&turn));
    fug_stop();
    return 0;
}
