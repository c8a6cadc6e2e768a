// SPDX-License-Identifier: GPL-3.0-or-later
#include "source_lines.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <map>

#include "format/shown_text.h"

namespace fugato {

namespace {

constexpr size_t kTab = 4, kMostLetters = 400;  // of a line

/// Tabs become spaces, what is no text is marked, and very long lines are cut.
std::string lineOf(std::string_view bytes) {
    std::string spaced;
    for (const char c : bytes) {
        if (c == '\t')
            spaced.append(kTab - spaced.size() % kTab, ' ');
        else if (c != '\r')
            spaced += c;
        if (spaced.size() > kMostLetters) break;
    }
    return shownText(spaced);
}

struct LineCost {
    uint64_t self = 0, total = 0;
    int64_t marked = 0;
    uint64_t calls = 0;
    std::string markers;
};

class TableOfSource : public Table {
public:
    TableOfSource(std::shared_ptr<const Recording> recording, std::shared_ptr<const SourceFile> file,
                  const Stacks* stacks, const GroupedMarkers* markers)
        : recording_(std::move(recording)), file_(std::move(file)), each_(stacks ? stacks->each : 0) {
        const auto lineIn = [&](const std::string& name, uint32_t line) {
            return line && line <= file_->lines.size() && sameSource(name, file_->name);
        };
        if (stacks)
            for (const LineRow& row : stacks->lines)
                if (row.file != kNone && lineIn(stacks->symbols->files[row.file], row.line)) {
                    costs_[row.line - 1].self += row.self;
                    costs_[row.line - 1].total += row.total;
                }
        bool marked = false;
        if (markers)
            for (const GroupedMarker& row : markers->rows) {
                if (row.site == kNone || row.group) continue;
                const Site& site = recording_->sites[row.site];
                if (!lineIn(site.file, site.line)) continue;
                LineCost& cost = costs_[site.line - 1];
                if (__builtin_add_overflow(cost.marked, row.total, &cost.marked)) cost.marked = INT64_MAX;
                cost.calls += row.count;
                cost.markers += (cost.markers.empty() ? "" : ", ") + site.name;
                marked = true;
            }
        columns_ = {
            {"line", "Line", Quantity::Count, ""},
            {"text", "Source", Quantity::Text, "", 0, false, false, true},
            {"self_ns", "Self", Quantity::Duration, "Time in the line and in nothing it called, by call stacks"},
            {"total_ns", "Total", Quantity::Duration, "Time in the line and in all it called, by call stacks"},
            {"markers_ns", "Markers", Quantity::Duration, "Time of the markers that stand there"},
            {"calls", "Calls", Quantity::Count, "Occurrences of these markers"}};
        columns_[kSourceText].code = true;
        columns_[kSourceSelf].empty = columns_[kSourceTotal].empty = !each_ || !stacks || stacks->lines.empty();
        columns_[kSourceMarkers].empty = columns_[kSourceCalls].empty = !marked;
    }
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(file_->lines.size()); }
    TableValue value(Row row, size_t column) const override {
        if (column == kSourceLine) return int64_t{row} + 1;
        if (column == kSourceText) return file_->lines[row];
        const auto found = costs_.find(row);
        if (found == costs_.end()) return {};
        const LineCost& cost = found->second;
        const auto some = [](auto value) { return value ? TableValue(static_cast<int64_t>(value)) : TableValue(); };
        switch (column) {
            case kSourceSelf: return some(static_cast<int64_t>(cost.self) * each_);
            case kSourceTotal: return some(static_cast<int64_t>(cost.total) * each_);
            case kSourceMarkers: return some(cost.marked);
            default: return some(cost.calls);
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        if (column == kSourceLine) return Emphasis::Muted;
        return costs_.count(row) && column != kSourceText ? Emphasis::Strong : Emphasis::None;
    }
    std::string help(Row row) const override {
        const auto found = costs_.find(row);
        return found == costs_.end() ? std::string() : found->second.markers;
    }

private:
    const std::shared_ptr<const Recording> recording_;
    const std::shared_ptr<const SourceFile> file_;
    const int64_t each_;
    std::map<Row, LineCost> costs_;
    std::vector<TableColumn> columns_;
};

}  // namespace

bool sameSource(std::string_view a, std::string_view b) {
    if (a.size() < b.size()) std::swap(a, b);
    if (b.empty() || !a.ends_with(b)) return false;
    return a.size() == b.size() || b.front() == '/' || a[a.size() - b.size() - 1] == '/';
}

Result<SourceFile> readSource(const std::string& name, const std::string& path) {
    std::error_code failed;
    if (!std::filesystem::is_regular_file(path, failed)) return Failure{path + " is no file that can be read here."};
    const uintmax_t bytes = std::filesystem::file_size(path, failed);
    if (failed || bytes > kLargestSource)
        return Failure{path + " is too large to be a source file; at most 16 MB are shown."};
    std::ifstream in(path, std::ios::binary);
    std::string text(static_cast<size_t>(bytes), '\0');
    in.read(text.data(), static_cast<std::streamsize>(text.size()));
    text.resize(static_cast<size_t>(std::max<std::streamsize>(0, in.gcount())));
    if (!in && text.empty() && bytes) return Failure{path + " could not be read. May you read it?"};
    SourceFile file{name, path, {}};
    for (size_t at = 0; at < text.size();) {
        const size_t end = std::min(text.find('\n', at), text.size());
        file.lines.push_back(lineOf(std::string_view(text).substr(at, end - at)));
        at = end + 1;
    }
    return file;
}

std::shared_ptr<const Table> sourceTable(std::shared_ptr<const Recording> recording,
                                         std::shared_ptr<const SourceFile> file,
                                         const std::shared_ptr<const Stacks>& stacks,
                                         const std::shared_ptr<const GroupedMarkers>& markers) {
    return std::make_shared<TableOfSource>(std::move(recording), std::move(file), stacks.get(), markers.get());
}

}  // namespace fugato
