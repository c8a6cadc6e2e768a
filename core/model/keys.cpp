// SPDX-License-Identifier: GPL-3.0-or-later
#include "keys.h"

#include <fugato_layout.hpp>

namespace fugato {

std::string recordingId(const Recording& recording) {
    if (const auto told = recording.context.find(layout::kRecordingIdKey); told != recording.context.end())
        return told->second;
    std::string start = std::to_string(recording.startedUnixNs);
    for (const char* key : {"program", "build", "process"})
        if (const auto told = recording.context.find(key); told != recording.context.end())
            start += std::string("/") + key + "=" + told->second;
    const XXH128_hash_t hash = XXH3_128bits(start.data(), start.size());
    return layout::uuidText(hash.high64, hash.low64, 8);
}

std::string keyOf(const std::vector<std::string>& names) {
    std::string key;
    for (const std::string& name : names) {
        if (&name != &names.front()) key += '/';
        for (const char c : name) {
            if (c == '/' || c == '|' || c == '\\') key += '\\';
            key += c;
        }
    }
    return key;
}

std::string joinedKeys(const std::vector<std::string>& keys) {
    std::string joined;
    for (const std::string& key : keys) joined += (&key == &keys.front() ? "" : "|") + key;
    return joined;
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
