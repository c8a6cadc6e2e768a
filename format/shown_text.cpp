// SPDX-License-Identifier: GPL-3.0-or-later
#include "shown_text.h"

#include "events.h"

namespace fugato {

namespace {

constexpr const char* kReplaced = "\xef\xbf\xbd";  // U+FFFD

/// A control character as programmers write it.
void appendEscaped(std::string& out, unsigned char byte) {
    constexpr char kDigits[] = "0123456789abcdef";
    out += '\\';
    if (byte == '\n' || byte == '\r' || byte == '\t')
        out += byte == '\n' ? 'n' : byte == '\r' ? 'r' : 't';
    else
        (out += 'x', out += kDigits[byte >> 4], out += kDigits[byte & 15]);
}

/// What stands for the 3-byte character at `at`; null where it is shown as it is.
const char* replacementOf(std::string_view at) {
    const auto second = static_cast<unsigned char>(at[1]), third = static_cast<unsigned char>(at[2]);
    if (second == 0x80 && (third == 0xa8 || third == 0xa9)) return "\\n";    // separators of lines and paragraphs
    if (second == 0x80 && third >= 0xaa && third <= 0xae) return kReplaced;  // U+202A to U+202E
    if (second == 0x81 && third >= 0xa6 && third <= 0xa9) return kReplaced;  // U+2066 to U+2069
    return nullptr;
}

}  // namespace

bool isShownText(std::string_view text) {
    for (const char c : text) {
        const auto byte = static_cast<unsigned char>(c);
        if (byte < 0x20 || byte == 0x7f || byte == 0xc2 || byte == 0xe2) return shownText(text) == text;
        if (byte >= 0x80) return isUtf8(text) && shownText(text) == text;
    }
    return true;
}

std::string shownText(std::string_view given) {
    const std::string clean = cleanUtf8(given);
    const std::string_view text = clean;
    std::string out;
    out.reserve(text.size());
    for (size_t i = 0; i < text.size(); ++i) {
        const auto byte = static_cast<unsigned char>(text[i]);
        if (byte < 0x20 || byte == 0x7f) {
            appendEscaped(out, byte);
        } else if (byte == 0xc2 && static_cast<unsigned char>(text[i + 1]) < 0xa0) {  // further controls, U+0080 on
            out += kReplaced;
            ++i;
        } else if (const char* other = byte == 0xe2 ? replacementOf(text.substr(i, 3)) : nullptr) {
            out += other;
            i += 2;
        } else {
            out += text[i];
        }
    }
    return out;
}

}  // namespace fugato
