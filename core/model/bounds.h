// SPDX-License-Identifier: GPL-3.0-or-later
//
// Whether all indices and times of a recording lie within bounds: what every recording keeps to, so that whoever reads
// one need not look again. One made from events keeps to them; of one that was kept in a file it has to be proven,
// since checksums say only that the file is as it was written.
#pragma once

#include "recording.h"

namespace fugato {

/// Costs a look at every column, but for those of the markers themselves: these are looked at together with their
/// checksums, when they are first read (see Storage::checkContents), or at once where their storage has none. To be
/// asked before others read the recording; throws std::bad_alloc.
bool withinBounds(const Recording& recording);

/// The parts that bounds of other columns are put together from.
inline bool below(uint64_t index, uint64_t count) { return index < count; }
inline bool belowOrNone(uint32_t index, uint64_t count) { return index == kNone || index < count; }
bool isLength(int64_t ns);
/// Whether `from` are the beginnings of parts one behind the other, and the last one's end: `end`.
bool areStarts(const Column<uint32_t>& from, uint64_t end);

}  // namespace fugato
