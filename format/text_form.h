// SPDX-License-Identifier: GPL-3.0-or-later
//
// The text form: JSON Lines, one definition or event per line. See docs/text-form.md.
#pragma once

#include "recording_file.h"

namespace fugato {

bool looksLikeText(ByteSource& source);
Result<Damage> readText(ByteSource& source, const std::string& name, EventSink& sink, const Progress& progress);
bool writeText(const EventStore& store, const std::function<bool(std::string_view)>& write, const Progress& progress);

}  // namespace fugato
