// SPDX-License-Identifier: GPL-3.0-or-later
//
// The functions that a recording's call stacks name. Worked out once, in the background: from the programs' and
// libraries' own files, where these are still what they were when the recording was made.
#pragma once

#include <tsl/robin_map.h>

#include "core/model/recording.h"
#include "debug_information.h"

namespace fugato {

using FunctionId = uint32_t;  // in Symbols::functions

/// Never changes once made; for any thread.
class Symbols {
public:
    struct Function {
        std::string name;         // empty: what of the module has no symbol, or is in no module
        uint32_t module = kNone;  // in `modules`
        std::string file;         // in which it is declared; empty: not known
        uint32_t line = 0;        // there; 0: not known
    };
    struct Place {
        FunctionId function = 0;
        uint32_t line = 0;      // being executed; 0: not known
        uint32_t file = kNone;  // in `files`, in which that line is; kNone: not known
    };
    struct ModuleFile {
        std::string path, buildId;
        DebugInformation::State state = DebugInformation::State::Missing;
        size_t places = 0;      // of its code that occur in call stacks
        double endsStacks = 0;  // this part of the call stacks ends in it, and tells no caller
    };

    static constexpr FunctionId kNoModule = 0;  // stands for all code that lies in no module
    std::vector<Function> functions;
    std::vector<ModuleFile> modules;
    std::vector<std::string> files;  // of the source

    /// What is executed at a call stack's address, the innermost inlined function first; never empty for an address of
    /// the recording. `calling`: it is where a call returns to, so any but the innermost of a stack.
    std::span<const Place> at(uint64_t address, bool calling) const;
    /// The functions of a call stack, the outermost first.
    void stackOf(const Recording& recording, const StackSample& sample, std::vector<Place>& into) const;

    /// "png_read_row", "code without a name"; without anonymous namespaces, and long names without what stands between
    /// < and >.
    std::string nameOf(FunctionId function) const;
    std::string moduleOf(FunctionId function) const;  // "libpng16.so.16"; empty: in no module
    /// Whether it tells what was done: not a standard library's, of which everything makes use, and not code without a
    /// name in the system or in no module.
    bool tells(FunctionId function) const;
    std::string fullName(FunctionId function) const;  // "png_read_row of libpng16.so.16"
    /// What could not be named and why, for the person. Empty: nothing is missing.
    std::vector<std::string> missing() const;

private:
    friend class SymbolsBuilder;
    tsl::robin_map<uint64_t, uint32_t> indexOf_;  // by the address of the instruction
    std::vector<Place> places_;
    std::vector<uint32_t> from_{0};  // place number n has places_ [from_[n], from_[n + 1])
};

/// `folder`: of the cache files, one for each build id; empty: no cache. Null if cancelled.
std::shared_ptr<const Symbols> symbolsOf(const Recording& recording, const std::string& folder,
                                         const Progress& progress = {});

}  // namespace fugato
