// SPDX-License-Identifier: GPL-3.0-or-later
#include "events.h"

#include <algorithm>
#include <queue>

namespace fugato {

void EventStore::event(uint32_t lane, const Event& event) {
    auto& kept = lanes[lane].emplace_back(event);
    if (!event.text.empty()) kept.text = texts_.emplace_back(event.text);
}

size_t EventStore::eventCount() const {
    size_t count = 0;
    for (const auto& [lane, events] : lanes) count += events.size();
    return count;
}

void EventStore::inTimeOrder(const std::function<bool(uint32_t, const Event&)>& visit) const {
    struct Cursor {
        int64_t time;  // highest so far in the lane, so that the lane's own order holds
        uint32_t lane;
        const std::vector<Event>* events;
        size_t at;
        bool operator>(const Cursor& other) const { return time != other.time ? time > other.time : lane > other.lane; }
    };
    std::priority_queue<Cursor, std::vector<Cursor>, std::greater<>> heads;
    for (const auto& [lane, events] : lanes)
        if (!events.empty()) heads.push({events.front().time, lane, &events, 0});
    while (!heads.empty()) {
        Cursor cursor = heads.top();
        heads.pop();
        if (!visit(cursor.lane, (*cursor.events)[cursor.at])) return;
        if (++cursor.at < cursor.events->size()) {
            cursor.time = std::max(cursor.time, (*cursor.events)[cursor.at].time);
            heads.push(cursor);
        }
    }
}

bool isUtf8(std::string_view text) {
    if (std::none_of(text.begin(), text.end(), [](char c) { return c & 0x80; })) return true;
    return cleanUtf8(text) == text;
}

std::string cleanUtf8(std::string_view text) {
    std::string out;
    out.reserve(text.size());
    for (size_t i = 0; i < text.size();) {
        const auto lead = static_cast<unsigned char>(text[i]);
        const size_t length = lead < 0x80                   ? 1
                              : lead >= 0xc2 && lead < 0xe0 ? 2
                              : lead >= 0xe0 && lead < 0xf0 ? 3
                              : lead >= 0xf0 && lead < 0xf5 ? 4
                                                            : 0;
        bool good = length > 0 && i + length <= text.size();
        for (size_t k = 1; good && k < length; ++k) good = (static_cast<unsigned char>(text[i + k]) & 0xc0) == 0x80;
        if (good && length >= 3) {  // no overlong forms, no surrogates, nothing above U+10FFFF
            const auto second = static_cast<unsigned char>(text[i + 1]);
            good = !(lead == 0xe0 && second < 0xa0) && !(lead == 0xed && second > 0x9f) &&
                   !(lead == 0xf0 && second < 0x90) && !(lead == 0xf4 && second > 0x8f);
        }
        if (good) {
            out.append(text.substr(i, length));
            i += length;
        } else {
            out.append("\xef\xbf\xbd");
            ++i;
        }
    }
    return out;
}

}  // namespace fugato
