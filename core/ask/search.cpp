// SPDX-License-Identifier: GPL-3.0-or-later
#include "search.h"

#include <algorithm>
#include <unordered_map>

#include "core/store/long_work.h"

namespace fugato {

namespace {

char lower(char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; }

bool holds(std::string_view text, const std::string& lowered) {
    return std::search(text.begin(), text.end(), lowered.begin(), lowered.end(),
                       [](char x, char y) { return lower(x) == y; }) != text.end();
}

}  // namespace

/// So many of them, the longest first.
static void keepLongest(std::vector<FoundArgument>& all) {
    std::stable_sort(all.begin(), all.end(),
                     [](const FoundArgument& a, const FoundArgument& b) { return a.duration > b.duration; });
    if (all.size() > kMostFound) all.resize(kMostFound);
}

std::shared_ptr<const Found> search(const Recording& r, const std::string& text, const Progress& progress) {
    longWork("a search");
    auto made = std::make_shared<Found>();
    Found& found = *made;
    found.text = text;
    std::string wanted = text;
    std::transform(wanted.begin(), wanted.end(), wanted.begin(), lower);
    if (wanted.empty()) return made;

    std::vector<bool> named(r.sites.size());
    for (size_t i = 0; i < r.sites.size(); ++i)
        named[i] =
            holds(r.sites[i].name, wanted) || holds(r.sites[i].category, wanted) || holds(r.sites[i].file, wanted);
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

    const size_t equals = wanted.find('=');
    const std::string key = equals == std::string::npos ? std::string() : wanted.substr(0, equals),
                      value = equals == std::string::npos ? wanted : wanted.substr(equals + 1);
    std::vector<bool> keyFits(r.keys.size());
    for (size_t i = 0; i < r.keys.size(); ++i) keyFits[i] = key.empty() || holds(r.keys[i], key);
    std::unordered_map<TextRef, bool> known;  // equal texts mostly are one
    const auto fits = [&](const Argument& argument) {
        if (!keyFits[argument.key]) return false;
        if (argument.type != ArgumentType::Text) return holds(r.valueText(argument), value);
        const auto [at, isNew] = known.try_emplace(argument.value, false);
        if (isNew) at->second = holds(r.text(argument.value), value);
        return at->second;
    };
    size_t done = 0;
    for (uint32_t l = 0; l < r.lanes.size(); ++l)
        for (uint32_t at = 0; at < r.lanes[l].arguments.size(); ++at) {
            const MarkerRow& row = r.lanes[l].rows[at];
            const Column<Argument>& arguments = r.lanes[l].arguments[at];
            for (uint32_t i = 0; i < arguments.size(); ++i, ++done) {
                if (done % 65536 == 0 && progress &&
                    !progress(static_cast<double>(l) / static_cast<double>(r.lanes.size())))
                    return nullptr;
                if (!fits(arguments[i])) continue;
                ++found.allArguments;
                const uint32_t index = arguments[i].index;
                found.arguments.push_back({{l, at, index}, i, row.begin(index), row.duration(index)});
                if (found.arguments.size() == 2 * kMostFound) keepLongest(found.arguments);
            }
        }
    keepLongest(found.arguments);
    for (uint32_t i = 0; i < r.points.size(); ++i)
        if (holds(r.text(r.points[i].text), wanted) && found.allPoints++ < kMostFound) found.points.push_back({i});
    return made;
}

}  // namespace fugato
