// SPDX-License-Identifier: GPL-3.0-or-later
//
// The call stacks of a scope, added up: by function, and who called whom.
#pragma once

#include "core/symbols/stack_tree.h"
#include "scope.h"

namespace fugato {

struct StackScope {
    Scope in;
    bool blocked = false;  // where threads were blocked, else where they ran
    bool operator==(const StackScope&) const = default;
};

/// One function, wherever it was called.
struct FunctionRow {
    FunctionId function = 0;
    /// Samples, or ns blocked: in which it was being executed, counted once however deep it calls itself; in which it
    /// was the innermost.
    uint64_t total = 0, self = 0;
    FunctionId caller = kNone;  // who called it most
};

/// A line of the source that was being executed.
struct LineRow {
    FunctionId function = 0;  // that was seen in it
    uint32_t file = kNone;    // in Symbols::files; kNone: its line is not known
    uint32_t line = 0;
    uint64_t total = 0, self = 0;
};

struct Stacks {
    StackScope scope;
    std::shared_ptr<const Symbols> symbols;
    StackTree tree;
    size_t taken = 0;                    // call stacks
    std::vector<FunctionRow> functions;  // the most samples of its own first
    std::vector<LineRow> lines;          // the same
    int64_t each = 0;                    // ns that one stands for: a sample's, or 1; 0: not known
};

/// Null where `progress` cancelled it. Costs a look at every sample in the scope.
std::shared_ptr<const Stacks> stacksIn(const Recording& recording, std::shared_ptr<const Symbols> symbols,
                                       const StackScope& scope, const Progress& progress = {});

}  // namespace fugato
