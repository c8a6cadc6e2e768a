// SPDX-License-Identifier: GPL-3.0-or-later
//
// Which functions lie at which places of a program's or library's file, from its symbol tables and its DWARF, also
// where these stand in a separate file. Files are not trusted: they are read by elfutils' libdw, and only if they are
// regular files with the build id that was recorded. For any thread; different files side by side.
#pragma once

#include <cstdint>
#include <functional>
#include <span>
#include <string>
#include <vector>

namespace fugato {

/// A function that was being executed at a place of the code, and where in it.
struct CodeFunction {
    std::string name;       // C++ names as they are written, without parameters; "lambda in f"; never empty
    std::string file;       // in which it is declared; empty: not known
    uint32_t declared = 0;  // line there; 0: not known
    uint32_t line = 0;      // being executed; 0: not known
    std::string lineFile;   // in which that line is; empty: not known
    auto operator<=>(const CodeFunction&) const = default;
    bool isSame(const CodeFunction& f) const { return name == f.name && file == f.file && declared == f.declared; }
};
/// The innermost inlined function first; empty where no symbol covers the place.
using CodeFunctions = std::vector<CodeFunction>;

struct DebugInformation {
    std::vector<CodeFunctions> places;  // one for each offset
    enum class State : uint8_t { Whole, SymbolsOnly, Missing, Changed, Unreadable } state = State::Missing;
    bool cancelled = false;
};

/// Looks up `offsets` (in the file, ascending). `buildId` in hexadecimal; empty: any file will do.
DebugInformation readDebugInformation(const std::string& path, const std::string& buildId,
                                      std::span<const uint64_t> offsets, const std::function<bool()>& goesOn = {});

/// A C++ name as it is written in the source, without parameters: "Sail::trim", "operator()". Other names stay.
std::string functionName(const char* linkageName);

}  // namespace fugato
