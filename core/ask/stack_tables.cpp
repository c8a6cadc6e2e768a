// SPDX-License-Identifier: GPL-3.0-or-later
//
// Call stacks as tables: by function, by line, as trees of calls.
#include "answer_tables.h"

namespace fugato {

namespace {

TableValue number(uint64_t value) { return static_cast<int64_t>(value); }

TableValue timeOf(const Stacks& stacks, uint64_t counted) {
    return stacks.each ? TableValue(static_cast<int64_t>(counted) * stacks.each) : TableValue();
}

std::string placeOf(const Symbols::Function& f, uint32_t line) {
    return f.file.empty() ? std::string() : f.file + (line ? ":" + std::to_string(line) : "");
}

TableValue text(std::string words) { return words.empty() ? TableValue() : TableValue(std::move(words)); }

class TableOfFunctions : public Table {
public:
    explicit TableOfFunctions(std::shared_ptr<const Stacks> stacks) : stacks_(std::move(stacks)) {}
    const std::vector<TableColumn>& columns() const override {
        static const std::vector<TableColumn> kOfRunning{
            {"function", "Function", Quantity::Text, "As the program's debug information or symbol table names it"},
            {"self_ns", "Self", Quantity::Duration, "Running time in it and in nothing it called, by its samples"},
            {"total_ns", "Total", Quantity::Duration, "Running time in it and in all it called, by its samples"},
            {"module", "Module", Quantity::Text, "The program or library it belongs to"},
            {"called_from", "Mostly called from", Quantity::Text, "The function that called it most of that time"},
            {"source", "Source", Quantity::Text, "Where it is declared"},
            {"self_samples", "Self samples", Quantity::Count, "Call stacks in which it was the innermost"},
            {"samples", "Samples", Quantity::Count, "Call stacks in which it was being executed"}};
        static const std::vector<TableColumn> kOfBlocking = [] {
            std::vector<TableColumn> columns(kOfRunning.begin(), kOfRunning.begin() + kFunctionSelfSamples);
            columns[kFunctionSelf].help = "Time blocked in it itself";
            columns[kFunctionTotal].help = "Time blocked in it and in all it called";
            return columns;
        }();
        return stacks_->scope.blocked ? kOfBlocking : kOfRunning;
    }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(stacks_->functions.size()); }
    TableValue value(Row row, size_t column) const override {
        const FunctionRow& r = stacks_->functions[row];
        const Symbols& symbols = *stacks_->symbols;
        const Symbols::Function& f = symbols.functions[r.function];
        switch (column) {
            case kFunctionName: return symbols.nameOf(r.function);
            case kFunctionSelf: return timeOf(*stacks_, r.self);
            case kFunctionTotal: return timeOf(*stacks_, r.total);
            case kFunctionSelfSamples: return number(r.self);
            case kFunctionSamples: return number(r.total);
            case kFunctionModule: return symbols.moduleOf(r.function);
            case kFunctionCaller: return r.caller == kNone ? std::string() : symbols.nameOf(r.caller);
            default: return placeOf(f, f.line);
        }
    }
    uint64_t keyOf(Row row) const override { return stacks_->functions[row].function; }

private:
    const std::shared_ptr<const Stacks> stacks_;
};

class TableOfLines : public Table {
public:
    explicit TableOfLines(std::shared_ptr<const Stacks> stacks)
        : stacks_(std::move(stacks)),
          columns_{{"source", "Line", Quantity::Text, "Of the source, as the debug information tells it"},
                   {"self_ns", "Self", Quantity::Duration, "Time in it and in nothing it called, by call stacks"},
                   {"total_ns", "Total", Quantity::Duration, "Time in it and in all it called, by call stacks"},
                   {"function", "Function", Quantity::Text, "That was seen there"},
                   {"module", "Module", Quantity::Text, "The program or library it belongs to"},
                   {"self_samples", "Self samples", Quantity::Count, "Call stacks in which it was the innermost"},
                   {"samples", "Samples", Quantity::Count, "Call stacks in which it was being executed"}} {
        columns_[kLineSelf].empty = columns_[kLineTotal].empty = !stacks_->each;
        columns_[kLineSelfSamples].empty = columns_[kLineSamples].empty = stacks_->scope.blocked;
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(stacks_->lines.size()); }
    TableValue value(Row row, size_t column) const override {
        const LineRow& r = stacks_->lines[row];
        const Symbols& symbols = *stacks_->symbols;
        switch (column) {
            case kLineSource: {
                if (r.file == kNone) return symbols.fullName(r.function) + ", line not known";
                return symbols.files[r.file] + ":" + std::to_string(r.line);
            }
            case kLineFunction: return symbols.nameOf(r.function);
            case kLineSelf: return timeOf(*stacks_, r.self);
            case kLineTotal: return timeOf(*stacks_, r.total);
            case kLineModule: return text(symbols.moduleOf(r.function));
            case kLineSelfSamples: return number(r.self);
            default: return number(r.total);
        }
    }
    Emphasis emphasis(Row row, size_t) const override {
        return stacks_->lines[row].file != kNone ? Emphasis::None : Emphasis::Muted;
    }
    uint64_t keyOf(Row row) const override {
        const LineRow& r = stacks_->lines[row];
        return r.file == kNone ? r.function : uint64_t{r.file + 1} << 32 | r.line;
    }

private:
    const std::shared_ptr<const Stacks> stacks_;
    std::vector<TableColumn> columns_;
};

class TableOfCalls : public NestedTable {
public:
    TableOfCalls(std::shared_ptr<const Stacks> stacks, std::shared_ptr<const StackTree> tree)
        : stacks_(std::move(stacks)), tree_(std::move(tree)) {
        // Row n is node n + 1; the root is none.
        const auto rowsOf = [](std::vector<uint32_t> nodes) {
            for (uint32_t& node : nodes) --node;
            return nodes;
        };
        std::vector<std::vector<Row>> children;
        for (size_t node = 1; node < tree_->nodes().size(); ++node)
            children.push_back(rowsOf(tree_->nodes()[node].children));
        nest(rowsOf(tree_->nodes()[StackTree::kRoot].children), std::move(children));
        columns_ = {{"function", "Function", Quantity::Text, "And below it what it calls, or who called it"},
                    {"total_ns", "Total", Quantity::Duration, "Time of these call stacks"},
                    {"self_ns", "Self", Quantity::Duration, "Time of those that end here"},
                    {"module", "Module", Quantity::Text, "The program or library it belongs to"},
                    {"source", "Source", Quantity::Text, "Where it is declared"},
                    {"samples", "Samples", Quantity::Count, "Call stacks"}};
        columns_[kCallTotal].empty = !stacks_->each;
        columns_[kCallSelf].empty = !stacks_->each || tree_.get() != &stacks_->tree;  // callers have none here
        columns_[kCallSamples].empty = stacks_->scope.blocked;
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    TableValue value(Row row, size_t column) const override {
        const StackTree::Node& node = tree_->nodes()[row + 1];
        const Symbols& symbols = *stacks_->symbols;
        const Symbols::Function& f = symbols.functions[node.function];
        switch (column) {
            case kCallFunction: return symbols.nameOf(node.function);
            case kCallTotal: return timeOf(*stacks_, node.total);
            case kCallSelf: return timeOf(*stacks_, node.self);
            case kCallModule: return text(symbols.moduleOf(node.function));
            case kCallSource: return text(placeOf(f, f.line));
            default: return number(node.total);
        }
    }
    Emphasis emphasis(Row row, size_t) const override {
        return stacks_->symbols->tells(tree_->nodes()[row + 1].function) ? Emphasis::None : Emphasis::Muted;
    }
    /// Where it lies among functions, whatever their numbers in another tree.
    uint64_t keyOf(Row row) const override {
        uint64_t key = 1469598103934665603u;  // FNV-1a
        for (uint32_t node = row + 1; node != StackTree::kRoot; node = tree_->nodes()[node].parent)
            key = (key ^ tree_->nodes()[node].function) * 1099511628211u;
        return key;
    }

private:
    const std::shared_ptr<const Stacks> stacks_;
    const std::shared_ptr<const StackTree> tree_;
    std::vector<TableColumn> columns_;
};

}  // namespace

std::shared_ptr<const Table> functionTable(std::shared_ptr<const Stacks> stacks) {
    return std::make_shared<TableOfFunctions>(std::move(stacks));
}

std::shared_ptr<const Table> lineTable(std::shared_ptr<const Stacks> stacks) {
    return std::make_shared<TableOfLines>(std::move(stacks));
}

std::shared_ptr<const Table> callTable(std::shared_ptr<const Stacks> stacks, std::shared_ptr<const StackTree> tree) {
    return std::make_shared<TableOfCalls>(std::move(stacks), std::move(tree));
}

}  // namespace fugato
