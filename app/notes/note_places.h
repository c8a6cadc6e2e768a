// SPDX-License-Identifier: GPL-3.0-or-later
//
// What can be noted of what is selected, and from a note back to what it is about. Interface thread only.
#pragma once

#include "app/document/document.h"
#include "app/selection/selection.h"

namespace fugato {

/// What was selected last stands first.
std::vector<Note> notable(const Document& document, const Selection& selection);
void goToNote(const Note& note, Document& document, Selection& selection);
/// The time a note is about, since the recording's begin; none: it is about no time, or that is not there any more.
std::optional<TimeRange> timeOf(const Note& note, const Recording& recording);

}  // namespace fugato
