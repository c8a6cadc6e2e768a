// SPDX-License-Identifier: GPL-3.0-or-later
//
// Two libraries of one function name, made of this file with another WHICH: the first asks for the next one of its
// name, as libraries do that stand in for others.
#include <dlfcn.h>

extern "C" const char* which() { return WHICH; }

extern "C" const char* whichNext() {
    auto* const next = reinterpret_cast<const char* (*)()>(dlsym(RTLD_NEXT, "which"));
    return next ? next() : "none";
}
