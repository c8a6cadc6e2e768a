// SPDX-License-Identifier: GPL-3.0-or-later
#include "search.h"

#include <algorithm>

#include "core/model/lane_order.h"
#include "core/store/long_work.h"

namespace fugato {

namespace {

std::string_view keyIn(std::string_view letters) {
    const size_t equals = letters.find('=');
    return equals == std::string_view::npos ? std::string_view() : letters.substr(0, equals);
}

/// So many of them, the longest first.
void keepLongest(std::vector<FoundArgument>& all) {
    std::stable_sort(all.begin(), all.end(),
                     [](const FoundArgument& a, const FoundArgument& b) { return a.duration > b.duration; });
    if (all.size() > kMostFound) all.resize(kMostFound);
}

}  // namespace

ArgumentLetters::ArgumentLetters(const Recording& recording, std::string_view letters)
    : recording_(recording),
      value_(letters.substr(letters.find('=') == std::string_view::npos ? 0 : letters.find('=') + 1)),
      keyFits_(recording.keys.size()) {
    const Letters key(keyIn(letters));
    for (size_t i = 0; i < keyFits_.size(); ++i) keyFits_[i] = key.empty() || key.in(recording.keys[i]);
}

bool ArgumentLetters::fits(const Argument& argument) {
    if (!keyFits_[argument.key]) return false;
    if (argument.type != ArgumentType::Text) return value_.in(recording_.valueText(argument));
    const auto [at, isNew] = known_.try_emplace(argument.value, false);
    if (isNew) at->second = value_.in(recording_.text(argument.value));
    return at->second;
}

std::shared_ptr<const Found> search(const Recording& r, const std::string& text, const Progress& progress) {
    longWork("a search");
    auto made = std::make_shared<Found>();
    Found& found = *made;
    found.text = text;
    const Letters wanted(text);
    if (text.empty()) return made;

    std::vector<bool> named(r.sites.size());
    for (size_t i = 0; i < r.sites.size(); ++i)
        named[i] = wanted.in(r.sites[i].name) || wanted.in(r.sites[i].category) || wanted.in(r.sites[i].file);
    std::vector<FoundMarker> markers(r.sites.size());
    for (const Lane& lane : r.lanes)
        for (const MarkerRow& row : lane.rows)
            for (const PathSum& sum : row.parts().sums) {
                FoundMarker& marker = markers[r.paths[row.pathOf(sum.path)].site];
                marker.count += sum.count;
                // Times of damaged recordings may lie so far apart that their sum has no place.
                if (__builtin_add_overflow(marker.total, sum.total, &marker.total)) marker.total = INT64_MAX;
            }
    for (uint32_t i = 0; i < markers.size(); ++i)
        if (named[i]) {
            markers[i].site = i;
            found.markers.push_back(markers[i]);
        }
    std::stable_sort(found.markers.begin(), found.markers.end(),
                     [](const FoundMarker& x, const FoundMarker& y) { return x.total > y.total; });

    for (const uint32_t lane : lanesInOrder(r))
        if (wanted.in(r.lanes[lane].name) || wanted.in(r.lanes[lane].role)) found.lanes.push_back(lane);

    ArgumentLetters letters(r, text);
    size_t done = 0;
    for (uint32_t l = 0; l < r.lanes.size(); ++l)
        for (uint32_t at = 0; at < r.lanes[l].arguments.size(); ++at) {
            const MarkerRow& row = r.lanes[l].rows[at];
            const Column<Argument>& arguments = r.lanes[l].arguments[at];
            for (uint32_t i = 0; i < arguments.size(); ++i, ++done) {
                if (done % 65536 == 0 && progress &&
                    !progress(static_cast<double>(l) / static_cast<double>(r.lanes.size())))
                    return nullptr;
                if (!letters.fits(arguments[i])) continue;
                ++found.allArguments;
                const uint32_t index = arguments[i].index;
                found.arguments.push_back({{l, at, index}, i, row.begin(index), row.duration(index)});
                if (found.arguments.size() == 2 * kMostFound) keepLongest(found.arguments);
            }
        }
    keepLongest(found.arguments);
    for (uint32_t i = 0; i < r.points.size(); ++i)
        if (wanted.in(r.text(r.points[i].text)) && found.allPoints++ < kMostFound) found.points.push_back({i});
    return made;
}

}  // namespace fugato
