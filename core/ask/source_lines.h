// SPDX-License-Identifier: GPL-3.0-or-later
//
// A file of the source with what each line cost: time by call stacks, and time of the markers that stand there.
#pragma once

#include "core/table/table.h"
#include "format/result.h"
#include "marker_groupings.h"
#include "stacks.h"

namespace fugato {

struct SourceFile {
    std::string name;  // as the recording tells it
    std::string path;  // where it was found
    std::vector<std::string> lines;
};
inline constexpr uint64_t kLargestSource = 16'000'000;  // bytes

/// Reads a text file; not one that is too large, or no regular file. `path`: where it lies here.
Result<SourceFile> readSource(const std::string& name, const std::string& path);

enum SourceColumn : size_t { kSourceLine, kSourceText, kSourceSelf, kSourceTotal, kSourceMarkers, kSourceCalls };
/// `stacks`, `markers`: each marker in the same scope; null: not told.
std::shared_ptr<const Table> sourceTable(std::shared_ptr<const Recording> recording,
                                         std::shared_ptr<const SourceFile> file,
                                         const std::shared_ptr<const Stacks>& stacks,
                                         const std::shared_ptr<const GroupedMarkers>& markers);

/// Whether two names are of one file: the same, or one ends with the other's folders and name.
bool sameSource(std::string_view a, std::string_view b);

}  // namespace fugato
