// SPDX-License-Identifier: GPL-3.0-or-later
//
// What reads bytes that anyone may have made, each as a function of bytes: for libFuzzer (fuzzer.cpp), and for
// replaying kept cases (fuzz_replay_test.cpp). None may crash, hang, or take memory beyond what the bytes are worth.
#pragma once

#include <map>
#include <string>
#include <string_view>

namespace fugato {

/// The binary form as it is.
void fuzzBinary(std::string_view bytes);
/// Its checksums made right first, so that what lies behind them is met: opened, explained, what-if, advice, tables.
void fuzzWholeWay(std::string_view bytes);
/// The payload of a packed block.
void fuzzPacked(std::string_view bytes);
void fuzzText(std::string_view bytes);
/// A recording that was not closed and the file of its buffers, one behind the other (the first's size in 4 bytes).
void fuzzUnclosed(std::string_view bytes);
/// An index in the folder for caches.
void fuzzKept(std::string_view bytes);
/// What stands in an index beside its columns, as if its checksum were right.
void fuzzArchive(std::string_view bytes);
/// A message of a running program or of who joins it; and what is said in one of moments.
void fuzzControl(std::string_view bytes);
/// What comes over the line between a device and here, in pieces.
void fuzzLine(std::string_view bytes);
/// The symbols of a program, kept for the next time; as if their checksum were right.
void fuzzSymbols(std::string_view bytes);

/// The notes beside a recording.
void fuzzNotes(std::string_view bytes);

using FuzzTarget = void (*)(std::string_view);
inline const std::map<std::string, FuzzTarget> kFuzzTargets = {
    {"binary", fuzzBinary},     {"whole_way", fuzzWholeWay}, {"packed", fuzzPacked},   {"text", fuzzText},
    {"unclosed", fuzzUnclosed}, {"kept", fuzzKept},          {"archive", fuzzArchive}, {"symbols", fuzzSymbols},
    {"control", fuzzControl},   {"line", fuzzLine},          {"notes", fuzzNotes}};

/// The bytes with the checksums and magic numbers of header and blocks made right.
std::string withChecksums(std::string_view bytes);

}  // namespace fugato
