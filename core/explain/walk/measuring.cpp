// SPDX-License-Identifier: GPL-3.0-or-later
#include "measuring.h"

#include <algorithm>
#include <map>

#include "format/number_text.h"

namespace fugato {

namespace {

std::pair<uint32_t, uint32_t> beginningIn(const MarkerRow& row, int64_t begin, int64_t end) {
    const uint32_t from = row.firstFrom(begin);
    return {from, std::max(from, row.firstFrom(end))};
}

std::string percent(double share) { return fixedText(share * 100, 1) + " %"; }

}  // namespace

int64_t measuringInFrame(const Recording& recording, const Frame& frame, double markerCostNs) {
    size_t markers = 0;
    for (const MarkerRow& row : recording.lanes[frame.lane].rows) {
        const auto [from, to] = beginningIn(row, frame.begin, frame.end);
        markers += to - from;
    }
    return static_cast<int64_t>(static_cast<double>(markers) * markerCostNs);
}

namespace {

using Counts = std::vector<uint64_t>;  // by site

/// Markers of whole chunks, from their sums.
void addChunks(const Recording& recording, Counts& to, const MarkerRow& row, size_t fromChunk, size_t toChunk) {
    for (size_t chunk = fromChunk; chunk < toChunk; ++chunk)
        for (auto [sum, past] = row.sumsOf(chunk); sum != past; ++sum)
            to[recording.paths[row.pathOf(sum->path)].site] += sum->count;
}

/// The markers [from, to) of a row, by sums where these are of whole chunks.
void addMarkers(const Recording& recording, Counts& to, const MarkerRow& row, uint32_t from, uint32_t past) {
    const auto addEach = [&](uint32_t first, uint32_t end) {
        row.forEach(first, end, [&](uint32_t, int64_t, int64_t, uint32_t path, uint8_t) {
            if (const uint32_t site = recording.paths[row.pathOf(path)].site; site != kNone) ++to[site];
        });
    };
    const uint32_t wholeFrom = (from + MarkerRow::kChunk - 1) / MarkerRow::kChunk, wholeTo = past / MarkerRow::kChunk;
    if (wholeFrom >= wholeTo) return addEach(from, past);
    addEach(from, wholeFrom * MarkerRow::kChunk);
    addChunks(recording, to, row, wholeFrom, wholeTo);
    addEach(wholeTo * MarkerRow::kChunk, past);
}

/// How many markers begin in each frame; adds them up by site too.
std::vector<uint32_t> markersInFrames(const Recording& recording, const Column<Frame>& frames, Counts& bySite) {
    std::vector<uint32_t> markers(frames.size());
    std::map<uint32_t, std::vector<uint32_t>> byLane;
    for (uint32_t i = 0; i < frames.size(); ++i) byLane[frames[i].lane].push_back(i);
    for (const auto& [lane, members] : byLane)
        for (const MarkerRow& row : recording.lanes[lane].rows) {
            // Frames mostly begin where the one before ended: their markers are added up together.
            uint32_t from = 0, past = 0;
            const auto firstFrom = [&, &row = row](int64_t begin) {
                const uint32_t before = row.lastBefore(begin, past);
                return before == kNone ? 0 : before + 1;
            };
            for (const uint32_t i : members) {
                const uint32_t first = firstFrom(frames[i].begin);
                if (first != past) {
                    addMarkers(recording, bySite, row, from, past);
                    from = first;
                }
                past = std::max(first, firstFrom(frames[i].end));
                markers[i] += past - first;
            }
            addMarkers(recording, bySite, row, from, past);
        }
    return markers;
}

}  // namespace

Measuring measuringOf(const Recording& recording, uint32_t series) {
    Measuring result;
    const auto told = recording.context.find("marker cost ns");
    if (told != recording.context.end()) {
        std::string text = told->second;
        std::replace(text.begin(), text.end(), ',', '.');  // older recorders wrote it as the program's locale has it
        result.markerCostNs = std::clamp(numberIn(text).value_or(0), 0.0, 1e6);
    }

    Counts counts(recording.sites.size()), inFrames(recording.sites.size());
    for (const Lane& lane : recording.lanes)
        for (const MarkerRow& row : lane.rows) addChunks(recording, counts, row, 0, row.chunks().size());
    int64_t time = 0;
    size_t frames = 0;
    if (series < recording.series.size()) {
        const Column<Frame>& all = recording.series[series].frames;
        frames = all.size();
        const std::vector<uint32_t> markers = markersInFrames(recording, all, inFrames);
        for (uint32_t i = 0; i < frames; ++i) {
            time += all[i].duration();
            const auto measured = static_cast<int64_t>(markers[i] * result.markerCostNs);
            result.inFrames += measured;
            if (all[i].duration() <= 0) continue;
            const double share = static_cast<double>(measured) / static_cast<double>(all[i].duration());
            if (share > result.worstShare) {
                result.worstShare = share;
                result.worstFrame = i;
            }
        }
    }
    if (time > 0) result.share = static_cast<double>(result.inFrames) / static_cast<double>(time);
    std::vector<uint32_t> order;
    for (uint32_t i = 0; i < counts.size(); ++i)
        if (counts[i]) order.push_back(i);
    const size_t kept = std::min<size_t>(10, order.size());
    std::partial_sort(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(kept), order.end(),
                      [&](uint32_t x, uint32_t y) { return counts[x] != counts[y] ? counts[x] > counts[y] : x < y; });
    for (size_t i = 0; i < kept; ++i) {
        FrequentMarker marker{order[i], counts[order[i]], 0, 0};
        const auto often = static_cast<double>(inFrames[marker.site]);
        if (frames) marker.perFrame = often / static_cast<double>(frames);
        if (time > 0) marker.shareOfFrames = often * result.markerCostNs / static_cast<double>(time);
        result.most.push_back(marker);
    }
    return result;
}

std::string measuringAdvice(const Recording& recording, const Measuring& measuring) {
    if (!measuring.overLimit()) return {};
    const auto most = std::max_element(measuring.most.begin(), measuring.most.end(),
                                       [](auto& x, auto& y) { return x.shareOfFrames < y.shareOfFrames; });
    if (most == measuring.most.end()) return {};
    const Site& site = recording.sites[most->site];
    return "Measuring took " + percent(measuring.share) + " of the frames, most of it in ‘" + site.name + "’, " +
           fixedText(most->perFrame, most->perFrame < 10 ? 1 : 0) + " times a frame. " +
           (site.category.empty() ? "Give it a category and switch that to a coarser detail."
                                  : "Switch its category ‘" + site.category + "’ to a coarser detail.");
}

}  // namespace fugato
