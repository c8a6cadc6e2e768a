// SPDX-License-Identifier: GPL-3.0-or-later
//
// Durations and counts as a person reads them.
#pragma once

#include <cstdint>
#include <string>

namespace fugato {

std::string msText(int64_t ns, int decimals = 1);        // "41.3"
std::string durationText(int64_t ns);                    // "3.10 s", "41.3 ms", "820 µs", "95 ns"
std::string instantText(int64_t ns);                     // since a begin, to the microsecond: "131.482 315 s"
std::string signedMsText(int64_t ns, int decimals = 1);  // "+18.6", "−0.4"
/// To the nanosecond, in the unit that suits it: "3.214 567 ms", "−1.002 003 004 s", "95 ns".
std::string exactText(int64_t ns);
std::string bytesText(uint64_t bytes);  // "640 B", "41.3 kB", "340 kB", "3.1 MB"
std::string countText(uint64_t count);  // "9 402", with narrow spaces
std::string plural(uint64_t count, const std::string& one, const std::string& many);  // "1 frame"

}  // namespace fugato
