// SPDX-License-Identifier: GPL-3.0-or-later
//
// Texts that programs and files tell, made fit to be shown on one line: what is not UTF-8 becomes U+FFFD; line breaks
// and other control characters become what programmers write for them (\n, \x1b), so that they neither break a line
// nor reach a terminal as commands; characters that turn the direction of what follows become U+FFFD.
#pragma once

#include <string>
#include <string_view>

namespace fugato {

std::string shownText(std::string_view text);
/// Whether shownText() would leave it as it is.
bool isShownText(std::string_view text);

}  // namespace fugato
