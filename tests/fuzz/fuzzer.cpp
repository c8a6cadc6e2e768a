// SPDX-License-Identifier: GPL-3.0-or-later
//
// One target (FUZZ_TARGET) for libFuzzer.
#include <cstdint>

#include "targets.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
    static const fugato::FuzzTarget target = fugato::kFuzzTargets.at(FUZZ_TARGET);
    target({reinterpret_cast<const char*>(data), size});
    return 0;
}
