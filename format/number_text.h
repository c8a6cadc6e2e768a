// SPDX-License-Identifier: GPL-3.0-or-later
//
// Numbers as text and back, the same in every locale.
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace fugato {

/// With so many decimals: "19.7". What is no number is "nan", "inf" or "-inf".
std::string fixedText(double value, int decimals);
/// With so many significant digits, as short as they allow: "0.25", "1e+20".
std::string shortText(double value, int digits);
/// A finite number that takes up all of the text.
std::optional<double> numberIn(std::string_view text);

}  // namespace fugato
