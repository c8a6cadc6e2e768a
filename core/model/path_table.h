// SPDX-License-Identifier: GPL-3.0-or-later
//
// Every distinct chain of nested markers, as a tree: node 0 is "outside any marker". Not thread safe
// while it grows.
#pragma once

#include <cstddef>
#include <cstdint>
#include <utility>
#include <vector>

namespace fugato {

using PathId = uint32_t;  // a marker together with its callers; 0: outside any marker

inline constexpr uint32_t kNone = UINT32_MAX;

class PathTable {
public:
    struct Node {
        PathId parent = 0;
        uint32_t site = kNone;
        uint32_t depth = 0;  // number of markers on the path
    };
    PathTable() : nodes_(1) {}
    /// One that is only read from now on.
    explicit PathTable(std::vector<Node> nodes) : nodes_(std::move(nodes)) {}
    const Node& operator[](PathId path) const { return nodes_[path]; }
    size_t size() const { return nodes_.size(); }
    const std::vector<Node>& nodes() const { return nodes_; }
    PathId child(PathId parent, uint32_t site) {
        if (!places_.empty())
            for (size_t at = place(parent, site);; ++at) {
                const PathId found = places_[at & (places_.size() - 1)];
                if (!found) break;
                if (nodes_[found].parent == parent && nodes_[found].site == site) return found;
            }
        return add(parent, site);
    }
    bool contains(PathId ancestor, PathId path) const;  // also true where they are the same
    PathId common(PathId a, PathId b) const;

private:
    size_t place(PathId parent, uint32_t site) const {
        return static_cast<size_t>((static_cast<uint64_t>(parent) << 32 | site) * 0x9e3779b97f4a7c15ull >> 32);
    }
    PathId add(PathId parent, uint32_t site);

    std::vector<Node> nodes_;
    std::vector<PathId> places_;  // open addressing by parent and site; a power of two, at most half full
};

}  // namespace fugato
