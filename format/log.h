// SPDX-License-Identifier: GPL-3.0-or-later
//
// A log on the error output, for whoever wants to know what the program keeps to itself: why an index was made anew,
// what could not be kept or fetched, where the time of opening goes. Silent unless --log-level asks for it. Thread
// safe.
#pragma once

#include <string>
#include <string_view>

namespace fugato {

enum class LogLevel { Debug, Info, Warning, Error, Off };

/// "debug", "info", "warning", "error" or "off"; false where it is none of these. Before other threads log.
bool setLogLevel(std::string_view word);
/// A line of it; control characters are shown as such.
void log(LogLevel level, const std::string& text);

}  // namespace fugato
