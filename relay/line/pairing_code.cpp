// SPDX-License-Identifier: GPL-3.0-or-later
#include "pairing_code.h"

#include <openssl/evp.h>
#include <openssl/rand.h>

#include <cctype>

namespace fugato::line {

namespace {

constexpr std::string_view kLetters = "0123456789ABCDEFGHJKMNPQRSTVWXYZ";  // none that are taken for others
constexpr size_t kLength = 16, kGroup = 4;
constexpr std::string_view kFor = "fugato relay 1\n";

}  // namespace

std::string newPairingCode() {
    std::array<unsigned char, kLength> random{};
    if (RAND_bytes(random.data(), kLength) != 1) return {};
    std::string code;
    for (size_t i = 0; i < kLength; ++i) {
        if (i && i % kGroup == 0) code += '-';
        code += kLetters[random[i] % kLetters.size()];
    }
    return code;
}

std::optional<Key> keyOf(std::string_view typedCode) {
    std::string code;
    for (const char typed : typedCode) {
        char c = static_cast<char>(std::toupper(static_cast<unsigned char>(typed)));
        if (c == '-' || c == ' ' || c == '\n' || c == '\r' || c == '\t') continue;
        if (c == 'O') c = '0';
        if (c == 'I' || c == 'L') c = '1';
        if (kLetters.find(c) == std::string_view::npos) return std::nullopt;
        code += c;
    }
    if (code.size() != kLength) return std::nullopt;
    const std::string text = std::string(kFor) + code;
    Key key{};
    unsigned size = 0;
    if (EVP_Digest(text.data(), text.size(), key.data(), &size, EVP_sha256(), nullptr) != 1 || size != key.size())
        return std::nullopt;
    return key;
}

}  // namespace fugato::line
