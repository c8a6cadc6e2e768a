// SPDX-License-Identifier: GPL-3.0-or-later
#include "likely_enders.h"

#include <algorithm>
#include <map>

namespace fugato {

namespace {

constexpr int64_t kLongWait = 500'000;  // ns; shorter ones neither tell nor matter
constexpr size_t kFewest = 8;           // such waits
constexpr size_t kLookedAt = 64;        // of one marker, spread over the recording
constexpr size_t kMostMarkers = 64;     // those that were waited in for longest
constexpr uint32_t kRowsLookedAt = 3;   // of the work's markers
constexpr double kNearlyAll = 0.8;      // of the waits end with it…
constexpr double kHardlyEver = 0.25;    // …and of other instants so many of those at most

/// Who ends them is told in other ways, or nobody does.
bool isOpen(const Recording& r, const Wait& wait) {
    switch (wait.kind) {
        case WaitKind::Other:
        case WaitKind::Condition:
        case WaitKind::Job:
        case WaitKind::Gpu: return !wait.link && (wait.object == kNone || r.holds[wait.object].empty());
        default: return false;
    }
}

struct Waits {
    std::vector<std::pair<int64_t, int64_t>> all;  // begin and end
    int64_t ns = 0;
    bool forDevice = false;
};

}  // namespace

EndedWork workEndedNear(const Recording& r, uint32_t group, uint32_t besides, int64_t time) {
    EndedWork nearest;
    int64_t distance = kEndsTogether;
    for (const uint32_t lane : r.groups[group].lanes) {
        if (lane == besides) continue;
        const auto& rows = r.lanes[lane].rows;
        for (uint32_t row = 0; row < std::min<size_t>(rows.size(), kRowsLookedAt); ++row) {
            // Ends ascend in a row, too.
            const uint32_t from = rows[row].lastBefore(time + kEndsTogether);
            for (uint32_t i = from, looked = 0; i != kNone && looked < 3; --i, ++looked) {
                const int64_t apart = std::abs(rows[row].end(i) - time);
                if (apart < distance && !(rows[row].flags(i) & kMarkerWait)) {
                    distance = apart;
                    nearest = {lane, rows[row].end(i)};
                }
                if (i == 0) break;
            }
        }
    }
    return nearest;
}

std::vector<LikelyEnder> likelyEnders(const Recording& r) {
    std::map<std::pair<uint32_t, PathId>, Waits> byMarker;
    for (uint32_t l = 0; l < r.lanes.size(); ++l)
        for (const Wait& wait : r.lanes[l].waits) {
            if (wait.end - wait.begin < kLongWait || !isOpen(r, wait)) continue;
            Waits& waits = byMarker[{l, r.lanes[l].rows[wait.row].path(wait.index)}];
            waits.all.emplace_back(wait.begin, wait.end);
            waits.ns += wait.end - wait.begin;
            waits.forDevice |= wait.kind == WaitKind::Gpu;
        }
    std::vector<std::pair<int64_t, std::pair<uint32_t, PathId>>> longest;
    for (const auto& [marker, waits] : byMarker)
        if (waits.all.size() >= kFewest) longest.emplace_back(-waits.ns, marker);
    std::sort(longest.begin(), longest.end());
    if (longest.size() > kMostMarkers) longest.resize(kMostMarkers);

    std::vector<LikelyEnder> found;
    for (const auto& [ns, marker] : longest) {
        const Waits& waits = byMarker[marker];
        const size_t count = std::min(waits.all.size(), kLookedAt);
        double most = 0;
        LikelyEnder best{marker.first, marker.second, kNone};
        for (uint32_t group = 0; group < r.groups.size(); ++group) {
            const LaneKind kind = r.lanes[r.groups[group].lanes.front()].kind;
            if (kind != LaneKind::Queue && (kind != LaneKind::Thread || waits.forDevice)) continue;
            size_t together = 0, otherwise = 0;
            for (size_t i = 0; i < count; ++i) {
                const auto& [begin, end] = waits.all[i * waits.all.size() / count];
                // Anywhere in the wait, though not at its end: as far in as this wait's number says.
                const int64_t other = begin + (end - begin - kEndsTogether) * static_cast<int64_t>(i + 1) /
                                                  static_cast<int64_t>(count + 1);
                together += workEndedNear(r, group, marker.first, end).lane != kNone;
                otherwise += workEndedNear(r, group, marker.first, other).lane != kNone;
            }
            const auto part = static_cast<double>(together);
            if (part < kNearlyAll * static_cast<double>(count) || static_cast<double>(otherwise) > kHardlyEver * part)
                continue;
            if (part - static_cast<double>(otherwise) <= most) continue;
            most = part - static_cast<double>(otherwise);
            best.group = group;
        }
        if (best.group != kNone) found.push_back(best);
    }
    std::sort(found.begin(), found.end(), [](const LikelyEnder& x, const LikelyEnder& y) {
        return std::pair(x.lane, x.path) < std::pair(y.lane, y.path);
    });
    return found;
}

}  // namespace fugato
