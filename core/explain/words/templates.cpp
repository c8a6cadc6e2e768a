// SPDX-License-Identifier: GPL-3.0-or-later
#include "templates.h"

#include <algorithm>
#include <atomic>

namespace fugato {

namespace {
std::atomic<Translate> translation{nullptr};
}

void setTranslate(Translate translate) { translation = translate; }

std::string Template::operator()(std::initializer_list<std::pair<std::string_view, std::string_view>> parts) const {
    const Translate translate = translation.load(std::memory_order_relaxed);
    const std::string whole = translate ? translate(text) : text;
    std::string out;
    for (size_t at = 0; at < whole.size();) {
        const size_t open = whole.find('{', at), close = open == std::string::npos ? open : whole.find('}', open);
        if (close == std::string::npos) return out + whole.substr(at);
        const std::string_view name = std::string_view(whole).substr(open + 1, close - open - 1);
        const auto part = std::find_if(parts.begin(), parts.end(), [&](const auto& p) { return p.first == name; });
        out.append(whole, at, open - at);
        if (part == parts.end())
            out.append(whole, open, close + 1 - open);
        else
            out += part->second;
        at = close + 1;
    }
    return out;
}

}  // namespace fugato
