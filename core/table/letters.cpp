// SPDX-License-Identifier: GPL-3.0-or-later
#include "letters.h"

#include <algorithm>

namespace fugato {

namespace {
char lower(char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; }
}  // namespace

std::string lowered(std::string_view text) {
    std::string made(text);
    std::transform(made.begin(), made.end(), made.begin(), lower);
    return made;
}

Letters::Letters(std::string_view letters) : lowered_(lowered(letters)) {}

bool Letters::in(std::string_view text) const {
    return std::search(text.begin(), text.end(), lowered_.begin(), lowered_.end(),
                       [](char x, char y) { return lower(x) == y; }) != text.end();
}

}  // namespace fugato
