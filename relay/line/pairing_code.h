// SPDX-License-Identifier: GPL-3.0-or-later
//
// The code that a device shows and a person types on the other side: 80 random bits as sixteen letters and digits. It
// never goes over the network; both sides make the key of their line from it.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace fugato::line {

using Key = std::array<unsigned char, 32>;

/// "7KQM-02XV-H9TD-4WRA". Empty where the system gives no random numbers.
std::string newPairingCode();
/// As typed: in small or large letters, with or without dashes and spaces; O counts as 0, I and L as 1. Nothing where
/// it cannot be a code.
std::optional<Key> keyOf(std::string_view typedCode);

}  // namespace fugato::line
