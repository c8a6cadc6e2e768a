// SPDX-License-Identifier: GPL-3.0-or-later
//
// Functions of the test's own program and of a library beside it, as a recording's call stacks name them: both files
// are there with their debug information, so that what is looked up is known.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

extern "C" void unpack_rows();  // in the library

namespace fugato {

/// shore::runRegatta calls shore::Chart::load, into which readHeader is inlined and which calls unpack_rows; and
/// shore::findCourse, which calls shore::sound<long>. Anchored is a lambda in shore::anchored.
enum class Sampled { RunRegatta, LoadChart, FindCourse, Sound, UnpackRows, Anchored };

// Where recordings say that they were loaded to.
inline constexpr uint64_t kProgramAt = 0x500000000000, kLibraryAt = 0x7f0000000000, kModuleBytes = 0x40000000;
/// The library's; the program's is not told.
inline constexpr const char* kLibraryBuildId = "5eafa4e75eafa4e75eafa4e75eafa4e75eafa4e7";

std::string sampledProgramPath();
/// An address in a function, so many bytes behind its begin.
uint64_t placeIn(Sampled function, uint64_t further);
/// Call stacks as events hold them, the innermost first.
std::string stackBytes(const std::vector<uint64_t>& addresses);
std::string stackBytes(const std::vector<Sampled>& functions);
/// The same as the text form has them.
std::string stackText(const std::vector<uint64_t>& addresses);
std::string stackText(const std::vector<Sampled>& functions);

}  // namespace fugato
