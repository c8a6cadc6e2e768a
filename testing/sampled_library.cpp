// SPDX-License-Identifier: GPL-3.0-or-later
#include "sampled_program.h"

namespace {
volatile int rows = 0;
}

extern "C" __attribute__((noinline)) void unpack_rows() {
    for (int i = 0; i < 100; ++i) rows = rows * 3 + i;
}
