// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_groupings.h"

#include <algorithm>
#include <map>
#include <unordered_map>

#include "adding.h"
#include "core/explain/words/quantities.h"

namespace fugato {

namespace {

uint64_t mixed(uint64_t key, uint64_t more) {
    key = (key ^ (more + 0x9E3779B97F4A7C15 + (key << 6) + (key >> 2))) * 0xBF58476D1CE4E5B9;
    return key ^ (key >> 31);
}

/// `whole`: it lies in no other that is counted here, so its total counts.
void add(MarkerSum& to, const MarkerSum& from, bool whole) {
    addTime(to.self, from.self);
    if (from.count && !to.count) to.wait = from.wait;
    if (from.first.valid() && !to.first.valid()) to.first = from.first;
    to.count += from.count;
    to.longest = std::max(to.longest, from.longest);
    if (!whole) return;
    addTime(to.total, from.total);
    to.allocations += from.allocations;
    to.allocated += from.allocated;
    const auto addKnown = [](int64_t& sum, int64_t ns) {
        if (ns >= 0) sum = std::max<int64_t>(sum, 0) + ns;
    };
    addKnown(to.usual, from.usual);
    addKnown(to.ran, from.ran);
}

class Grouping {
public:
    Grouping(const Recording& r, std::shared_ptr<const NestedMarkers> nested, MarkersBy by, uint32_t site)
        : r_(r), made_(std::make_shared<GroupedMarkers>()), site_(site) {
        made_->by = by;
        made_->from = std::move(nested);
    }

    std::shared_ptr<const GroupedMarkers> all() {
        switch (made_->by) {
            case MarkersBy::Lane: byLane(); break;
            case MarkersBy::Role: byRole(); break;
            case MarkersBy::Leaves: fromLeaves(); break;
            case MarkersBy::Marker: byMarker(); break;
            case MarkersBy::Category: byCategory(); break;
            case MarkersBy::Around: around(); break;
        }
        return made_;
    }

private:
    const std::vector<NestedMarker>& nested() const { return made_->from->rows; }
    GroupedMarker& row(uint32_t at) { return made_->rows[at]; }

    uint32_t addRow(uint32_t parent, uint64_t key) {
        const auto at = static_cast<uint32_t>(made_->rows.size());
        made_->rows.emplace_back();
        made_->rows.back().key = key;
        (parent == kNone ? made_->top : row(parent).children).push_back(at);
        return at;
    }
    /// The row below `parent` that `id` names, made where there is none.
    uint32_t rowBelow(uint32_t parent, uint64_t id) {
        const uint64_t key = mixed(parent == kNone ? 0 : row(parent).key, id);
        const auto [found, fresh] = below_.try_emplace({parent, id}, 0);
        if (fresh) found->second = addRow(parent, key);
        return found->second;
    }
    uint32_t siteBelow(uint32_t parent, uint32_t site) {
        const uint32_t at = rowBelow(parent, site);
        row(at).site = site;
        if (row(at).name.empty()) row(at).name = r_.sites[site].name;
        return at;
    }
    uint32_t groupNamed(const std::string& name, uint64_t id) {
        const uint32_t at = rowBelow(kNone, id);
        row(at).group = true;
        row(at).name = name;
        return at;
    }
    uint32_t siteOf(PathId path) const { return r_.paths[path].site; }
    /// Whether a marker of a path lies in no other for which `same` says so.
    template <class Same>
    bool outermost(PathId path, Same&& same) const {
        for (PathId above = r_.paths[path].parent; above; above = r_.paths[above].parent)
            if (same(siteOf(above))) return false;
        return true;
    }
    template <class Each>
    void eachMarker(Each&& each) const {
        for (const NestedMarker& marker : nested())
            if (marker.path && marker.function == kNone && siteOf(marker.path) != kNone) each(marker);
    }

    void byLane() {
        const auto copy = [&](auto&& self, uint32_t parent, uint32_t from) -> void {
            const NestedMarker& marker = nested()[from];
            const uint64_t path = keyOfPath(marker.lane, marker.path);
            const uint32_t at = addRow(parent, marker.function == kNone ? path : mixed(path + 1, marker.function));
            static_cast<MarkerSum&>(row(at)) = marker;
            row(at).lane = marker.lane;
            row(at).path = marker.path;
            row(at).function = marker.function;
            row(at).samples = marker.samples;
            row(at).group = !marker.path;
            row(at).site = marker.path ? siteOf(marker.path) : kNone;
            row(at).name = marker.path ? r_.nameOf(marker.path) : r_.lanes[marker.lane].name;
            for (const uint32_t child : marker.children) self(self, at, child);
        };
        for (const uint32_t lane : made_->from->lanes) copy(copy, kNone, lane);
    }

    void byRole() {
        const auto merge = [&](auto&& self, uint32_t at, uint32_t from) -> void {
            const NestedMarker& marker = nested()[from];
            add(row(at), marker, true);
            for (const uint32_t child : marker.children) {
                const NestedMarker& below = nested()[child];
                if (below.function != kNone || siteOf(below.path) == kNone) continue;
                self(self, siteBelow(at, siteOf(below.path)), child);
            }
        };
        std::map<uint32_t, uint32_t> lanes;  // by group
        for (const uint32_t lane : made_->from->lanes) ++lanes[r_.lanes[nested()[lane].lane].group];
        for (const uint32_t lane : made_->from->lanes) {
            const uint32_t group = r_.lanes[nested()[lane].lane].group;
            const std::string many = lanes[group] > 1 ? ", " + plural(lanes[group], "lane", "lanes") : "";
            merge(merge, groupNamed(r_.groups[group].name + many, group), lane);
        }
    }

    void fromLeaves() {
        eachMarker([&](const NestedMarker& marker) {
            const uint32_t site = siteOf(marker.path);
            const bool whole = outermost(marker.path, [&](uint32_t above) { return above == site; });
            uint32_t at = kNone;
            for (PathId path = marker.path; path; path = r_.paths[path].parent) {
                at = siteBelow(at, siteOf(path));
                add(row(at), marker, whole);
            }
        });
    }

    void byMarker() {
        eachMarker([&](const NestedMarker& marker) {
            const uint32_t site = siteOf(marker.path);
            add(row(siteBelow(kNone, site)), marker,
                outermost(marker.path, [&](uint32_t above) { return above == site; }));
        });
    }

    void byCategory() {
        const auto categoryOf = [&](uint32_t site) -> const std::string& { return r_.sites[site].category; };
        eachMarker([&](const NestedMarker& marker) {
            const uint32_t site = siteOf(marker.path);
            const std::string& name = categoryOf(site);
            const uint32_t group =
                groupNamed(name.empty() ? "without a category" : name, std::hash<std::string>()(name));
            add(row(group), marker, outermost(marker.path, [&](uint32_t above) { return categoryOf(above) == name; }));
            add(row(siteBelow(group, site)), marker,
                outermost(marker.path, [&](uint32_t above) { return above == site; }));
        });
    }

    void around() {
        if (site_ >= r_.sites.size()) return;
        const uint32_t own = siteBelow(kNone, site_), callers = groupNamed("Called from", uint64_t{1} << 32),
                       callees = groupNamed("Calls", uint64_t{2} << 32);
        eachMarker([&](const NestedMarker& marker) {
            // The outermost occurrence of it that the marker is, or lies in, and the way from there.
            PathId outer = 0;
            for (PathId path = marker.path; path; path = r_.paths[path].parent)
                if (siteOf(path) == site_) outer = path;
            if (!outer) return;
            const bool itself = siteOf(marker.path) == site_, whole = outer == marker.path;
            if (itself) add(row(own), marker, whole);
            if (whole) {
                uint32_t at = callers;
                add(row(at), marker, true);
                if (!r_.paths[outer].parent) {
                    at = rowBelow(at, uint64_t{1} << 33);
                    row(at).name = "no other marker";
                    row(at).group = true;
                    add(row(at), marker, true);
                }
                for (PathId path = r_.paths[outer].parent; path; path = r_.paths[path].parent) {
                    at = siteBelow(at, siteOf(path));
                    add(row(at), marker, true);
                }
                return;
            }
            std::vector<uint32_t> way;
            for (PathId path = marker.path; path != outer; path = r_.paths[path].parent) way.push_back(siteOf(path));
            uint32_t at = callees;
            for (auto site = way.rbegin(); site != way.rend(); ++site) at = siteBelow(at, *site);
            add(row(at), marker, true);
            if (way.size() == 1) add(row(callees), marker, true);
        });
        std::erase_if(made_->top, [&](uint32_t at) {
            return row(at).group ? row(at).children.empty() : !row(at).count && row(at).usual <= 0;
        });
    }

    struct Hash {
        size_t operator()(const std::pair<uint32_t, uint64_t>& id) const {
            return static_cast<size_t>(mixed(id.first, id.second));
        }
    };
    const Recording& r_;
    const std::shared_ptr<GroupedMarkers> made_;
    const uint32_t site_;
    std::unordered_map<std::pair<uint32_t, uint64_t>, uint32_t, Hash> below_;
};

}  // namespace

std::shared_ptr<const GroupedMarkers> groupedMarkers(const Recording& recording,
                                                     std::shared_ptr<const NestedMarkers> nested, MarkersBy by,
                                                     uint32_t site) {
    return Grouping(recording, std::move(nested), by, site).all();
}

}  // namespace fugato
