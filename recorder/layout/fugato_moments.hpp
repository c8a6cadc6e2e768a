// SPDX-License-Identifier: MIT
//
// What is kept of a recording that is held in memory, and when: as it is said to a program that is started or joined
// (docs/recording-your-program.md). Any thread; throws std::bad_alloc only.
#pragma once

#include <algorithm>
#include <cstdint>
#include <cstdio>
#include <optional>
#include <string>
#include <string_view>

namespace fugato {

struct MomentPlan {
    uint64_t beforeNs = 20'000'000'000, afterNs = 2'000'000'000;
    uint64_t pauseNs = 10'000'000'000;  // after a save, before the next
    uint32_t mostSaves = 20;
    // What is worth saving; what is 0 is not looked at.
    uint64_t frameNs = 0;                // a frame that takes longer
    double timesUsual = 0;               // a frame that takes so many times the median of those before it
    uint32_t lateFrames = 0, outOf = 0;  // so many frames over their deadline among so many
    bool errors = false;                 // a point of severity error
};

inline constexpr uint32_t kMostOutOf = 1000;

/// Nothing where it is not understood.
///   "before=20s,after=2s,pause=10s,saves=20,frame=50ms,usual=3,late=3/10,errors", in any order, each optional
inline std::optional<MomentPlan> momentPlanIn(std::string_view text) {
    const auto number = [](std::string_view& from) -> std::optional<double> {  // whatever the program's locale
        double value = 0, unit = 1;
        size_t digits = 0, at = 0;
        for (bool behindPoint = false; at < from.size(); ++at) {
            if (from[at] == '.' && !behindPoint) {
                behindPoint = true;
            } else if (from[at] >= '0' && from[at] <= '9') {
                if (behindPoint) unit /= 10;
                value = behindPoint ? value + (from[at] - '0') * unit : value * 10 + (from[at] - '0');
                ++digits;
            } else {
                break;
            }
        }
        from.remove_prefix(at);
        if (!digits || value > 1e15) return std::nullopt;
        return value;
    };
    MomentPlan plan;
    while (!text.empty()) {
        std::string_view rest = text.substr(0, text.find(','));
        text.remove_prefix(rest.size() < text.size() ? rest.size() + 1 : rest.size());
        const size_t equals = rest.find('=');
        const std::string_view key = rest.substr(0, equals);
        if (key == "errors" && equals == std::string_view::npos) {
            plan.errors = true;
            continue;
        }
        if (equals == std::string_view::npos) return std::nullopt;
        rest.remove_prefix(equals + 1);
        const auto value = number(rest);
        if (!value) return std::nullopt;
        const auto time = [&](uint64_t& ns) {
            const double unit = rest == "s" ? 1e9 : rest == "ms" ? 1e6 : rest == "ns" ? 1 : 0;
            const bool fits = unit > 0 && *value * unit <= 1e15;
            if (fits) ns = static_cast<uint64_t>(*value * unit);
            return fits;
        };
        bool good = false;
        if (key == "before") {
            good = time(plan.beforeNs) && plan.beforeNs > 0;
        } else if (key == "after") {
            good = time(plan.afterNs);
        } else if (key == "pause") {
            good = time(plan.pauseNs);
        } else if (key == "frame") {
            good = time(plan.frameNs) && plan.frameNs > 0;
        } else if (key == "usual") {
            plan.timesUsual = std::min(*value, 1e6);
            good = rest.empty() && *value >= 1.01;
        } else if (key == "saves") {
            plan.mostSaves = static_cast<uint32_t>(std::min(*value, 1e9));
            good = rest.empty() && plan.mostSaves > 0;
        } else if (key == "late" && !rest.empty() && rest[0] == '/') {
            rest.remove_prefix(1);
            const auto among = number(rest);
            plan.lateFrames = static_cast<uint32_t>(std::min(*value, 1e9));
            plan.outOf = among ? static_cast<uint32_t>(std::min(*among, 1e9)) : 0;
            good = rest.empty() && plan.lateFrames > 0 && plan.lateFrames <= plan.outOf && plan.outOf <= kMostOutOf;
        }
        if (!good) return std::nullopt;
    }
    return plan;
}

/// The same the other way round.
inline std::string textOf(const MomentPlan& plan) {
    const auto time = [](uint64_t ns) { return std::to_string(ns) + "ns"; };
    std::string text = "before=" + time(plan.beforeNs) + ",after=" + time(plan.afterNs) +
                       ",pause=" + time(plan.pauseNs) + ",saves=" + std::to_string(plan.mostSaves);
    if (plan.frameNs) text += ",frame=" + time(plan.frameNs);
    if (plan.timesUsual > 0) {
        const double nearest = plan.timesUsual * 100 + 0.5;  // lround() is of another library than this one links
        const auto hundredths = static_cast<unsigned>(nearest);
        char part[8];
        std::snprintf(part, sizeof part, ".%02u", hundredths % 100);
        text += ",usual=" + std::to_string(hundredths / 100) + part;
    }
    if (plan.outOf) text += ",late=" + std::to_string(plan.lateFrames) + "/" + std::to_string(plan.outOf);
    if (plan.errors) text += ",errors";
    return text;
}

}  // namespace fugato
