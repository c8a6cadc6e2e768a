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

struct Stacks {
    StackScope scope;
    std::shared_ptr<const Symbols> symbols;
    StackTree tree;
    size_t taken = 0;                    // call stacks
    std::vector<FunctionRow> functions;  // the most samples of its own first
    int64_t each = 0;                    // ns that one stands for: a sample's, or 1; 0: not known
};

/// Null where `progress` cancelled it. Costs a look at every sample in the scope.
std::shared_ptr<const Stacks> stacksIn(const Recording& recording, std::shared_ptr<const Symbols> symbols,
                                       const StackScope& scope, const Progress& progress = {});

}  // namespace fugato
