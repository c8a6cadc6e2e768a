// SPDX-License-Identifier: GPL-3.0-or-later
#include "writing.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "core/explain/words/quantities.h"
#include "format/number_text.h"

namespace fugato {

namespace {

using Row = Table::Row;

constexpr size_t kMostIndent = 60;

/// Calls `enter(row, depth)` for every row, those above first, and `leave(row, depth)` after what lies below it.
/// `enter` says whether to look below; false from `go` ends all.
template <class Enter, class Leave, class Go>
bool walk(const Table& table, Enter&& enter, Leave&& leave, Go&& go) {
    struct At {
        Row parent;
        uint32_t next = 0;
    };
    std::vector<At> open{{Table::kTop}};
    for (;;) {
        At& at = open.back();
        if (at.next == table.countBelow(at.parent)) {
            const Row done = at.parent;
            open.pop_back();
            if (open.empty()) return true;
            leave(done, open.size() - 1);
            continue;
        }
        if (!go()) return false;
        const Row row = table.rowBelow(at.parent, at.next++);
        if (enter(row, open.size() - 1))
            open.push_back({row});
        else
            leave(row, open.size() - 1);
    }
}

constexpr int kDigits = 15;  // of real numbers, for other programs

std::string rawText(const TableValue& value) {
    if (const auto* real = std::get_if<double>(&value)) return shortText(*real, kDigits);
    if (const auto* number = std::get_if<int64_t>(&value)) return std::to_string(*number);
    if (const auto* text = std::get_if<std::string>(&value)) return *text;
    return {};
}

std::string csvText(const TableValue& value) {
    std::string text = rawText(value);
    if (text.find_first_of(",\"\r\n") == std::string::npos) return text;
    std::string quoted = "\"";
    for (const char c : text) quoted += c == '"' ? std::string("\"\"") : std::string(1, c);
    return quoted + "\"";
}

std::string jsonText(const std::string& text) {
    return nlohmann::json(text).dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
}

/// Columns on a screen that a text takes: letters, not bytes.
size_t widthOf(const std::string& text) {
    return static_cast<size_t>(std::count_if(text.begin(), text.end(), [](char c) { return (c & 0xC0) != 0x80; }));
}

bool isTime(Quantity quantity) {
    return quantity == Quantity::Duration || quantity == Quantity::Milliseconds ||
           quantity == Quantity::SignedMilliseconds || quantity == Quantity::Instant;
}

/// Whether to go on: not where nothing can be written, or it was cancelled.
class Steps {
public:
    Steps(const Table& table, const std::ostream& out, const Progress& progress)
        : out_(out), progress_(progress), all_(table.rowLimit()) {}
    bool operator()() {
        if (++done_ % 4096 != 0) return true;
        return out_ && (!progress_ || progress_(static_cast<double>(done_) / static_cast<double>(all_)));
    }

private:
    const std::ostream& out_;
    const Progress& progress_;
    const uint32_t all_;
    size_t done_ = 0;
};

}  // namespace

std::string realText(double value) {
    constexpr double kLarge = 1e5, kTooLarge = 1e15;
    const double size = std::abs(value);
    if (!(size >= kLarge && size < kTooLarge)) return shortText(value, 6);
    return (value < 0 ? "−" : "") + countText(static_cast<uint64_t>(std::llround(size)));
}

std::string valueText(const TableColumn& column, const TableValue& value) {
    if (const auto* text = std::get_if<std::string>(&value)) return *text;
    if (const auto* real = std::get_if<double>(&value)) return realText(*real);
    const auto* number = std::get_if<int64_t>(&value);
    if (!number) return {};
    constexpr int64_t kNoDifference = 5000;  // ns; less is 0.00 ms
    switch (column.quantity) {
        case Quantity::Count: return countText(static_cast<uint64_t>(*number));
        case Quantity::Duration: return durationText(*number);
        case Quantity::Milliseconds: return msText(*number, 2);
        case Quantity::SignedMilliseconds: return std::abs(*number) < kNoDifference ? "0.00" : signedMsText(*number, 2);
        case Quantity::Instant: return instantText(*number - column.origin);
        case Quantity::Bytes:
            return (*number < 0 ? "−" : "") +
                   bytesText(*number < 0 ? 0 - static_cast<uint64_t>(*number) : static_cast<uint64_t>(*number));
        case Quantity::PerMille: return fixedText(static_cast<double>(*number) / 10, 1) + " %";
        case Quantity::Flag: return *number ? "yes" : "";
        case Quantity::Number:
        case Quantity::Text: break;
    }
    return std::to_string(*number);
}

size_t writeText(const Table& table, std::ostream& out, size_t depth) {
    constexpr Row kMeasured = 4096;  // of rows that may be too many to be looked at twice
    const auto& columns = table.columns();
    const auto nothing = [](Row, size_t) {};
    size_t last = 0;
    for (size_t c = 1; c < columns.size(); ++c)
        if (columns[c].wide) last = c;
    std::vector<size_t> widths;
    for (const TableColumn& column : columns) widths.push_back(widthOf(column.title));
    std::vector<size_t> shown;
    for (size_t c = 0; c < columns.size(); ++c)
        if (c != last && !columns[c].empty && !columns[c].optional) shown.push_back(c);
    size_t left = 0;
    const auto measure = [&](Row row) {
        for (const size_t c : shown)
            widths[c] = std::max(widths[c], widthOf(valueText(columns[c], table.value(row, c))));
    };
    if (table.ordered()) {
        for (Row row = 0; row < std::min(kMeasured, table.rowLimit()); ++row) measure(row);
    } else {
        walk(
            table,
            [&](Row row, size_t at) {
                if (at == 0 || !table.belowSpans()) measure(row);
                if (at >= depth) left += table.countBelow(row);
                return at < depth;
            },
            nothing, [] { return true; });
    }
    const auto line = [&](size_t indent, auto&& cell) {
        for (const size_t c : shown) {
            const std::string text = cell(c);
            const std::string room(widths[c] - std::min(widths[c], widthOf(text)), ' ');
            out << (columns[c].quantity == Quantity::Text ? text + room : room + text) << "  ";
        }
        out << std::string(2 * std::min(indent, kMostIndent), ' ') << cell(last) << "\n";
    };
    line(0, [&](size_t c) { return columns[c].title; });
    walk(
        table,
        [&](Row row, size_t at) {
            line(at, [&](size_t c) {
                const bool spans = at > 0 && table.belowSpans();
                return c != last && spans ? std::string() : valueText(columns[c], table.value(row, c));
            });
            return at < depth;
        },
        nothing, Steps(table, out, {}));
    return left;
}

bool writeCsv(const Table& table, std::ostream& out, const Progress& progress) {
    const bool nested = table.nested();
    const auto& columns = table.columns();
    if (nested) out << "depth,";
    for (size_t c = 0; c < columns.size(); ++c) out << (c ? "," : "") << csvText(columns[c].key);
    out << "\r\n";
    const bool whole = walk(
        table,
        [&](Row row, size_t depth) {
            if (nested) out << depth << ",";
            for (size_t c = 0; c < columns.size(); ++c) out << (c ? "," : "") << csvText(table.value(row, c));
            out << "\r\n";
            return true;
        },
        [](Row, size_t) {}, Steps(table, out, progress));
    return whole || !out;
}

void writeForClipboard(const Table& table, const std::vector<Row>& rows, const std::vector<size_t>& columns,
                       std::ostream& out) {
    const auto plain = [](std::string text) {
        std::replace_if(
            text.begin(), text.end(), [](char c) { return c == '\t' || c == '\n' || c == '\r'; }, ' ');
        return text;
    };
    for (size_t i = 0; i < columns.size(); ++i) {
        const TableColumn& column = table.columns()[columns[i]];
        std::string title = plain(column.title);
        if (isTime(column.quantity)) title = title.substr(0, title.find(" ms")) + " (ns)";
        out << (i ? "\t" : "") << title;
    }
    out << "\n";
    for (const Row row : rows) {
        for (size_t i = 0; i < columns.size(); ++i)
            out << (i ? "\t" : "") << plain(rawText(table.value(row, columns[i])));
        out << "\n";
    }
}

bool writeJson(const Table& table, std::ostream& out, const Progress& progress) {
    const bool nested = table.nested();
    const auto& columns = table.columns();
    std::vector<std::string> keys;
    for (const TableColumn& column : columns) keys.push_back(jsonText(column.key));
    bool first = true;
    out << "[";
    const bool whole = walk(
        table,
        [&](Row row, size_t depth) {
            out << (first ? "\n" : ",\n") << std::string(std::min(depth + 1, kMostIndent), ' ') << "{";
            bool firstCell = true;
            for (size_t c = 0; c < columns.size(); ++c) {
                const TableValue value = table.value(row, c);
                if (std::holds_alternative<std::monostate>(value)) continue;
                out << (firstCell ? "" : ", ") << keys[c] << ": ";
                firstCell = false;
                if (const auto* text = std::get_if<std::string>(&value))
                    out << jsonText(*text);
                else if (columns[c].quantity == Quantity::Flag)
                    out << (std::get<int64_t>(value) ? "true" : "false");
                else if (const auto* real = std::get_if<double>(&value))
                    out << (std::isfinite(*real) ? shortText(*real, kDigits) : "null");
                else
                    out << std::get<int64_t>(value);
            }
            if (nested) out << (firstCell ? "" : ", ") << "\"below\": [";
            first = true;
            return true;
        },
        [&](Row, size_t) {
            out << (nested ? "]}" : "}");
            first = false;
        },
        Steps(table, out, progress));
    out << "\n]";
    return whole || !out;
}

}  // namespace fugato
