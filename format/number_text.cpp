// SPDX-License-Identifier: GPL-3.0-or-later
#include "number_text.h"

#include <charconv>
#include <cmath>

namespace fugato {

namespace {
constexpr size_t kLongest = 400;  // digits of the largest number, and decimals
}

std::string fixedText(double value, int decimals) {
    char text[kLongest];
    return {text, std::to_chars(text, text + sizeof text, value, std::chars_format::fixed, decimals).ptr};
}

std::string shortText(double value, int digits) {
    char text[kLongest];
    return {text, std::to_chars(text, text + sizeof text, value, std::chars_format::general, digits).ptr};
}

std::optional<double> numberIn(std::string_view text) {
    double value = 0;
    const char* end = text.data() + text.size();
    const auto read = std::from_chars(text.data(), end, value);
    if (read.ec != std::errc() || read.ptr != end || !std::isfinite(value)) return std::nullopt;
    return value;
}

}  // namespace fugato
