// SPDX-License-Identifier: MIT
//
// What machine a recording was made on and in what state: facts read from /proc and /sys once, at
// the start. Names of people and hosts are left out.
#pragma once

#include <functional>
#include <string>

namespace fugato::recording {

void tellRunContext(const std::function<void(const std::string& key, const std::string& value)>& tell);

/// A UUID that chance made; never waits for chance.
std::string randomUuid();

/// The first line of a small file; empty where it cannot be read.
std::string firstLineOf(const char* path);

}  // namespace fugato::recording
