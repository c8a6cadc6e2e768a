// SPDX-License-Identifier: GPL-3.0-or-later
//
// Tables as text: for a person, and as CSV or JSON for other programs. Rows are written as they are read; nothing grows
// with the table. May run on any thread.
#pragma once

#include <ostream>

#include "table.h"

namespace fugato {

/// A real number with thousands apart where it is large, else with as many digits as tell something.
std::string realText(double value);

/// A value as a person reads it: "41.3 ms"; empty where there is none.
std::string valueText(const TableColumn& column, const TableValue& value);

/// Aligned columns, the wide one last (else the first), since it is as wide as it likes; without those that are
/// optional or empty. Rows deeper than `depth` are left out; returns how many of these lie directly below a written
/// one.
size_t writeText(const Table& table, std::ostream& out, size_t depth = SIZE_MAX);

/// RFC 4180, with a line of keys; times as nanoseconds. Where rows lie below each other, a first column says how deep.
/// False where `progress` cancelled it; where `out` takes no more, it ends.
bool writeCsv(const Table& table, std::ostream& out, const Progress& progress = {});
/// The same for some rows, with tabs, under the titles: what a spreadsheet takes from the clipboard.
void writeForClipboard(const Table& table, const std::vector<Table::Row>& rows, const std::vector<size_t>& columns,
                       std::ostream& out);

/// A list of objects by the columns' keys; `below` holds what lies below a row where any row has such.
bool writeJson(const Table& table, std::ostream& out, const Progress& progress = {});

}  // namespace fugato
