// SPDX-License-Identifier: MIT
//
// What is to be asked of the operating system, as it is said to a program that is started or joined: words, separated by
// commas. Any thread.
#pragma once

#include <fugato/fugato.h>

#include <algorithm>
#include <cstdint>
#include <string_view>
#include <utility>

namespace fugato {

/// Those of the words that are known, as FUG_OS_… added together.
inline uint32_t osActivitiesIn(std::string_view words) {
    constexpr std::pair<std::string_view, uint32_t> kWords[] = {{"switches", FUG_OS_SWITCHES},
                                                                {"samples", FUG_OS_SAMPLES},
                                                                {"stack-copies", FUG_OS_STACK_COPIES},
                                                                {"blocking", FUG_OS_BLOCKING},
                                                                {"load", FUG_OS_LOAD}};
    uint32_t found = 0;
    while (!words.empty()) {
        const std::string_view word = words.substr(0, words.find(','));
        for (const auto& [name, bit] : kWords)
            if (word == name) found |= bit;
        words.remove_prefix(std::min(words.size(), word.size() + 1));
    }
    return found;
}

}  // namespace fugato
