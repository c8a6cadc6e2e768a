// SPDX-License-Identifier: GPL-3.0-or-later
#include "keys.h"

namespace fugato {

std::string keyOf(const std::vector<std::string>& parts) {
    std::string key;
    for (const std::string& part : parts) {
        if (&part != &parts.front()) key += '/';
        for (const char c : part) {
            if (c == '/' || c == '\\') key += '\\';
            key += c;
        }
    }
    return key;
}

std::vector<std::string> laneKeys(const Recording& recording) {
    std::vector<std::string> keys;
    std::map<std::string, uint32_t> met;
    for (const Lane& lane : recording.lanes) {
        std::vector<std::string> parts{std::string(wordOf(lane.kind)), lane.role.empty() ? lane.name : lane.role};
        if (const uint32_t before = met[keyOf(parts)]++) parts.push_back(std::to_string(before));
        keys.push_back(keyOf(parts));
    }
    return keys;
}

std::string groupKey(const Recording& recording, uint32_t group) {
    const LaneGroup& lanes = recording.groups[group];
    return keyOf({std::string(wordOf(recording.lanes[lanes.lanes.front()].kind)), lanes.name});
}

std::string pathKey(const Recording& recording, PathId path) {
    return path ? keyOf(recording.namesOf(path)) : std::string();
}

}  // namespace fugato
