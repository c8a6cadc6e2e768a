// SPDX-License-Identifier: GPL-3.0-or-later
//
// What was typed into a field to find something: letters that a text holds, whatever their case (of the Latin alphabet
// without accents).
#pragma once

#include <string>
#include <string_view>

namespace fugato {

/// Its letters from A to Z as small ones.
std::string lowered(std::string_view text);

class Letters {
public:
    explicit Letters(std::string_view letters);
    bool empty() const { return lowered_.empty(); }
    bool in(std::string_view text) const;

private:
    std::string lowered_;
};

}  // namespace fugato
