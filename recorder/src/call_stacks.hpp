// SPDX-License-Identifier: MIT
//
// What call stacks need: their addresses as an event holds them, and where the program's code lies, so that they can be
// given names later.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string_view>

namespace fugato::recording {

struct Recorder;

constexpr size_t kMostStack = 64;  // addresses of one call stack

/// The addresses of a call stack as an event holds them: innermost first, of more than kMostStack the innermost.
class PackedStack {
public:
    PackedStack(const uint64_t* addresses, size_t count);
    std::string_view bytes() const { return {bytes_, size_}; }

private:
    char bytes_[kMostStack * 10];
    size_t size_ = 0;
};

/// Used by the drain only, with Recorder::outputMutex held.
class ProgramModules {
public:
    /// Tells what code has come since, once a second at most; `now` is CLOCK_MONOTONIC in ns.
    void tell(Recorder& r, uint64_t now, bool last);

private:
    uint64_t changes_ = 0, lastNs_ = 0;
};

}  // namespace fugato::recording
